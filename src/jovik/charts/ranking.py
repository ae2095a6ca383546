"""The picture of a ranking: the index as bars with intervals, and each step beside it."""

from __future__ import annotations

import textwrap
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.charts.style import (
    DOTS_PER_INCH,
    LIGHT,
    Theme,
    figure,
    provenance,
    save,
    small_print,
    truncate,
)
from jovik.steps import parse

if TYPE_CHECKING:
    from jovik.analysis.ranking import DriveRank, Ranking
    from jovik.base.interval import Interval

LABELS = 224
"""Pixels for the names of drives."""
MOST_STEPS = 8
LEAST_WIDTH_WITH_STEPS = 1000
MOST_DRIVES_WITH_STEPS = 8
ROOMY = 10
"""With more drives, name and place share a line."""


def draw_ranking(
    ranking: Ranking,
    out: Path,
    *,
    highlight: str | None = None,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Draw a ranking to a file whose ending says the form (png, svg, pdf).

    Parameters
    ----------
    highlight : str, optional
        The drive drawn in the strong colour; the best placed unless given.
    size : (int, int)
        Pixels.
    """
    drives = [d for d in ranking.drives if d.index is not None]
    chosen = highlight or drives[0].drive
    shared = [k for k in ranking.kinds if all(any(s.kind == k for s in d.steps) for d in drives)]
    # Side by side only where there is room for two.
    roomy = len(drives) <= MOST_DRIVES_WITH_STEPS and size[0] >= LEAST_WIDTH_WITH_STEPS
    kinds = shared[:MOST_STEPS] if roomy else []
    fig = figure(size, look)
    fig.suptitle(
        f"Ranking by index, {len(ranking.kinds)} kinds of step",
        x=0.02,
        y=0.975,
        ha="left",
        va="top",
        fontsize=17,
        fontweight="bold",
    )
    fig.text(
        0.02,
        0.92,
        f"100 is {truncate(ranking.yardstick, 40)}; whiskers are 95 % intervals",
        fontsize=10.5,
        color=look.quiet,
        va="top",
    )
    side = min(LABELS / size[0], 0.4)
    left = fig.add_gridspec(1, 1, left=side, right=0.50 if kinds else 0.96, top=0.84, bottom=0.14)
    _index_bars(fig.add_subplot(left[0]), drives, chosen, look)
    if kinds:
        fig.text(
            0.545,
            0.92,
            f"{len(kinds)} of {len(shared)} steps that all share, {rate_unit()}, in the same order",
            fontsize=10.5,
            color=look.quiet,
            va="top",
        )
        rows = (len(kinds) + 1) // 2
        grid = fig.add_gridspec(
            rows, 2, left=0.545, right=0.975, top=0.84, bottom=0.10, hspace=0.75, wspace=0.16
        )
        for number, kind in enumerate(kinds):
            _step_bars(
                fig.add_subplot(grid[number // 2, number % 2]),
                ranking,
                kind,
                [d.drive for d in drives],
                chosen,
                look,
            )
    used = [s.result for d in drives for s in d.steps]
    # Which unit of each drive that was is told where one drive is shown.
    small_print(
        fig,
        f"{len(ranking.kinds)} kinds of step, medians of {provenance(used, units=False)}",
        look.quiet,
    )
    save(fig, out)


def _whisker(ax: Any, y: float, value: Interval, look: Theme) -> None:
    if value.low is not None and value.high is not None and value.high > value.low:
        ax.plot(
            [value.low, value.high],
            [y, y],
            color=look.ink,
            linewidth=1.6,
            solid_capstyle="butt",
            zorder=3,
        )
        for end in (value.low, value.high):
            ax.plot([end, end], [y - 0.13, y + 0.13], color=look.ink, linewidth=1.6, zorder=3)


def _index_bars(ax: Any, drives: list[DriveRank], chosen: str, look: Theme) -> None:
    top = max(d.index.high or d.index.median for d in drives if d.index)
    for y, d in enumerate(drives):
        assert d.index is not None
        mine = d.drive == chosen
        ax.barh(y, d.index.median, height=0.56, color=look.accent if mine else look.pale, zorder=2)
        _whisker(ax, y, d.index, look)
        end = max(d.index.high or 0, d.index.median)
        ax.text(
            end + top * 0.02,
            y,
            significant(d.index.median),
            va="center",
            fontsize=12,
            fontweight="bold" if mine else "normal",
        )
    two_lines = len(drives) <= ROOMY
    names = [
        f"{truncate(d.drive, 22)}\nplace {d.place}"
        if two_lines
        else f"{truncate(d.drive, 22)}, {d.place}"
        for d in drives
    ]
    ax.set_yticks(range(len(drives)), names)
    for label, d in zip(ax.get_yticklabels(), drives, strict=True):
        label.set_fontweight("bold" if d.drive == chosen else "normal")
    ax.set_ylim(len(drives) - 0.4, -0.6)
    ax.set_xlim(0, top * 1.14)
    ax.set_xlabel("index (higher is better)")


def _step_bars(
    ax: Any, ranking: Ranking, kind: str, order: list[str], chosen: str, look: Theme
) -> None:
    steps = {s.drive: s for d in ranking.drives for s in d.steps if s.kind == kind}
    top = max((s.rate_bytes_s.high or s.rate_bytes_s.median) * per_unit() for s in steps.values())
    for y, drive in enumerate(order):
        if drive not in steps:
            ax.text(0, y, " not measured alike", va="center", fontsize=8.5, color=look.quiet)
            continue
        rate = steps[drive].rate_bytes_s.scaled(per_unit())
        ax.barh(
            y,
            rate.median,
            height=0.66,
            color=look.accent if drive == chosen else look.pale,
            zorder=2,
        )
        _whisker(ax, y, rate, look)
        ax.text(
            max(rate.high or 0, rate.median) + top * 0.03,
            y,
            significant(rate.median),
            va="center",
            fontsize=9,
        )
    wide = ax.get_position().width * ax.figure.get_figwidth() * DOTS_PER_INCH
    title = "\n".join(textwrap.wrap(parse(kind).label, max(int(wide / 7.6), 16))[:2])
    ax.set_title(title, fontsize=9.5, pad=4, loc="left")
    ax.set_yticks([])
    ax.set_xticks([])
    ax.spines["bottom"].set_visible(False)
    ax.axvline(0, color=look.ink, linewidth=0.8)
    ax.set_ylim(len(order) - 0.4, -0.6)
    ax.set_xlim(0, top * 1.22)
