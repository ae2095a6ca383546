"""Which results of a shelf each kind of picture is of.

Asked for by the drives' names, chosen here, drawn by the module of its kind.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jovik.analysis.claims import MARGIN
from jovik.base.errors import UsageError
from jovik.charts.style import LIGHT, MOST_DRIVES, Theme, at_scale
from jovik.steps import parse

if TYPE_CHECKING:
    from jovik.analysis.sweep import Sweep
    from jovik.base.step_result import StepResult
    from jovik.shelf.store import Shelf

SIZE = (1280, 800)
LEAST_WIDTH = 960
"""Pixels that the words of a picture need side by side."""
AXES = {
    "depth": "depth",
    "block": "block_bytes",
    "workers": "workers",
    "mix": "read_percent",
    "compressible": "compressible_percent",
    "span": "span_bytes",
    "amount": "amount_bytes",
}
"""What a ladder may walk, by the word for it."""
_EXAMPLES = {
    "depth": "depth 1..64",
    "block": "depth 4",
    "workers": "workers 1..8",
    "mix": "depth 16",
    "compressible": "depth 8",
    "span": "within 1GB,8GB,64GB",
    "amount": "over 10GB,20GB,40GB",
}


def rank_picture(
    shelf: Shelf,
    out: Path,
    *,
    highlight: str | None = None,
    yardstick: str | None = None,
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """The ranking of all drives, overall and by step.

    The best placed in the strong colour unless another is to be highlighted.
    """
    from jovik.charts.ranking import draw_ranking
    from jovik.queries.ranking import ranked

    shown = shelf.sheet(highlight).drive.name if highlight is not None else None
    draw_ranking(
        ranked(shelf, yardstick=yardstick).ranking, out, highlight=shown, size=size, look=look
    )


def claims_picture(
    shelf: Shelf,
    drive: str,
    out: Path,
    *,
    margin: float = MARGIN,
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """What was measured of each claim of a drive."""
    from jovik.charts.claims import draw_claims
    from jovik.queries.claims import judged

    found = judged(shelf, drive, margin)
    draw_claims(found.sheet.drive.name, found.judgements, margin, out, size=size, look=look)


def long_write_picture(
    shelf: Shelf,
    drives: Sequence[str],
    out: Path,
    *,
    phrase: str | None = None,
    over: str = "time",
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """The long write of drives over ``time`` or ``bytes``.

    `phrase` says which, where there are several.
    """
    from jovik.charts.long_write import draw_long_write

    found = _of(
        shelf,
        drives,
        lambda r: r.findings.long_write is not None,
        "long write",
        "sequential write 1MiB depth 8 over 30% of free",
    )
    chosen = _same_kind(found, phrase, "long write")
    draw_long_write(
        [(r, shelf.traces(r.run, r.phrase)[0]) for r in chosen],
        out,
        over=over,
        size=size,
        look=look,
    )


def ladder_picture(
    shelf: Shelf,
    drives: Sequence[str],
    out: Path,
    *,
    axis: str = "depth",
    writes: bool = False,
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """A ladder of drives as curves.

    `axis` is one of `AXES`, and of reads or writes where there are both.
    """
    from jovik.charts.sweep import draw_ladder
    from jovik.queries.sweep import ladders_of

    chosen: list[Sweep] = []
    for mine in _of(
        shelf, drives, lambda r: True, "results", f"random read 4KiB {_EXAMPLES[axis]} for 2s"
    ):
        ladders = ladders_of(shelf, mine)
        fitting = [c for c in ladders if c.axis == AXES[axis]]
        by_direction = [
            c for c in fitting if axis in ("mix", "compressible") or c.step.writes == writes
        ]
        same = [c for c in by_direction if not chosen or c.label == chosen[0].label]
        if not same:
            raise UsageError(
                f"{mine[0].drive} has no such ladder over {axis}", _ladders_there(ladders)
            )
        chosen.append(same[0])
    draw_ladder(chosen, out, size=size, look=look)


def _ladders_there(ladders: Sequence[Sweep]) -> str:
    """The ladders that a drive has, by axis and direction."""
    words = {axis: word for word, axis in AXES.items()}
    there = dict.fromkeys(
        f"--axis {words[c.axis]}{' --writes' if c.step.writes else ''}"
        for c in ladders
        if c.axis in words
    )
    if not there:
        return "it has none; see jovik plan show full-review for phrases that make one"
    return f"it has: {', '.join(there)}"


def latency_picture(
    shelf: Shelf,
    drives: Sequence[str],
    out: Path,
    *,
    phrase: str = "random read 4KiB",
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """How long I/Os of drives take, from half of them to one in a million."""
    from jovik.charts.latency import draw_latency

    found = _of(
        shelf, drives, lambda r: bool(r.latencies), "latencies", phrase, with_latencies=True
    )
    draw_latency(_same_kind(found, phrase, "step"), out, size=size, look=look)


def full_picture(
    shelf: Shelf, drive: str, out: Path, *, size: tuple[int, int] = SIZE, look: Theme = LIGHT
) -> None:
    """Steps on the empty drive against the same nearly full."""
    from jovik.analysis.fullness import empty_against_full
    from jovik.charts.paired_bars import draw_fullness

    name = shelf.sheet(drive).drive.name
    pairs = empty_against_full(shelf.latest_results(name, filled=True))
    if not pairs:
        raise UsageError(
            f"{name} was not measured both empty and full",
            f'jovik measure TARGET --drive "{name}" --plan full-review',
        )
    draw_fullness(pairs, out, size=size, look=look)


def surface_picture(
    shelf: Shelf,
    drives: Sequence[str],
    out: Path,
    *,
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """Scans from the first to the last address; of one drive with its access time."""
    from jovik.charts.scan import draw_surface, draw_surfaces

    found = _of(
        shelf, drives, lambda r: r.findings.scan is not None, "scan", "scan read in 200 zones"
    )
    scans = [(mine[0], shelf.traces(mine[0].run, mine[0].phrase)[0]) for mine in found]
    if len(scans) == 1:
        draw_surface(*scans[0], out, size=size, look=look)
    else:
        draw_surfaces(scans, out, size=size, look=look)


def temperature_picture(
    shelf: Shelf,
    drive: str,
    out: Path,
    *,
    run: str | None = None,
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """How warm a drive was over a run, its last with temperatures unless `run` says which."""
    from jovik.charts.warmth import draw_warmth
    from jovik.queries.runs import run_key
    from jovik.queries.warmth import run_warmth

    key = run_key(shelf, run) if run is not None else None
    draw_warmth(run_warmth(shelf, drive, key), out, size=size, look=look)


def instrument_picture(
    shelf: Shelf,
    drive: str,
    out: Path,
    *,
    run: str | None = None,
    quantity: str | None = None,
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """What an instrument logged beside a run, under the rate over the same time axis.

    The newest log unless `run` and `quantity` say which.
    """
    from jovik.charts.instrument import draw_log
    from jovik.queries.instrument import logs_beside
    from jovik.queries.runs import run_key

    name = shelf.sheet(drive).drive.name
    key = run_key(shelf, run) if run is not None else None
    found = logs_beside(shelf, name, key)
    there = ", ".join(sorted({x.log.quantity for x in found}))
    if quantity is not None:
        found = [x for x in found if x.log.quantity.casefold() == quantity.casefold()]
    if not found:
        raise UsageError(
            f"nothing of {quantity or 'any kind'} was logged beside a run of {name}",
            f"there is: {there}"
            if there
            else f'do it: jovik note "{name}" --log noise.csv --run last --quantity ... --unit ...',
        )
    log = found[-1]
    draw_log(log, name, shelf.results_of_run(log.log.run), out, size=size, look=look)


def real_work_picture(
    shelf: Shelf, drive: str, out: Path, *, size: tuple[int, int] = SIZE, look: Theme = LIGHT
) -> None:
    """Streams, copies and recorded programs as shares of what the box says."""
    from jovik.charts.real_work import draw_real_work
    from jovik.queries.real_work import real_work

    draw_real_work(real_work(shelf, drive), out, size=size, look=look)


def rounds_picture(
    shelf: Shelf, drive: str, out: Path, *, size: tuple[int, int] = SIZE, look: Theme = LIGHT
) -> None:
    """What was tracked, round by round, with the window in which it was steady."""
    from jovik.charts.steady_state import draw_rounds
    from jovik.queries.steady_state import rounds_of

    draw_rounds(rounds_of(shelf, shelf.sheet(drive).drive.name), out, size=size, look=look)


def mixes_picture(
    shelf: Shelf, drive: str, out: Path, *, size: tuple[int, int] = SIZE, look: Theme = LIGHT
) -> None:
    """Steady I/Os a second over mix and block."""
    from jovik.analysis.steady_grid import grids
    from jovik.charts.steady_state import draw_grid

    name = shelf.sheet(drive).drive.name
    found = grids(shelf.results(name))
    if not found:
        raise UsageError(
            f"{name} has no steady steps over mixes and blocks",
            f'do it: jovik measure TARGET --drive "{name}" --plan steady-iops',
        )
    draw_grid(max(found, key=lambda g: len(g.cells)), out, size=size, look=look)


def saturation_picture(
    shelf: Shelf,
    drives: Sequence[str],
    out: Path,
    *,
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """Long random writes of drives, minute by minute, over what was written."""
    from jovik.charts.steady_state import draw_saturation
    from jovik.queries.steady_state import saturation_of

    _refuse_too_many(drives)
    found = [saturation_of(shelf, shelf.sheet(d).drive.name) for d in drives]
    draw_saturation(found, out, size=size, look=look)


def demand_picture(
    shelf: Shelf, drive: str, out: Path, *, size: tuple[int, int] = SIZE, look: Theme = LIGHT
) -> None:
    """I/Os a second against the slowest in 100,000, as more and more is asked at once."""
    from jovik.charts.steady_state import draw_demand
    from jovik.queries.steady_state import demand_of

    draw_demand(demand_of(shelf, shelf.sheet(drive).drive.name), out, size=size, look=look)


def upgrade_picture(
    shelf: Shelf,
    old: str,
    new: str,
    out: Path,
    *,
    size: tuple[int, int] = SIZE,
    look: Theme = LIGHT,
) -> None:
    """The drive there is against the one that would replace it, step by step."""
    from jovik.charts.paired_bars import draw_upgrade
    from jovik.queries.upgrade import upgraded

    found = upgraded(shelf, old, new)
    kinds = {s.kind for s in found.upgrade.steps}
    if not kinds:
        raise UsageError(
            f"{found.old.name} and {found.new.name} have no step in common",
            "measure both with the same plan",
        )
    draw_upgrade(
        found.upgrade, [r for r in found.results if r.kind in kinds], out, size=size, look=look
    )


def _of(
    shelf: Shelf,
    drives: Sequence[str],
    fits: Callable[[StepResult], bool],
    what: str,
    phrase: str,
    **options: Any,
) -> list[list[StepResult]]:
    """Of each drive the results that a picture is of.

    Raises
    ------
    UsageError
        Too many drives, or one has none: with the phrase that would give one.
    """
    _refuse_too_many(drives)
    found = []
    for drive in drives:
        name = shelf.sheet(drive).drive.name
        mine = [r for r in shelf.latest_results(name, ladders=True, **options) if fits(r)]
        if not mine:
            raise UsageError(
                f"{name} has no {what}",
                f'measure one: jovik measure TARGET --drive "{name}" "{phrase}"',
            )
        found.append(mine)
    return found


def _refuse_too_many(drives: Sequence[str]) -> None:
    if len(drives) > MOST_DRIVES:
        raise UsageError(
            f"{len(drives)} drives cannot be told apart in one picture",
            f"name {MOST_DRIVES} at most",
        )


def _same_kind(
    found: Sequence[Sequence[StepResult]], wanted: str | None, what: str
) -> list[StepResult]:
    """One result of each drive, all of one kind.

    The one that is wanted, or the first that all have.

    Raises
    ------
    UsageError
        There is none.
    """
    kinds = [
        r.kind for r in found[0] if all(any(o.kind == r.kind for o in other) for other in found)
    ]
    kind = parse(wanted).kind if wanted is not None else (kinds[0] if kinds else None)
    if kind is None or kind not in kinds:
        has = sorted({r.kind for mine in found for r in mine})
        raise UsageError(
            f"there is no {what} that "
            f"{'this drive has' if len(found) == 1 else 'all of these drives have'} with that "
            "phrase",
            f"there is: {'; '.join(has[:5])}",
        )
    return [next(r for r in mine if r.kind == kind) for mine in found]


KINDS: dict[str, tuple[Callable[..., None], int | None]] = {
    "rank": (rank_picture, 0),
    "claims": (claims_picture, 1),
    "long-write": (long_write_picture, None),
    "ladder": (ladder_picture, None),
    "latency": (latency_picture, None),
    "full": (full_picture, 1),
    "surface": (surface_picture, None),
    "temperature": (temperature_picture, 1),
    "instrument": (instrument_picture, 1),
    "real-work": (real_work_picture, 1),
    "rounds": (rounds_picture, 1),
    "mixes": (mixes_picture, 1),
    "saturation": (saturation_picture, None),
    "demand": (demand_picture, 1),
    "upgrade": (upgrade_picture, 2),
}
"""Each kind of picture by its name, with how many drives it is of.

None is one or several over each other.
"""


def draw(shelf: Shelf, kind: str, drives: Sequence[str], out: Path, **how: Any) -> None:
    """Draw a picture of a kind.

    Parameters
    ----------
    **how
        What the function of the kind takes.

    Raises
    ------
    UsageError
        It is of another number of drives, or there is nothing to draw.
    """
    function, wanted = KINDS[kind]
    if (wanted is None and not drives) or (wanted is not None and len(drives) != wanted):
        raise UsageError(
            f"a picture '{kind}' is of "
            f"{'one drive or several' if wanted is None else f'{wanted} drives'}, not of "
            f"{len(drives)}"
        )
    width, height = how.get("size", SIZE)
    # A small picture is a larger one made smaller, so that its words fit between each other.
    shrink = min(width / LEAST_WIDTH, 1.0)
    how["size"] = (round(width / shrink), round(height / shrink))
    with at_scale(shrink):
        function(shelf, *([drives] if wanted is None else drives), out, **how)
