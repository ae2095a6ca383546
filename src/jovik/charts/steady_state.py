"""Steady states: rounds with their window, the surface of mixes and blocks, saturation, demand."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from jovik.analysis.comparability import settled
from jovik.analysis.demand import DemandPoint, enough_of
from jovik.analysis.statistics import interval
from jovik.analysis.steady_grid import Grid
from jovik.analysis.steady_state import RANGE, WINDOW
from jovik.base.quantities import show_time, significant, spell_size
from jovik.charts.style import (
    LIGHT,
    MOST_DRIVES,
    Theme,
    error_bars,
    figure,
    legend,
    provenance,
    save,
    small_print,
    titled,
    truncate,
)
from jovik.queries.steady_state import Rounds, Saturation
from jovik.steps import parse

LONGEST_LABEL = 64
DARKEST = 0.6
"""Share of the colour in the cell of the most: a figure has to be legible on it."""
Size = tuple[int, int]


def short_label(kind: str, longest: int = LONGEST_LABEL) -> str:
    """A step without what all steps of a steady state say."""
    parts = [p for p in parse(kind).label.split(", ") if not p.startswith(("until", "within"))]
    return truncate(", ".join(parts), longest)


def draw_rounds(
    shown: Sequence[Rounds], out: Path, *, size: Size = (1280, 800), look: Theme = LIGHT
) -> None:
    """Draw each tracked step round by round, as a share of its mean in the window."""
    drawn = shown[:MOST_DRIVES]
    first = drawn[0].result
    found = first.findings.steady
    assert found is not None
    what = "mean latency" if drawn[0].latency else "I/Os a second"
    verdict = (
        f"steady in rounds {found.first} to {found.first + found.count - 1}"
        if found.steady
        else f"not steady after {found.rounds} rounds"
    )
    title = f"{first.drive}: {verdict}"
    fig, ax = titled(size, look, title, f"{what} of each round over the mean of the window")
    ax.set_position((0.085, 0.17, 0.885, 0.66 - 0.035 * len(drawn)))
    ax.axvspan(found.first - 0.5, found.first + found.count - 0.5, color=look.grid, alpha=0.6)
    for edge in (1 - RANGE / 2, 1 + RANGE / 2):
        ax.axhline(edge, color=look.edge, linewidth=1.0, linestyle=":")
    for number, one in enumerate(drawn):
        steady = one.result.findings.steady
        assert steady is not None
        mean = float(np.mean(steady.window(one.figures)))
        ax.plot(
            range(1, len(one.figures) + 1),
            [f / mean for f in one.figures],
            color=look.lines[number],
            marker=look.marks[number],
            markersize=9,
            linewidth=2.2,
            linestyle=look.dashes[number],
            label=f"{short_label(one.result.kind)}: {_mean_words(mean, latency=one.latency)}",
        )
    low, high = ax.get_ylim()
    ax.set_ylim(min(low, 0.85), max(high, 1.15))
    ax.set_xlim(0.5, max(len(one.figures) for one in drawn) + 0.5)
    ax.set_xlabel(f"round; shaded: the window of {WINDOW}, dotted: its mean +/- 10 %")
    ax.set_ylabel("times the mean of the window")
    ax.xaxis.get_major_locator().set_params(integer=True)
    legend(ax, look, loc="lower left", bbox_to_anchor=(0.0, 1.0))
    small_print(fig, provenance([one.result for one in drawn]), look.quiet)
    save(fig, out)


def _mean_words(mean: float, *, latency: bool) -> str:
    return show_time(mean) if latency else f"{significant(mean)} IOPS"


def draw_grid(grid: Grid, out: Path, *, size: Size = (1280, 800), look: Theme = LIGHT) -> None:
    """Draw I/Os a second over mix and block: a figure in each cell, shaded by its size."""
    results = list(grid.cells.values())
    values = np.full((len(grid.blocks), len(grid.mixes)), np.nan)
    for (mix, block), r in grid.cells.items():
        if r.passes:
            at = grid.blocks.index(block), grid.mixes.index(mix)
            values[at] = interval([p.iops for p in r.passes]).median
    fig = figure(size, look)
    title = f"{results[0].drive}: steady I/Os a second"
    fig.suptitle(title, x=0.025, y=0.975, ha="left", va="top", fontsize=18, fontweight="bold")
    below = f"{grid.label}; darker is more (logarithmic); ? not steady"
    fig.text(0.025, 0.912, below, fontsize=12.5, color=look.quiet, va="top")
    ax = fig.add_axes((0.11, 0.17, 0.865, 0.68))
    _paint_cells(ax, grid, values, look)
    ax.set_xticks(range(len(grid.mixes)), [f"{m} %" for m in grid.mixes], fontsize=13)
    ax.set_yticks(range(len(grid.blocks)), [_block(b) for b in grid.blocks], fontsize=13)
    ax.set_xlabel("reads", fontsize=13)
    ax.grid(visible=False)
    for side in ("top", "right", "bottom", "left"):
        ax.spines[side].set_visible(False)
    ax.tick_params(length=0)
    small_print(fig, provenance(results), look.quiet)
    save(fig, out)


def _paint_cells(ax: Any, grid: Grid, values: Any, look: Theme) -> None:
    from matplotlib.colors import LinearSegmentedColormap, to_rgb

    logs = np.log(values)
    low, high = float(np.nanmin(logs)), float(np.nanmax(logs))
    scale = (logs - low) / (high - low or 1.0)
    shades = LinearSegmentedColormap.from_list("cells", [look.paper, look.lines[1]])
    ax.imshow(scale * DARKEST, cmap=shades, vmin=0, vmax=1, aspect="auto")
    for row, block in enumerate(grid.blocks):
        for column, mix in enumerate(grid.mixes):
            r = grid.cells.get((mix, block))
            if r is None or np.isnan(values[row, column]):
                continue
            said = significant(values[row, column]) + ("" if settled(r) else " ?")
            shade = to_rgb(shades(scale[row, column] * DARKEST))
            # Ink or paper, whichever stands out from the cell (W3C, relative luminance, WCAG 2.2).
            light = _contrast(shade, to_rgb(look.paper)) > _contrast(shade, to_rgb(look.ink))
            ax.text(
                column,
                row,
                said,
                ha="center",
                va="center",
                fontsize=13,
                color=look.paper if light else look.ink,
            )


def _contrast(one: Sequence[float], two: Sequence[float]) -> float:
    def luminance(colour: Sequence[float]) -> float:
        linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in colour]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    bright, dark = sorted((luminance(one), luminance(two)), reverse=True)
    return (bright + 0.05) / (dark + 0.05)


def _block(size: int) -> str:
    return spell_size(size).replace("KiB", " KiB").replace("MiB", " MiB").replace("512B", "512 B")


def draw_saturation(
    shown: Sequence[Saturation], out: Path, *, size: Size = (1280, 800), look: Theme = LIGHT
) -> None:
    """Draw I/Os a second of each minute over what was written, in multiples of the range."""
    first = shown[0].result
    title = f"{first.drive}: write saturation" if len(shown) == 1 else "Write saturation"
    words = f"{short_label(first.kind)}; each point a minute, from a purge on"
    fig, ax = titled(size, look, title, words)
    for number, one in enumerate(shown):
        ax.plot(
            one.at_spans,
            one.iops,
            color=look.lines[number],
            marker=look.marks[number] if len(one.iops) < 200 else None,
            markersize=5,
            linewidth=2.0,
            linestyle=look.dashes[number],
            label=truncate(one.result.drive),
        )
    ax.set_position((0.1, 0.17, 0.87, 0.66))
    ax.set_ylim(bottom=0)
    ax.set_xlim(left=0)
    ax.yaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    ax.set_xlabel("written, in multiples of the range")
    ax.set_ylabel("I/Os a second")
    if len(shown) > 1:
        legend(ax, look, loc="upper right")
    small_print(fig, provenance([one.result for one in shown]), look.quiet)
    save(fig, out)


def draw_demand(
    points: Sequence[DemandPoint], out: Path, *, size: Size = (1280, 800), look: Theme = LIGHT
) -> None:
    """Draw I/Os a second against the slowest in 100,000, a point for each load."""
    told = [p for p in points if p.rare_ns is not None]
    # Of several ways to the same number in flight the one that is waited for least.
    best = [
        min((p for p in told if p.in_flight == n), key=lambda p: p.rare_ns or 0.0)
        for n in dict.fromkeys(p.in_flight for p in told)
    ]
    drive = points[0].result.drive
    knee = enough_of(points)
    title = f"{drive}: from {knee.in_flight} in flight on, more load only buys waiting"
    parts = [p for p in short_label(points[0].result.kind, 80).split(", ")]
    words = ", ".join(p for p in parts if not p.startswith(("depth", "workers")))
    fig, ax = titled(size, look, title, f"{words}; numbers: I/Os in flight")
    colour = look.lines[0]
    ax.plot(
        [p.iops.median for p in best],
        [(p.rare_ns or 0.0) / 1e6 for p in best],
        color=colour,
        marker=look.marks[0],
        markersize=9,
        linewidth=2.0,
    )
    others = [p for p in told if p not in best]
    ax.plot(
        [p.iops.median for p in others],
        [(p.rare_ns or 0.0) / 1e6 for p in others],
        color=colour,
        marker=look.marks[0],
        markersize=7,
        markerfacecolor=look.paper,
        linestyle="none",
    )
    for p in best:
        y = (p.rare_ns or 0.0) / 1e6
        error_bars(ax, p.iops, y, colour, across=True)
        ax.annotate(
            str(p.in_flight),
            (p.iops.median, y),
            xytext=(8, 8),
            textcoords="offset points",
            fontsize=12,
            color=look.ink,
        )
    ax.set_xlim(left=0)
    ax.set_yscale("log")
    ax.yaxis.set_major_formatter(lambda v, _: f"{v:g}")
    ax.yaxis.set_minor_formatter(lambda v, _: f"{v:g}" if f"{v:.0e}"[0] in "25" else "")
    ax.tick_params(axis="y", which="minor", labelsize=12)
    ax.xaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    ax.set_xlabel("I/Os a second; hollow: as many in flight by other workers and depths")
    ax.set_ylabel("slowest in 100,000, ms (logarithmic)")
    small_print(fig, provenance([p.result for p in told]), look.quiet)
    save(fig, out)
