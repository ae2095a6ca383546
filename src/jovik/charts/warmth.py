"""The temperature of a drive over a whole run, step by step."""

from __future__ import annotations

from pathlib import Path

from jovik.charts.run_time import shade_steps, time_unit
from jovik.charts.style import LIGHT, Theme, provenance, save, small_print, titled, truncate
from jovik.queries.warmth import RunWarmth

LONGEST_LABEL = 44


def draw_warmth(
    found: RunWarmth, out: Path, *, size: tuple[int, int] = (1280, 800), look: Theme = LIGHT
) -> None:
    """Draw it over time, a band for each step, and name the step that it was warmest in."""
    read = [(t, c, p) for p in found.passes for t, c in p.temperatures]
    at_s, most, where = max(read, key=lambda r: r[1])
    below = (
        f"warmest sensor that can be believed: {read[0][1]:.0f} °C at first, {most:.0f} °C at most "
        f"(step {where.step})"
    )
    fig, ax = titled(size, look, f"{found.drive}: temperature over a run", below)
    whole = max(p.end_s for p in found.passes)
    unit, word = time_unit(whole)
    shade_steps(ax, found.passes, whole, unit, look)
    # What nobody read, between passes, is dotted.
    ax.plot(
        [t / unit for t, *_ in read],
        [c for _, c, _ in read],
        color=look.lines[0],
        linewidth=1.2,
        linestyle=":",
    )
    for p in found.passes:
        ax.plot(
            [t / unit for t, _ in p.temperatures],
            [c for _, c in p.temperatures],
            color=look.lines[0],
            linewidth=2.2,
            marker="o" if len(p.temperatures) == 1 else None,
            markersize=4,
        )
    lowest = min(c for _, c, _ in read)
    ax.set_ylim(min(20.0, lowest - 5), max(most * 1.12, lowest + 20))
    ax.set_xlim(0, whole / unit)
    right = at_s > whole / 2
    ax.annotate(
        f"{most:.0f} °C: {truncate(where.label, LONGEST_LABEL)}",
        (at_s / unit, most),
        xytext=(-8 if right else 8, 8),
        textcoords="offset points",
        ha="right" if right else "left",
        fontsize=12.5,
        color=look.ink,
    )
    ax.set_xlabel(f"{word} since the first pass began")
    ax.set_ylabel("°C")
    small_print(
        fig,
        f"run {found.run}; bands are steps, dotted: not read; " + provenance(found.results),
        look.quiet,
    )
    save(fig, out)
