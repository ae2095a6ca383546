"""Steady states: rounds with their window, the surface of mixes and blocks, saturation, demand."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from jovik.analysis.comparability import settled
from jovik.analysis.demand import DemandPoint, enough_of
from jovik.analysis.steady_grid import Grid, grids
from jovik.analysis.steady_state import STEADY_RANGE
from jovik.base.errors import UsageError
from jovik.base.quantities import show_time, significant, spell_size
from jovik.charts.canvas import MOST_DRIVES
from jovik.charts.chart import (
    About,
    Band,
    Cell,
    HeatMap,
    Line,
    LineChart,
    Panel,
    Point,
    Reference,
    View,
    between,
    decades,
    from_zero,
    places,
    powers_of_ten,
)
from jovik.charts.provenance import provenance, truncate
from jovik.charts.selection import refuse_too_many
from jovik.queries.steady_state import Rounds, Saturation, demand_of, rounds_of, saturation_of
from jovik.shelf.store import Shelf
from jovik.steps import parse
from jovik.tables.table import figure_words

LONGEST_LABEL = 64


def short_label(kind: str, longest: int = LONGEST_LABEL) -> str:
    """Return a step's label without the parts that all steps of a steady state share."""
    parts = [p for p in parse(kind).label.split(", ") if not p.startswith(("until", "within"))]
    return truncate(", ".join(parts), longest)


def rounds_of_drive(shelf: Shelf, drives: Sequence[str]) -> LineChart:
    """Chart the tracked steps of a drive."""
    return rounds_chart(rounds_of(shelf, shelf.sheets.get(drives[0]).drive.name))


def rounds_chart(shown: Sequence[Rounds]) -> LineChart:
    """Chart each tracked step round by round, as a ratio to its mean in the window."""
    lines, values, band, most = [], [0.85, 1.15], Band(0.0, 0.0), 1
    first = shown[0].result
    for one in shown[:MOST_DRIVES]:
        steady = one.result.findings.steady
        assert steady is not None
        mean = float(np.mean(steady.window(one.figures)))
        points = []
        for n, figure in enumerate(one.figures, 1):
            words = show_time(figure) if one.latency else f"{significant(figure)} IOPS"
            label = f"round {n}: {words}, {100 * figure / mean:.1f} % of the window's mean"
            points.append(Point(float(n), figure / mean, label))
        values += [p.y for p in points]
        most = max(most, len(points))
        words = show_time(mean) if one.latency else f"{significant(mean)} IOPS"
        lines.append(Line(f"{short_label(one.result.kind)}: {words}", tuple(points)))
        band = Band(steady.first - 0.5, steady.first + steady.count - 0.5, "")
    rounds = [float(n) for n in range(1, most + 1)]
    x = places(
        "round; shaded: the window, dotted: its mean +/- 10 %", rounds, [f"{r:g}" for r in rounds]
    )
    y = between("times the mean of the window", min(values), max(values))
    panel = Panel(
        y, tuple(lines), (Reference(1 - STEADY_RANGE / 2), Reference(1 + STEADY_RANGE / 2))
    )
    result = first.findings.steady
    assert result is not None
    verdict = (
        f"steady in rounds {result.first} to {result.first + result.count - 1}"
        if result.steady
        else f"not steady after {result.rounds} rounds"
    )
    what = "mean latency" if shown[0].latency else "I/Os a second"
    about = About(
        f"{first.drive}: {verdict}",
        f"{what} of each round over the mean of the window",
        provenance([one.result for one in shown]),
        f"The tracked figure, round by round: {verdict}",
    )
    view = View("", x, (panel,), bands=(band,))
    return LineChart(f"Round by round: {verdict}", (view,), about=about)


def mixes_of(shelf: Shelf, drives: Sequence[str]) -> HeatMap:
    """Chart the largest surface of mixes and blocks of a drive.

    Raises
    ------
    UsageError
        The drive has no such steady steps.
    """
    name = shelf.sheets.get(drives[0]).drive.name
    mixes = grids(shelf.results.every(name))
    if not mixes:
        raise UsageError(
            f"{name} has no steady steps over mixes and blocks",
            f'do it: jovik measure TARGET --drive "{name}" --plan steady-iops',
        )
    return mixes_chart(max(mixes, key=lambda g: len(g.cells)))


