"""Streams, copies and recorded programs as shares of what the box says."""

from __future__ import annotations

from pathlib import Path

from jovik.analysis.real_work import WorkKind
from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.charts.style import (
    LIGHT,
    Theme,
    error_bars,
    provenance,
    save,
    small_print,
    titled,
    truncate,
)
from jovik.queries.real_work import RealWork
from jovik.steps import parse
from jovik.tables.real_work import WORDS

MOST_ROWS = 12
BESIDE_THE_LINE = 0.74
HATCHES = {WorkKind.STREAM: "", WorkKind.COPY: "//", WorkKind.PROGRAM: ".."}


def draw_real_work(
    found: RealWork, out: Path, *, size: tuple[int, int] = (1280, 800), look: Theme = LIGHT
) -> None:
    """Draw each as a bar of its share, the box as a line."""
    shown = found.shares[:MOST_ROWS]
    more = len(found.shares) - len(shown)
    below = "share of the claimed sequential rate; whiskers are 95 % intervals"
    fig, ax = titled(
        size,
        look,
        f"{found.drive}: real work against the box",
        below + (f"; {more} more are left out" if more else ""),
    )
    ax.set_position((0.30, 0.15, 0.66, 0.68))
    top = 1.12
    for y, x in enumerate(shown):
        share = x.share
        colour = look.pale if x.kind is WorkKind.STREAM else look.accent
        ax.barh(
            y,
            share.median,
            height=0.58,
            color=colour,
            hatch=HATCHES[x.kind],
            edgecolor=look.paper,
            linewidth=0,
            zorder=2,
        )
        error_bars(ax, share, y, look.ink, across=True, width=1.4)
        end = max(share.high or 0.0, share.median)
        # The words stand clear of the line.
        end = max(end, 1.0) if end > BESIDE_THE_LINE else end
        top = max(top, end + 0.3)
        ax.text(
            end + 0.015,
            y,
            f"{100 * share.median:.3g} %  {significant(x.rate_bytes_s.median * per_unit())} "
            f"{rate_unit()}",
            va="center",
            fontsize=12,
        )
    ax.axvline(1, color=look.ink, linewidth=1.6)
    labels = [f"{truncate(parse(x.result.kind).label, 34)}\n{WORDS[x.kind]}" for x in shown]
    ax.set_yticks(range(len(shown)), labels, fontsize=12)
    ax.set_ylim(len(shown) - 0.4, -0.6)
    ax.set_xlim(0, top)
    ax.grid(axis="x", visible=True)
    ax.grid(axis="y", visible=False)
    ax.xaxis.set_major_formatter(lambda v, _: f"{100 * v:.0f} %")
    ax.set_xlabel("of what the box says (the line)")
    small_print(fig, provenance([x.result for x in shown]), look.quiet)
    save(fig, out)
