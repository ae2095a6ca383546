"""A ladder as a curve.

Rate or I/Os a second over depth, block, mix or compressibility, with intervals and the knee.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from jovik.analysis.sweep import Sweep, SweepPoint
from jovik.base.interval import Interval
from jovik.base.rate_unit import per_unit, rate_unit
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

SMALL_BLOCK = 65536


def draw_ladder(
    curves: Sequence[Sweep],
    out: Path,
    *,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Draw ladders of one axis, at most six drives over each other."""
    first = curves[0]
    ios = first.axis != "block_bytes" and first.step.block_bytes <= SMALL_BLOCK
    drives = [c.rungs[0].result.drive for c in curves]
    title = f"{drives[0]}: {first.name}" if len(curves) == 1 else first.name.capitalize()
    fig, ax = titled(size, look, title, f"{first.label}; whiskers are 95 % intervals")
    top, doubts = 0.0, list[str]()
    for number, curve in enumerate(curves):
        colour = look.lines[number]
        places = [_place(first, r.value) for r in curve.rungs]
        values = [_value(r, ios) for r in curve.rungs]
        top = max(top, *(v.high or v.median for v in values))
        ax.plot(
            places,
            [v.median for v in values],
            color=colour,
            marker=look.marks[number],
            markersize=9,
            linewidth=2.2,
            linestyle=look.dashes[number],
            label=truncate(drives[number]),
        )
        for place, value, rung in zip(places, values, curve.rungs, strict=True):
            error_bars(ax, value, place, colour)
            if rung.doubt:
                # A hollow mark is a point that is not simply the drive's.
                ax.plot(
                    place,
                    value.median,
                    marker=look.marks[number],
                    markersize=9,
                    markerfacecolor=look.paper,
                    markeredgecolor=colour,
                    markeredgewidth=2.2,
                    zorder=5,
                )
        of = f"{truncate(drives[number])}: " if len(curves) > 1 else ""
        doubts += [f"{of}{d}" for d in curve.doubts()]
        if len(curves) == 1 and not curve.axis.endswith("percent"):
            _knee(ax, curve, places, values, look)
    ax.set_xticks([_place(first, v) for v in sorted({r.value for c in curves for r in c.rungs})])
    ax.set_xticklabels([first.spell(v) for v in sorted({r.value for c in curves for r in c.rungs})])
    ax.set_ylim(0, top * 1.12)
    ax.set_xlabel(
        first.name + (" (each step doubles)" if not first.axis.endswith("percent") else "")
    )
    ax.set_ylabel("I/Os a second" if ios else rate_unit())
    if ios:
        ax.yaxis.set_major_formatter(lambda v, _: f"{v:,.0f}")
    if len(curves) > 1:
        legend(ax, look, loc="best")
    hollow = [f"hollow marks: {'; '.join(doubts)}"] if doubts else []
    small_print(
        fig,
        ". ".join([*hollow, provenance([r.result for c in curves for r in c.rungs])]),
        look.quiet,
    )
    save(fig, out)


def _place(curve: Sweep, value: int) -> float:
    import math

    return float(value) if curve.axis.endswith("percent") else math.log2(value)


def _value(rung: SweepPoint, ios: bool) -> Interval:
    return rung.iops if ios else rung.rate_bytes_s.scaled(per_unit())


def _knee(
    ax: Any, curve: Sweep, places: Sequence[float], values: Sequence[Interval], look: Theme
) -> None:
    if not curve.best:
        return
    marked = curve.knee if curve.knee is not None else curve.best[0]
    number = next(i for i, r in enumerate(curve.rungs) if r.value == marked)
    ax.plot(
        places[number],
        values[number].median,
        marker="o",
        markersize=20,
        markerfacecolor="none",
        markeredgecolor=look.ink,
        markeredgewidth=1.8,
    )
    said = (
        "the knee: surely within 5 % of the best"
        if curve.knee is not None
        else "the best"
        if len(curve.best) == 1
        else "the smallest of the best, which are level"
    )
    # Where there is room: to the left of the mark, for the curve comes from below there.
    ax.annotate(
        said,
        (places[number], values[number].median),
        xytext=(-16, 16),
        textcoords="offset points",
        fontsize=12.5,
        ha="right",
    )
