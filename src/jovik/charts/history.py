"""A sample over time: each step as a share of its first result, with intervals."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from jovik.analysis.comparison import HistoryPoint
from jovik.charts.style import (
    LIGHT,
    MOST_DRIVES,
    Theme,
    error_bars,
    legend,
    provenance,
    save,
    small_print,
    titled,
    truncate,
)
from jovik.queries.comparison import History
from jovik.steps import parse

LONGEST_LABEL = 40
BESIDE = 0.012
"""Of the width, between the marks of one day."""


def draw_history(
    found: History, out: Path, *, size: tuple[int, int] = (1280, 800), look: Theme = LIGHT
) -> None:
    """Draw the steps of a sample that changed most, at most as many as can be told apart."""
    lines = _lines(found.points)
    shown = lines[:MOST_DRIVES]
    of = f", {found.sample}" if found.sample else ""
    left = len(lines) - len(shown)
    below = (
        "each step against its first result, 1.00; whiskers: 95 % intervals for all points at once"
        + (f"; {left} more that changed less" if left else "")
    )
    fig, ax = titled(size, look, f"{found.selected.selection.drive}{of}: over time", below)
    ax.set_position((0.085, 0.17, 0.885, 0.62))
    ax.axhline(1.0, color=look.edge, linewidth=1.2)
    every = [_moment(p) for line in shown for p in line]
    # A little beside each other, so that whiskers of one day can be told apart.
    apart = (max(every) - min(every)) * BESIDE
    for number, points in enumerate(shown):
        colour = look.lines[number]
        beside = (number - (len(shown) - 1) / 2) * apart
        days = [_moment(p) + beside for p in points]
        ax.plot(
            days,
            [p.times.median for p in points],
            color=colour,
            marker=look.marks[number],
            markersize=9,
            linewidth=2.2,
            linestyle=look.dashes[number],
            label=truncate(parse(points[0].kind).label, LONGEST_LABEL),
        )
        for day, p in zip(days, points, strict=True):
            error_bars(ax, p.times, day, colour)
    _mark_firmware(ax, [p for line in shown for p in line], look)
    ax.set_ylabel("times the first result")
    ax.yaxis.set_major_formatter(lambda v, _: f"{v:.2f}")
    _dates(ax)
    legend(ax, look, loc="lower left", ncols=2, bbox_to_anchor=(0.0, 1.0))
    small_print(fig, provenance([p.result for line in shown for p in line]), look.quiet)
    save(fig, out)


def _lines(points: Sequence[HistoryPoint]) -> list[list[HistoryPoint]]:
    """The points of each step, the one that went furthest from its first result first."""
    by_kind: dict[str, list[HistoryPoint]] = {}
    for p in points:
        by_kind.setdefault(p.kind, []).append(p)
    return sorted(by_kind.values(), key=lambda line: -max(abs(p.times.median - 1) for p in line))


def _moment(point: HistoryPoint) -> float:
    from matplotlib import dates

    return float(dates.date2num(datetime.datetime.fromisoformat(point.result.started)))


def _dates(ax: Any) -> None:
    from matplotlib import dates

    locator = dates.AutoDateLocator(minticks=3, maxticks=8)
    ax.xaxis.set_major_locator(locator)
    ax.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator))


def _mark_firmware(ax: Any, points: Sequence[HistoryPoint], look: Theme) -> None:
    """A line where the firmware changed."""
    version = None
    for p in sorted(points, key=lambda p: p.result.started):
        now = p.result.conditions.firmware
        if now and version and now != version:
            at = _moment(p)
            right = at > sum(ax.get_xlim()) / 2
            ax.axvline(at, color=look.quiet, linewidth=1.0, linestyle=":")
            ax.annotate(
                f"firmware {truncate(now, 16)}",
                (at, 0.02),
                xycoords=("data", "axes fraction"),
                xytext=(-6 if right else 6, 0),
                ha="right" if right else "left",
                textcoords="offset points",
                fontsize=11,
                color=look.quiet,
            )
        version = now or version
