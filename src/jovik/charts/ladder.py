"""A ladder as a curve: rate or I/Os a second over depth, block, mix and more, with its knee."""

from __future__ import annotations

import math
from collections.abc import Sequence

from jovik.analysis.ladder import Ladder
from jovik.base.errors import UsageError
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.charts.chart import About, Line, LineChart, Panel, Point, View, from_zero, places
from jovik.charts.provenance import LONGEST_NAME, provenance, truncate
from jovik.charts.selection import results_of_each
from jovik.queries.ladder import ladders_of
from jovik.shelf.store import Shelf
from jovik.tables.table import figure_words

SMALL_BLOCK = 65_536
LONGEST_FINDING = 48
"""Letters of a finding that a heading has room for beside a name."""
AXES = {
    "depth": ("depth", "depth 1..64"),
    "block": ("block_bytes", "depth 4"),
    "workers": ("workers", "workers 1..8"),
    "mix": ("read_percent", "depth 16"),
    "compressible": ("compressible_percent", "depth 8"),
    "span": ("span_bytes", "within 1GB,8GB,64GB"),
    "amount": ("amount_bytes", "over 10GB,20GB,40GB"),
}
"""Axes of a ladder by name: the field of a step, and an example."""


def ladder_of(
    shelf: Shelf, drives: Sequence[str], *, axis: str = "depth", writes: bool = False
) -> LineChart:
    """Chart a ladder of drives over `axis`, of reads or writes if there are both.

    Raises
    ------
    UsageError
        A drive has no such ladder. The hint lists those it has.
    """
    field, example = AXES[axis]
    phrase = f"random read 4KiB {example} for 2s"
    chosen: list[Ladder] = []
    for of_drive in results_of_each(shelf, drives, lambda r: True, "results", phrase):
        ladders = ladders_of(shelf, of_drive)
        either = axis in ("mix", "compressible")
        fitting = [
            c
            for c in ladders
            if c.axis == field
            and (either or c.step.writes == writes)
            and (not chosen or c.label == chosen[0].label)
        ]
        if not fitting:
            raise UsageError(f"{of_drive[0].drive} has no such ladder over {axis}", _there(ladders))
        chosen.append(fitting[0])
    return ladder_chart(chosen)


def _there(ladders: Sequence[Ladder]) -> str:
    """List the ladders that a drive has, by axis and direction."""
    words = {field: word for word, (field, _) in AXES.items()}
    values = dict.fromkeys(
        f"--axis {words[c.axis]}{' --writes' if c.step.writes else ''}"
        for c in ladders
        if c.axis in words
    )
    if not values:
        return "it has none; see jovik plan show full-review for phrases that make one"
    return f"it has: {', '.join(values)}"


def ladder_chart(ladders_in: Sequence[Ladder]) -> LineChart:
    """Chart ladders over one axis, with intervals and, of a single one, the knee."""
    first, alone = ladders_in[0], len(ladders_in) == 1
    ios = first.axis != "block_bytes" and first.step.block_bytes <= SMALL_BLOCK
    unit = "IOPS" if ios else rate_unit()
    linear = first.axis.endswith("percent")

    def place(value: int) -> float:
        return float(value) if linear else math.log2(max(value, 1))

    lines, tops, doubts = [], [1e-9], list[str]()
    for curve in ladders_in:
        drive, points = curve.rungs[0].result.drive, []
        for rung in curve.rungs:
            value = rung.iops if ios else rung.rate_bytes_s.scaled(per_unit())
            tops.append(value.most)
            doubt = f", {rung.doubt}" if rung.doubt else ""
            words = f"{curve.name} {curve.spell(rung.value)}: {figure_words(value)} {unit}{doubt}"
            at = place(rung.value)
            points.append(Point(at, value.median, words, value.low, value.high, bool(rung.doubt)))
        lines.append(Line("" if alone else drive, tuple(points)))
        doubts += [f"{'' if alone else f'{truncate(drive)}: '}{d}" for d in curve.doubts()]
    marks: list[tuple[float, str]] = []
    notes: list[tuple[float, float, str]] = []
    if alone and not linear:
        if first.knee is not None:
            marks.append((place(first.knee), f"no gain beyond {first.spell(first.knee)}"))
        elif first.best:
            level = len(first.best) > 1
            words = "the smallest of the best, which are level" if level else "the best"
            at = next(n for n, r in enumerate(first.rungs) if r.value == first.best[0])
            best = lines[0].points[at]
            notes.append((best.x, best.y, words))
    values = sorted({r.value for c in ladders_in for r in c.rungs})
    y = from_zero("I/Os a second" if ios else rate_unit(), tops)
    x = places(first.name, [place(v) for v in values], [first.spell(v) for v in values])
    view = View("", x, (Panel(y, tuple(lines)),), tuple(marks), notes=tuple(notes))
    drive = lines[0].name or first.rungs[0].result.drive
    hollow = [f"hollow marks: {'; '.join(doubts)}"] if doubts else []
    words = first.words()
    finding = words if len(words) <= LONGEST_FINDING else first.name
    about = About(
        f"{truncate(drive, LONGEST_NAME)}: {finding}" if alone else first.name.capitalize(),
        f"{first.label}; whiskers are 95 % intervals",
        ". ".join([*hollow, provenance([r.result for c in ladders_in for r in c.rungs])]),
        f"A curve of {first.label}: {words}",
    )
    return LineChart(first.label, (view,), about=about)
