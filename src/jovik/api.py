"""Jovik from Python: its commands as functions on an open shelf.

The commands stand on the same functions, so that a notebook and a terminal say the same. Everything
that goes wrong on purpose is a `JovikError`, with a plain message and a hint. Sizes, rates and
times are numbers with their unit in the name, or the texts that the commands take (``"5min"``,
``"7000MB/s"``).

>>> import jovik
>>> shelf = jovik.open_shelf("example.db")
>>> stream = "sequential read 512KiB depth 4 for 2s"
>>> done = jovik.measure(shelf, "model:comet", stream, passes=5, seed=1)
>>> done.run.state
'done'
>>> len(jovik.frames.passes(shelf, run=done.run.id))
5
>>> shelf.close()
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from jovik.analysis.step_result import StepResult
from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.interruption import interruptible
from jovik.base.quantities import parse_time
from jovik.base.settings import where_from
from jovik.charts import kinds
from jovik.charts.canvas import THEMES, Canvas, check_file
from jovik.runs import (
    RunRequest,
    execute,
    fit_budget,
    prepared,
    request_for,
    request_from_run,
    resume_request,
    sheet_for,
    start_run,
)
from jovik.runs.prepare import ASK_ABOVE
from jovik.sheets.sheet import Sheet, drive_from_words, parse_claim
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf

if TYPE_CHECKING:
    from jovik.base.io_session import Progress
    from jovik.steps import Step


T = TypeVar("T")


@dataclass(frozen=True)
class Measured:
    """A finished run: its record, the results in order, and notes on the drive found."""

    run: RunRecord
    results: tuple[StepResult, ...]
    warnings: tuple[str, ...] = ()


def open_shelf(where: str | Path | None = None, *, create: bool = True) -> Shelf:
    """Open a shelf, to be used in a ``with`` or closed.

    Parameters
    ----------
    where : str or Path, optional
        A file, or the address of a PostgreSQL database. Unless given: what ``JOVIK_SHELF`` or your
        settings say, else the file in your data folder.
    create : bool
        Make it if there is none.

    Raises
    ------
    ShelfError
        It is no shelf, of a later revision, or cannot be read or written.

    Examples
    --------
    >>> with jovik.open_shelf("example.db") as shelf:
    ...     print(shelf.sheets.names()[0])
    Veldhaar Comet 2TB
    """
    return Shelf(where_from(str(where) if where is not None else None), create=create)


def new_drive(
    shelf: Shelf, name: str, claims: Mapping[str, str] | None = None, **words: str
) -> Sheet:
    """Enter the advertised specifications of a drive on the shelf.

    Parameters
    ----------
    claims : mapping, optional
        Figures by what they are about, in the words of a phrase.
    **words
        As in a sheet's file: maker, model, capacity, interface, medium, price, warranty, endurance.

    Raises
    ------
    UsageError
        A word or a figure cannot be read, or there is such a drive.

    Examples
    --------
    >>> claims = {"sequential read": "3500MB/s"}
    >>> sheet = jovik.new_drive(
    ...     shelf, "Tern 1TB", claims, maker="Orsolya", capacity="1TB", price="79 EUR"
    ... )
    >>> sheet.claims[0].shown()
    '3,500 MB/s'
    """
    sheet = Sheet(
        drive_from_words({"name": name, **words}),
        tuple(parse_claim(what, figure) for what, figure in (claims or {}).items()),
    )
    shelf.additions.enrol(sheet)
    return sheet


def measure(
    shelf: Shelf,
    target: str,
    *phrases: str,
    drive: str | None = None,
    plan: str | None = None,
    passes: int | tuple[int, int] | None = None,
    precision: float | None = None,
    budget: str | None = None,
    seed: int | None = None,
    engine: str = "auto",
    stop_on_error: bool = True,
    rest: bool = True,
    sample: str | None = None,
    rig: str | None = None,
    rig_notes: str = "",
    keep_serial: bool = False,
    destroy: str | None = None,
    content_worthless: bool = False,
    ask_above: float = ASK_ABOVE,
    yes: bool = False,
    watch: Callable[[StepResult], None] | None = None,
) -> Measured:
    """Measure a drive. Every finished pass is on the shelf before the next begins.

    Parameters
    ----------
    target : str
        A folder on the drive, a raw device, or ``model:NAME``.
    *phrases : str
        Steps; or a `plan`.
    drive : str, optional
        What its sheet is called. Without one the drive is known by its serial or its model, and
        one that is new is enrolled with a bare sheet.
    passes : int or (int, int), optional
        Of each step; what the plan says unless given.
    precision : float, optional
        Stop repeating once half the interval is this share of the median.
    budget : str, optional
        Time for all of it, such as ``"5min"``; the plan is trimmed to it.
    rest : bool
        Whether a write that would find the write cache partly full lets it recover first.
    destroy : str, optional
        The serial of the raw device that may be written; everything on it is lost.
    content_worthless : bool
        Whether data on it that nothing here can name may be overwritten too.
    ask_above, yes
        A run that writes more than this share of the endurance rating is refused, unless `yes`.
    watch : callable, optional
        Called with each result as soon as its step is finished.

    Raises
    ------
    UsageError, RefusedError
        Nothing was written.
    DriveError, ShelfUnreachableError
        Earlier measurements are on the shelf, or in the file that the message names.
    KeyboardInterrupt
        Finished passes are on the shelf; `resume` goes on.

    Examples
    --------
    >>> done = jovik.measure(shelf, "model:comet", "random read 4KiB for 1s", passes=3, seed=7)
    >>> [r.kind for r in done.results]
    ['random read 4KiB']
    """
    request = request_for(
        target,
        phrases,
        plan,
        passes=(passes, passes) if isinstance(passes, int) else passes,
        precision=precision,
        seed=seed,
        engine=engine,
        stop_on_error=stop_on_error,
        rest=rest,
        budget_ns=_read(parse_time, budget),
        destroy=destroy,
        content_worthless=content_worthless,
        sample_name=sample,
        rig_name=rig,
        rig_notes=rig_notes,
        keep_serial=keep_serial,
    )
    sheet = sheet_for(shelf, request.target, drive).sheet
    return _run(shelf, sheet, fit_budget(request, sheet), watch, ask_above=_asked(yes, ask_above))


def resume(
    shelf: Shelf,
    run: str | None = None,
    *,
    target: str | None = None,
    destroy: str | None = None,
    content_worthless: bool = False,
) -> Measured:
    """Resume an unfinished run (the newest by default) after its last finished pass.

    Raises
    ------
    UsageError
        It is finished or still going on, or there is none.
    TargetError
        It was on another sample or another rig.

    Examples
    --------
    >>> jovik.resume(shelf)
    Traceback (most recent call last):
    jovik.base.errors.UsageError: every run on this shelf is finished
    """
    record, request = resume_request(
        shelf, run, target, destroy=destroy, content_worthless=content_worthless
    )
    return _run(shelf, shelf.sheets.get(record.drive), request, None, resumed=record.id)


def repeat(
    shelf: Shelf,
    run: str,
    *,
    target: str | None = None,
    sample: str | None = None,
    rig: str | None = None,
    destroy: str | None = None,
    content_worthless: bool = False,
    yes: bool = False,
) -> Measured:
    """Repeat a run: the same steps, passes and seeds, as a new run.

    `yes` as in `measure`.

    Raises
    ------
    UnknownNameError
        There is no such run.

    Examples
    --------
    >>> one = jovik.measure(shelf, "model:comet", "random read 4KiB for 1s", passes=3, seed=7)
    >>> two = jovik.repeat(shelf, one.run.id)
    >>> [r.kind for r in two.results] == [r.kind for r in one.results]
    True
    """
    record = shelf.runs.get(run)
    return _run(
        shelf,
        shelf.sheets.get(record.drive),
        request_from_run(
            record,
            target,
            sample_name=sample,
            rig_name=rig,
            destroy=destroy,
            content_worthless=content_worthless,
        ),
        None,
        ask_above=_asked(yes),
    )


def exclude(shelf: Shelf, run: str, why: str, step: int | None = None) -> None:
    """Set a run aside, or one step of it (from 1): it counts for nothing until `include`.

    A UsageError if there is no such step, no reason, or it was excluded before.

    Examples
    --------
    >>> spoilt = jovik.measure(shelf, "model:comet", "random read 4KiB for 1s", passes=2, seed=9)
    >>> jovik.exclude(shelf, spoilt.run.id, "a backup was running")
    >>> shelf.runs.get(spoilt.run.id).excluded
    'a backup was running'
    """
    shelf.corrections.exclude(shelf.runs.named(run), step, why)


def include(shelf: Shelf, run: str, step: int | None = None) -> None:
    """Undo `exclude`. UsageError if the run was not excluded.

    Examples
    --------
    >>> jovik.include(shelf, shelf.runs.latest())
    """
    shelf.corrections.include(shelf.runs.named(run), step)


def draw(
    shelf: Shelf,
    kind: str,
    *drives: str,
    out: str | Path,
    theme: str = "light",
    size: tuple[int, int] = (1280, 800),
    **how: Any,
) -> Path:
    """Draw a chart of results, and return the file.

    Parameters
    ----------
    kind : str
        One of `jovik.charts.kinds.KINDS`, as in `jovik picture`.
    *drives : str
        Of which drives: none for a ranking, one or several as the kind has it.
    out : str or Path
        Its ending (png, svg, pdf) says the form.
    theme : str
        ``light`` or ``dark``.
    size : (int, int)
        In pixels.
    **how
        Further options of the kind (`jovik.charts.kinds.KINDS`).

    Raises
    ------
    UsageError
        There is no such kind, or nothing to draw.

    Examples
    --------
    >>> drawn = jovik.draw(shelf, "claims", "Veldhaar Comet 2TB", out="claims.svg", theme="dark")
    >>> drawn.stat().st_size > 1_000
    True
    """
    path = Path(out)
    if theme not in THEMES:
        raise UnknownNameError("theme", theme, THEMES)
    check_file(path)
    kinds.draw(shelf, kind, drives, path, Canvas(*size, THEMES[theme]), **how)
    return path


def review(
    shelf: Shelf,
    drive: str,
    out: str | Path,
    *,
    against: Sequence[str] = (),
    words: str | Path | None = None,
) -> list[Path]:
    """Write the review of a drive and return its files.

    Parameters
    ----------
    out : str or Path
        ``FILE.html``, ``FILE.md``, or a folder for both.
    against : sequence of str
        Drives that it would replace.
    words : str or Path, optional
        Your own text, Markdown.

    Examples
    --------
    >>> [path.name for path in jovik.review(shelf, "Veldhaar Comet 2TB", "review.html")]
    ['review.html']
    """
    from jovik.report.publishing import publish_review

    return publish_review(
        shelf, drive, Path(out), tuple(against), Path(words) if words is not None else None
    )


def overview(shelf: Shelf, out: str | Path, *, each: bool = False) -> list[Path]:
    """Write the page of all drives with the ranking, and with `each` every review beside it.

    The files.

    Examples
    --------
    >>> [path.name for path in jovik.overview(shelf, "site")]
    ['index.html']
    """
    from jovik.report.publishing import publish_overview

    return publish_overview(shelf, Path(out), each=each)


def _asked(yes: bool, ask_above: float = ASK_ABOVE) -> float:
    """Return the fraction above which a run is refused, or infinity if the user has agreed."""
    return math.inf if yes else ask_above


@dataclass
class _Watch:
    """An observer that only reports results."""

    on_result: Callable[[StepResult], None] | None

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Progress], None]:
        return lambda _: None

    def passing(self, position: int, step: Step, number: int) -> Callable[[Progress], None]:
        return lambda _: None

    def finished(self, position: int, result: StepResult) -> None:
        if self.on_result is not None:
            self.on_result(result)


def _run(
    shelf: Shelf,
    sheet: Sheet,
    request: RunRequest,
    watch: Callable[[StepResult], None] | None,
    *,
    ask_above: float = math.inf,
    resumed: str | None = None,
) -> Measured:
    """Carry a request out. Raise its failure once the shelf has the finished passes."""
    with prepared(sheet, request) as ready:
        for question, beyond in ready.questions(ask_above) if ask_above < math.inf else ():
            raise UsageError(
                f"{question}{beyond}", "say yes=True if that is meant, or measure less"
            )
        ready.session.warm_up()
        begun = start_run(shelf, ready, resumed)
        with interruptible():
            outcome = execute(ready, begun, _Watch(watch))
    for error in (outcome.lost, outcome.failure):
        if error is not None:
            raise error
    return Measured(
        shelf.runs.get(outcome.run),
        tuple(shelf.results.of_run(outcome.run)),
        begun.identified.warnings,
    )


def _read(convert: Callable[[str], T], text: str | None) -> T | None:
    """Return a text with a unit as a number."""
    try:
        return convert(text) if text is not None else None
    except ValueError as error:
        raise UsageError(str(error)) from None
