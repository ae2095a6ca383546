"""Long writes: rate over time or bytes, with levels, the cliff and temperature."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from jovik.base.findings import Shape
from jovik.base.quantities import show_rate, show_size, show_time
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.step_result import StepResult
from jovik.base.trace import SLICE_NS, Trace
from jovik.charts.style import LIGHT, Theme, legend, provenance, save, small_print, titled, truncate
from jovik.steps import parse

POINTS = 900


def draw_long_write(
    shown: Sequence[tuple[StepResult, Trace]],
    out: Path,
    *,
    over: str = "time",
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Draw long writes, at most six over each other.

    Parameters
    ----------
    shown : sequence of (StepResult, Trace)
        Of one kind of step.
    over : str
        ``time`` or ``bytes``.
    """
    result, trace = shown[0]
    label = parse(result.kind).label
    title = f"{result.drive}: the long write" if len(shown) == 1 else "The long write"
    fig, ax = titled(
        size, look, title, f"{label}; rate over {'time' if over == 'time' else 'what was written'}"
    )
    for number, (r, t) in enumerate(shown):
        colour = look.lines[number]
        at, rates = _series(t, over)
        alone = len(shown) == 1
        name = "rate" if alone else truncate(r.drive)
        ax.plot(
            at,
            rates,
            color=colour,
            linewidth=1.2 if alone else 1.8,
            alpha=0.55 if alone else 1,
            linestyle=look.dashes[number],
            label=name,
        )
        if alone:
            _parts(ax, r, over, look)
    if len(shown) == 1:
        _cliff(ax, result, over, look)
        _temperature(ax, trace, over, look)
    ax.set_ylim(bottom=0)
    ax.set_xlim(left=0)
    ax.set_xlabel("seconds" if over == "time" else "GB written")
    ax.set_ylabel(rate_unit())
    legend(ax, look, loc="upper right")
    small_print(fig, provenance([r for r, _ in shown]), look.quiet)
    save(fig, out)


def _series(trace: Trace, over: str) -> tuple[Any, Any]:
    """Where and how fast, joined to as many points as a picture has room for."""
    written = (
        trace.slices[:-1, 2].astype(np.float64)
        if len(trace.slices) > 1
        else trace.slices[:, 2].astype(np.float64)
    )
    each = max(1, len(written) // POINTS)
    written = written[: len(written) // each * each].reshape(-1, each).sum(axis=1)
    seconds = (np.arange(len(written)) + 0.5) * each * SLICE_NS / 1e9
    rates = written / (each * SLICE_NS / 1e9) * per_unit()
    return (seconds if over == "time" else np.cumsum(written) / 1e9), rates


def _parts(ax: Any, result: StepResult, over: str, look: Theme) -> None:
    found = result.findings.long_write
    for number, part in enumerate(found.parts if found is not None else ()):
        rate = part.rate_bytes_s.median * per_unit()
        sloping = part.shape is Shape.SLOPE
        one = part.from_bytes_s * per_unit() if sloping and part.from_bytes_s is not None else rate
        two = part.to_bytes_s * per_unit() if sloping and part.to_bytes_s is not None else rate
        if over == "time":
            start, end = part.start_s, part.end_s
        else:
            start, end = part.start_bytes / 1e9, part.end_bytes / 1e9
        ax.plot(
            [start, end],
            [one, two],
            color=look.ink,
            linewidth=2.6,
            solid_capstyle="butt",
            label="level, mean" if not number else None,
        )


def _cliff(ax: Any, result: StepResult, over: str, look: Theme) -> None:
    found = result.findings.long_write
    cliff = found.cliff if found is not None else None
    if cliff is None:
        return
    at = cliff.at_s if over == "time" else cliff.at_bytes / 1e9
    ax.axvline(at, color=look.accent, linewidth=1.6, linestyle="--")
    words = (
        f"the cliff: {show_size(cliff.at_bytes)}, {show_time(cliff.at_s * 1e9)}\n"
        f"{show_rate(cliff.before_bytes_s)} to {show_rate(cliff.after_bytes_s)}"
    )
    ax.annotate(
        words,
        (at, cliff.before_bytes_s * per_unit()),
        xytext=(12, -4),
        textcoords="offset points",
        fontsize=12.5,
        color=look.ink,
        va="top",
        bbox={"facecolor": look.paper, "edgecolor": "none", "pad": 3},
    )


def _temperature(ax: Any, trace: Trace, over: str, look: Theme) -> None:
    """Believed sensors on an axis of their own.

    Over bytes, each moment stands where the write was then.
    """
    from jovik.analysis.thermal import trusted_temperatures

    if trace.environment is None or not trace.environment.temperatures:
        return
    warm = trusted_temperatures(trace.environment.temperatures)
    if len(warm) < 2:
        return
    ax.set_position((0.085, 0.17, 0.835, 0.66))
    right = ax.twinx()
    at = np.array([t for t, _ in warm])
    if over == "bytes":
        written = np.concatenate([[0.0], np.cumsum(trace.slices[:, 2])]) / 1e9
        at = np.interp(at, np.arange(len(written)) * SLICE_NS / 1e9, written)
    right.plot(at, [c for _, c in warm], color=look.lines[1], linewidth=1.8, linestyle=":")
    right.set_ylim(0, max(100, max(c for _, c in warm) * 1.1))
    right.set_ylabel("temperature, C (dotted)", color=look.lines[1], fontsize=13)
    right.tick_params(labelsize=12, colors=look.lines[1])
    right.grid(visible=False)
    right.spines["right"].set_visible(False)
