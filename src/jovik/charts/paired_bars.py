"""Two figures for each step side by side: empty against full, the old drive against the new one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from jovik.analysis.fullness import FillComparison
from jovik.analysis.upgrade import Upgrade
from jovik.base.interval import Interval
from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.step_result import StepResult
from jovik.charts.style import (
    LIGHT,
    Theme,
    error_bars,
    legend,
    provenance,
    save,
    small_print,
    titled,
    truncate,
)
from jovik.steps import parse

MOST_ROWS = 10


@dataclass(frozen=True)
class Row:
    """One step: its name, both figures as shares of the larger one, and words for each."""

    label: str
    one: Interval
    two: Interval
    ratio: str


def draw_fullness(
    pairs: Sequence[FillComparison],
    out: Path,
    *,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Empty against full."""
    drive, level = pairs[0].step_full.drive, pairs[0].filled_percent
    rows = [
        Row(
            parse(p.kind).label,
            p.empty.scaled(per_unit()),
            p.full.scaled(per_unit()),
            f"{100 * p.share.median:.0f} % of empty\n{p.verdict}",
        )
        for p in pairs
    ]
    _draw(
        rows,
        ("empty", f"filled to {level} %"),
        f"{drive}: empty against full",
        [r for p in pairs for r in (p.step_empty, p.step_full)],
        out,
        size,
        look,
    )


def draw_upgrade(
    found: Upgrade,
    used: Sequence[StepResult],
    out: Path,
    *,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """The old drive against the new one."""
    rows = [
        Row(
            parse(s.kind).label,
            s.old.scaled(per_unit()),
            s.new.scaled(per_unit()),
            f"{significant(s.times.median)} times\n{s.verdict}",
        )
        for s in found.steps
    ]
    _draw(
        rows,
        (truncate(found.old), truncate(found.new)),
        f"{found.old} to {found.new}",
        used,
        out,
        size,
        look,
    )


def _draw(
    rows: Sequence[Row],
    names: tuple[str, str],
    title: str,
    used: Sequence[StepResult],
    out: Path,
    size: tuple[int, int],
    look: Theme,
) -> None:
    """Bars as shares of the larger figure of each pair.

    Steps whose rates lie a hundredfold apart are all to be seen.
    """
    left_out = f"; {len(rows) - MOST_ROWS} more steps are left out" if len(rows) > MOST_ROWS else ""
    rows = rows[:MOST_ROWS]
    fig, ax = titled(
        size,
        look,
        title,
        f"{rate_unit()}, each pair as shares of its larger figure; whiskers are 95 % intervals"
        f"{left_out}",
    )
    ax.set_position((0.30, 0.13, 0.66, 0.70))
    for y, row in enumerate(rows):
        top = max(row.one.high or row.one.median, row.two.high or row.two.median)
        for offset, value, colour, name in (
            (-0.2, row.one, look.pale, names[0]),
            (0.2, row.two, look.accent, names[1]),
        ):
            ax.barh(
                y + offset,
                value.median / top,
                height=0.36,
                color=colour,
                zorder=2,
                label=name if y == 0 else None,
                hatch="" if offset < 0 else "//",
                edgecolor=look.paper,
                linewidth=0,
            )
            error_bars(ax, value.scaled(1 / top), y + offset, look.ink, across=True, width=1.4)
            ax.text(
                (value.high or value.median) / top + 0.015,
                y + offset,
                significant(value.median),
                va="center",
                fontsize=11,
            )
        ax.text(1.2, y, row.ratio, va="center", fontsize=12, linespacing=1.2)
    ax.set_yticks(
        range(len(rows)),
        [r.label.replace(", depth", ",\ndepth").replace(", over", ",\nover") for r in rows],
        fontsize=11.5,
    )
    ax.set_ylim(len(rows) - 0.4, -0.6)
    ax.set_xlim(0, 1.52)
    ax.set_xticks([])
    ax.spines["bottom"].set_visible(False)
    ax.grid(visible=False)
    legend(ax, look, loc="lower left", bbox_to_anchor=(0, 1.0), ncols=2)
    small_print(fig, provenance(used), look.quiet)
    save(fig, out)
