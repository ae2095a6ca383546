"""What an instrument logged beside a run, drawn under the rate over the same time axis."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.step_result import StepResult
from jovik.base.trace import SLICE_NS
from jovik.charts.run_time import shade_steps, time_unit
from jovik.charts.style import LIGHT, Theme, provenance, save, small_print, titled
from jovik.queries.instrument import LogBeside
from jovik.queries.warmth import RunPass
from jovik.tables.table import figure_words

MOST_PHASES = 4
MOST_BINS = 800
"""A run is drawn by so many stretches at most; the eye tells no more apart."""


def draw_log(
    found: LogBeside,
    drive: str,
    results: Sequence[StepResult],
    out: Path,
    *,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Draw the rate of each pass above, and what was logged below it."""
    log = found.log
    means = [f"{f.name} {figure_words(f.mean)}" for f in found.phases[:MOST_PHASES]]
    title, shown = f"{drive}: {log.quantity} during a run", f"{log.unit}: "
    fig, below = titled(size, look, title, shown + "; ".join(means))
    below.set_position((0.085, 0.17, 0.885, 0.31))
    above = fig.add_axes((0.085, 0.53, 0.885, 0.31), sharex=below)
    above.grid(axis="y", visible=True)
    above.grid(axis="x", visible=False)
    above.tick_params(labelsize=12, labelbottom=False)
    whole = max(p.end_s for p in found.passes)
    first, last = min(log.seconds[0], 0.0), max(log.seconds[-1], whole)
    unit, word = time_unit(last - first)
    for ax in (above, below):
        shade_steps(ax, found.passes, last - first, unit, look, numbers=ax is above)
    for p in found.passes:
        seconds, rates = _rate(p)
        above.plot(seconds / unit, rates * per_unit(), color=look.lines[1], linewidth=1.6)
    above.set_ylim(bottom=0)
    above.set_ylabel(rate_unit(), fontsize=13)
    below.plot(np.array(log.seconds) / unit, log.readings, color=look.lines[0], linewidth=1.2)
    _mark_most(below, found, unit, look)
    below.set_xlim(first / unit, last / unit)
    below.set_ylabel(log.unit)
    below.set_xlabel(f"{word} since the first pass began")
    small_print(
        fig,
        f"run {log.run}; bands are steps, by number; above: rate; below: {log.quantity}; "
        + provenance(results),
        look.quiet,
    )
    save(fig, out)


def _rate(p: RunPass) -> tuple[npt.NDArray[Any], npt.NDArray[Any]]:
    """Times and rates of a pass, of stretches wide enough to be told apart."""
    slices = p.trace.slices
    moved = (slices[:, 0] + slices[:, 2]).astype(float)
    each = max(-(-len(moved) // MOST_BINS), 1)
    count = max(len(moved) // each, 1)
    sums = moved[: count * each].reshape(count, -1).sum(axis=1)
    width = each * SLICE_NS / 1e9
    # The last slice may have been cut short; what it moved is in it all the same.
    seconds = np.arange(len(sums), dtype=np.float64) * width + (p.start_s + width / 2)
    return seconds, sums / width


def _mark_most(ax: Any, found: LogBeside, unit: float, look: Theme) -> None:
    log = found.log
    at = int(np.argmax(log.readings))
    right = log.seconds[at] > (log.seconds[0] + log.seconds[-1]) / 2
    ax.annotate(
        f"most: {significant(log.readings[at])} {log.unit}",
        (log.seconds[at] / unit, log.readings[at]),
        xytext=(0, 5),
        textcoords="offset points",
        ha="right" if right else "left",
        va="bottom",
        fontsize=12,
        color=look.ink,
    )
    low, high = min(log.readings), max(log.readings)
    margin = max(high - low, abs(high) * 0.05) * 0.12
    floor = 0.0 if 0 <= low < high / 2 else low - margin
    ax.set_ylim(floor, high + 2 * margin)
