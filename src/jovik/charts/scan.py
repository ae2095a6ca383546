"""A scan of the surface: rate from the first to the last address, with the access time as dots."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.step_result import StepResult
from jovik.base.trace import Trace
from jovik.charts.style import LIGHT, Theme, legend, provenance, save, small_print, titled, truncate


def draw_surface(
    result: StepResult,
    trace: Trace,
    out: Path,
    *,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Draw one scan."""
    zones = trace.scan
    assert zones is not None and result.findings.scan is not None
    at = np.array(zones.start_bytes) / 1e9
    rates, errors = np.array(zones.rate_bytes_s) * per_unit(), np.array(zones.errors)
    below = f"{len(at)} zones; rate as a line, access time as dots"
    fig, ax = titled(size, look, f"{result.drive}: from the first to the last address", below)
    good = errors == 0
    ax.plot(at[good], rates[good], color=look.accent, linewidth=2.2, label="rate")
    if (~good).any():
        ax.plot(
            at[~good],
            np.zeros((~good).sum()),
            linestyle="none",
            marker="X",
            markersize=12,
            color=look.ink,
            label="unreadable",
        )
    slow = list(result.findings.scan.slow)
    if slow:
        ax.plot(
            at[slow],
            rates[slow],
            linestyle="none",
            marker="o",
            markersize=13,
            markerfacecolor="none",
            markeredgecolor=look.ink,
            label="slow",
        )
    ax.set_ylim(0, max(rates.max(), 1) * 1.15)
    ax.set_xlim(0, at[-1] if len(at) > 1 else 1)
    ax.set_xlabel("GB from the first address")
    ax.set_ylabel(rate_unit())
    times = [(x, t / 1e6) for x, t in zip(at, zones.access_ns, strict=True) if t is not None]
    if times:
        ax.set_position((0.085, 0.17, 0.835, 0.66))
        right = ax.twinx()
        right.plot(
            *zip(*times, strict=True),
            linestyle="none",
            marker=".",
            markersize=7,
            color=look.lines[1],
            alpha=0.8,
            label="access time",
        )
        right.set_ylim(0, max(t for _, t in times) * 1.6)
        right.set_ylabel("access time, ms (dots)", color=look.lines[1], fontsize=13)
        right.tick_params(labelsize=12, colors=look.lines[1])
        right.grid(visible=False)
        right.spines["right"].set_visible(False)
    legend(ax, look, loc="lower left")
    small_print(fig, provenance([result]), look.quiet)
    save(fig, out)


def draw_surfaces(
    scans: Sequence[tuple[StepResult, Trace]],
    out: Path,
    *,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Draw scans of several drives over each other, each from its first to its last address."""
    below = "rate from the first address to the last; crosses are zones that could not be read"
    fig, ax = titled(size, look, "Scans, from the first to the last address", below)
    top = 0.0
    for number, (result, trace) in enumerate(scans):
        zones = trace.scan
        assert zones is not None
        starts = np.array(zones.start_bytes, dtype=float)
        at = 100 * starts / (starts[-1] + zones.zone_bytes)
        rates, good = np.array(zones.rate_bytes_s) * per_unit(), np.array(zones.errors) == 0
        top = max(top, float(rates.max()))
        colour = look.lines[number]
        ax.plot(
            at[good],
            rates[good],
            color=colour,
            linewidth=2.2,
            linestyle=look.dashes[number],
            label=truncate(result.drive),
        )
        ax.plot(
            at[~good],
            np.zeros((~good).sum()),
            linestyle="none",
            marker="X",
            markersize=11,
            color=colour,
        )
    ax.set_ylim(0, max(top, 1) * 1.15)
    ax.set_xlim(0, 100)
    ax.set_xlabel("percent of the scanned addresses")
    ax.set_ylabel(rate_unit())
    legend(ax, look, loc="best")
    small_print(fig, provenance([r for r, _ in scans]), look.quiet)
    save(fig, out)