def mixes_chart(grid: Grid) -> HeatMap:
    """Chart steady I/Os a second over mix and block, darker for more."""
    values = {at: r.iops for at, r in grid.cells.items() if r.passes}
    logs = [math.log(v.median) for v in values.values() if v.median > 0] or [0.0]
    low, width = min(logs), (max(logs) - min(logs)) or 1.0

    def cell(mix: int, block: int) -> Cell | None:
        value, result = values.get((mix, block)), grid.cells.get((mix, block))
        if value is None or result is None:
            return None
        doubtful = not settled(result)
        description = f"{mix} % reads, {spell_size(block)}: {figure_words(value)} IOPS"
        shade = (math.log(max(value.median, 1e-9)) - low) / width
        words = significant(value.median) + " ?" * doubtful
        return Cell(shade, words, description + ", not steady" * doubtful)

    rows = tuple(
        (spell_size(block), tuple(cell(mix, block) for mix in grid.mixes)) for block in grid.blocks
    )
    medians, results = [v.median for v in values.values()] or [0.0], list(grid.cells.values())
    ends = f"{significant(min(medians))} to {significant(max(medians))}"
    about = About(
        f"{results[0].drive}: steady I/Os a second",
        f"{grid.label}; a stronger colour is more (logarithmic); ? not steady",
        provenance(results),
        f"A table of I/Os a second over mix and block, from {ends}",
    )
    title = f"Steady I/Os a second: {grid.label}; a stronger colour is more, ? is not steady"
    return HeatMap(title, tuple(f"{m} %" for m in grid.mixes), rows, "reads", about=about)


def saturation_of_drives(shelf: Shelf, drives: Sequence[str]) -> LineChart:
    """Chart long random writes of drives."""
    refuse_too_many(drives)
    return saturation_chart([saturation_of(shelf, shelf.sheets.get(d).drive.name) for d in drives])


def saturation_chart(shown: Sequence[Saturation]) -> LineChart:
    """Chart I/Os a second of each minute over the bytes written, from new to used."""
    lines, alone, first = [], len(shown) == 1, shown[0].result
    for one in shown:
        points = tuple(
            Point(at, iops, f"after {at:.2g} times the range: {significant(iops)} IOPS")
            for at, iops in zip(one.at_spans, one.iops, strict=True)
        )
        lines.append(Line("" if alone else one.result.drive, points))
    x = from_zero("written, in multiples of the range", [a for s in shown for a in s.at_spans])
    y = from_zero("I/Os a second", [i for s in shown for i in s.iops])
    ends = f"from {significant(shown[0].iops[0])} to {significant(shown[0].iops[-1])}"
    about = About(
        f"{first.drive}: write saturation" if alone else "Write saturation",
        f"{short_label(first.kind)}; each point a minute, from a purge on",
        provenance([one.result for one in shown]),
        f"I/Os a second over the bytes written, {ends}",
    )
    view = View("", x, (Panel(y, tuple(lines)),))
    title = f"Write saturation: {first.step.label}"
    return LineChart(title, (view,), zooms=True, about=about)


def demand_of_drive(shelf: Shelf, drives: Sequence[str]) -> LineChart:
    """Chart the effect of more load on a drive."""
    return demand_chart(demand_of(shelf, shelf.sheets.get(drives[0]).drive.name))


def demand_chart(points: Sequence[DemandPoint]) -> LineChart:
    """Chart I/Os a second against the slowest in 100,000, as more is asked at once."""
    tailed = sorted((p for p in points if p.rare_ns is not None), key=lambda p: p.in_flight)
    # Of several ways to the same number in flight the one with the shortest wait.
    best = [
        min((p for p in tailed if p.in_flight == n), key=lambda p: p.rare_ns or 0.0)
        for n in dict.fromkeys(p.in_flight for p in tailed)
    ]
    lines = tuple(
        Line(name, tuple(_demand_point(p) for p in series), joined=joined)
        for name, series, joined in (
            ("the shortest wait", best, True),
            ("other workers and depths", [p for p in tailed if p not in best], False),
        )
        if series
    )
    values = [p.rare_ns or 0.0 for p in tailed]
    y = decades("the slowest in 100,000", values, [show_time(v, 2) for v in powers_of_ten(values)])
    x = from_zero("I/Os a second", [p.iops.median for p in tailed])
    notes = tuple((p.iops.median, p.rare_ns or 0.0, str(p.in_flight)) for p in best)
    enough = f"from {enough_of(points).in_flight} in flight on"
    parts = short_label(points[0].result.kind, 80).split(", ")
    words = ", ".join(p for p in parts if not p.startswith(("depth", "workers")))
    about = About(
        f"{points[0].result.drive}: {enough}, more load only buys waiting",
        f"{words}; numbers: I/Os in flight",
        provenance([p.result for p in tailed]),
        f"{enough.capitalize()} more load only buys waiting",
    )
    view = View("", x, (Panel(y, lines),), notes=notes)
    return LineChart("The effect of more load", (view,), about=about)


def _demand_point(p: DemandPoint) -> Point:
    wait = p.rare_ns or 0.0
    words = (
        f"{p.in_flight} in flight: {figure_words(p.iops)} IOPS, the slowest in 100,000 take "
        f"{show_time(wait)}"
    )
    return Point(p.iops.median, wait, words)
