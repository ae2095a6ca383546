"""A selection of results, in the user's words.

``RUN`` or ``last``; ``DRIVE``; or a drive narrowed by ``@rig=``, ``@sample=``, ``@firmware=``,
``@since=`` and ``@until=``, as many as one likes: ``Comet 2TB@rig=hub@since=2026-11-01``.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from jovik.analysis.step_result import StepResult
from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.nearest_names import nearest
from jovik.base.vocabulary import SELECTION_KEYS
from jovik.queries.runs import run_key
from jovik.shelf.results import is_drive_result
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf

_WHAT: dict[str, Callable[[StepResult], str | None]] = {
    "rig": lambda r: r.conditions.rig,
    "sample": lambda r: r.conditions.sample,
    "firmware": lambda r: r.conditions.firmware,
}
DATES = ("since", "until")


@dataclass(frozen=True)
class Selection:
    """The written selection, its drive or run, and its conditions."""

    words: str
    drive: str
    run: str | None = None
    narrowed: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Selected:
    """The results of a selection, and the runs that they are from, both oldest first."""

    selection: Selection
    results: tuple[StepResult, ...]
    runs: tuple[RunRecord, ...]


def read_selection(shelf: Shelf, words: str) -> Selection:
    """Return a selection from the user's words.

    Raises
    ------
    UsageError
        A part of it cannot be read, a shortened run may be several, or it is neither a drive nor a
        run.
    """
    names = {n.casefold(): n for n in shelf.sheets.names()}
    if words.strip().casefold() in names:
        return Selection(words, names[words.strip().casefold()])
    name, *parts = words.split("@")
    if name.strip().casefold() in names:
        return Selection(
            words, names[name.strip().casefold()], None, dict(_part(p, words) for p in parts)
        )
    try:
        key = run_key(shelf, words)
    except UnknownNameError:
        near = nearest(name.strip(), list(names.values()))
        hint = f"nearest: {', '.join(near)}" if near else "see jovik runs and jovik sheet list"
        raise UsageError(f"'{words}' is neither a drive nor a run on this shelf", hint) from None
    return Selection(words, shelf.runs.get(key).drive, key)


def drive_of(shelf: Shelf, words: str) -> str:
    """Return the drive of a selection such as ``Comet 2TB@rig=hub``, or the words themselves."""
    return read_selection(shelf, words).drive if "@" in words else words


def _part(part: str, words: str) -> tuple[str, str]:
    key, equals, value = part.partition("=")
    key, value = key.strip(), value.strip()
    if key not in SELECTION_KEYS or not equals or not value:
        raise UsageError(
            f"'@{part}' in '{words}' is not understood",
            f"write {', '.join(f'@{k}=...' for k in SELECTION_KEYS)}",
        )
    if key in DATES:
        try:
            value = datetime.date.fromisoformat(value).isoformat()
        except ValueError:
            raise UsageError(f"'{value}' is not a date", "write 2026-11-23") from None
    return key, value


def select(shelf: Shelf, selection: Selection) -> Selected:
    """Return the results of a selection.

    Raises
    ------
    UsageError
        There are none; with what there is.
    """
    if selection.run is not None:
        results = [
            r for r in shelf.results.of_run(selection.run) if is_drive_result(r, filled=True)
        ]
        if not results:
            raise UsageError(f"run {selection.run} has no results", "see jovik runs show")
        return Selected(selection, tuple(results), (shelf.runs.get(selection.run),))
    every = [r for r in shelf.results.every(selection.drive) if is_drive_result(r, filled=True)]
    chosen = [r for r in every if _fits(r, selection)]
    if not chosen:
        raise UsageError(f"'{selection.words}' selects no result", _what_there_is(every))
    keys = {r.run for r in chosen}
    runs = tuple(r for r in shelf.runs.every(selection.drive) if r.id in keys)
    return Selected(selection, tuple(chosen), runs)


def _fits(result: StepResult, selection: Selection) -> bool:
    for key, value in selection.narrowed.items():
        day = result.started[:10]
        if key in _WHAT:
            actual = _WHAT[key](result)
            if actual is None or actual.casefold() != value.casefold():
                return False
        elif (day < value) if key == "since" else (day > value):
            return False
    return True


def _what_there_is(results: Sequence[StepResult]) -> str:
    """Rigs, samples, firmware and dates of the drive's results."""
    if not results:
        return "it has not been measured"
    words = []
    for key, of in _WHAT.items():
        values = sorted({v for r in results if (v := of(r)) is not None})
        words += [f"{key}: {', '.join(values)}"] if values else []
    days = sorted(r.started[:10] for r in results)
    return f"there is: {'; '.join([*words, f'dates: {days[0]} to {days[-1]}'])}"
