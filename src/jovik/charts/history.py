"""A sample over time: each step as a ratio to its first result, with intervals."""

from __future__ import annotations

import datetime
from collections.abc import Sequence

from jovik.analysis.comparison import HistoryPoint
from jovik.charts.canvas import MOST_DRIVES
from jovik.charts.chart import About, Axis, Line, LineChart, Panel, Point, Reference, View, between
from jovik.charts.provenance import provenance, truncate
from jovik.queries.comparison import History
from jovik.steps import parse
from jovik.tables.table import figure_words

LONGEST_LABEL = 40
MOST_DATES = 7
BESIDE = 0.012
"""Of the width, between the marks of one day."""


def history_chart(found: History) -> LineChart:
    """Chart the steps of a sample that changed most, as many as are distinguishable."""
    by_step = _by_step(found.points)
    shown = by_step[:MOST_DRIVES]
    every = [_day(p) for line in shown for p in line]
    # A little beside each other, so that whiskers of one day can be told apart.
    apart = ((max(every) - min(every)) or 1.0) * BESIDE
    lines = []
    for number, of_step in enumerate(shown):
        beside = (number - (len(shown) - 1) / 2) * apart
        points = tuple(
            Point(
                *(_day(p) + beside, p.times.median),
                f"{p.result.started[:10]}: {figure_words(p.times)} times the first result",
                *(p.times.low, p.times.high),
            )
            for p in of_step
        )
        lines.append(Line(truncate(parse(of_step[0].kind).label, LONGEST_LABEL), points))
    ends = [v for line in lines for p in line.points for v in (p.low, p.high, p.y) if v is not None]
    room = (max(ends) - min(ends)) * 0.05
    y = between("times the first result", min([*ends, 1.0]) - room, max([*ends, 1.0]) + room)
    view = View("", _dates(every), (Panel(y, tuple(lines), (Reference(1.0),)),), _firmware(shown))
    of = f", {found.sample}" if found.sample else ""
    omitted = len(by_step) - len(shown)
    about = About(
        f"{found.selected.selection.drive}{of}: over time",
        "each step against its first result, 1.00; whiskers: 95 % intervals for all points at once"
        + (f"; {omitted} more changed less" if omitted else ""),
        provenance([p.result for line in shown for p in line]),
        "Each step over time, as a ratio to its first result",
    )
    return LineChart("Over time", (view,), about=about)


def _by_step(points: Sequence[HistoryPoint]) -> list[list[HistoryPoint]]:
    """Return the points of each step, the one that went furthest from its first result first."""
    by_kind: dict[str, list[HistoryPoint]] = {}
    for p in points:
        by_kind.setdefault(p.kind, []).append(p)
    return sorted(by_kind.values(), key=lambda line: -max(abs(p.times.median - 1) for p in line))


def _day(point: HistoryPoint) -> float:
    """Return when a result was made, in days since 1970."""
    return datetime.datetime.fromisoformat(point.result.started).timestamp() / 86_400


def _dates(days: Sequence[float]) -> Axis:
    """Return an axis with the day at some of the places, the first and the last included."""
    low, high = min(days), max(days)
    room = (high - low) * 0.06 or 0.5
    places = sorted({low + (high - low) * n / (MOST_DATES - 1) for n in range(MOST_DATES)})
    form = "%Y-%m-%d" if high - low >= MOST_DATES else "%m-%d %H:%M"
    ticks = tuple(
        (at, datetime.datetime.fromtimestamp(at * 86_400, datetime.UTC).strftime(form))
        for at in places
    )
    return Axis("date (UTC)", low - room, high + room, ticks)


def _firmware(shown: Sequence[Sequence[HistoryPoint]]) -> tuple[tuple[float, str], ...]:
    """Return a mark at each change of the firmware."""
    version, marks = None, []
    for p in sorted((p for line in shown for p in line), key=lambda p: p.result.started):
        now = p.result.conditions.firmware
        if now and version and now != version:
            marks.append((_day(p), f"firmware {truncate(now, 16)}"))
        version = now or version
    return tuple(marks)
