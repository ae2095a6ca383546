"""Latency distributions.

The latency that a share of I/Os does not exceed, the share on an axis of nines.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from jovik.base import histogram
from jovik.base.quantities import show_time
from jovik.base.step_result import StepResult
from jovik.base.trace import Latencies
from jovik.charts.style import LIGHT, Theme, legend, provenance, save, small_print, titled, truncate
from jovik.steps import parse

NINES = (0.0, 0.5, 0.9, 0.99, 0.999, 0.9999, 0.99999, 0.999999)
NAMES = ("0", "50 %", "90 %", "99 %", "99.9 %", "99.99 %", "99.999 %", "99.9999 %")


def draw_latency(
    results: Sequence[StepResult],
    out: Path,
    *,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Draw the distributions of results, at most six over each other.

    A share so close to 1 that less than one I/O lies beyond it is not drawn.
    """
    same = len({r.kind for r in results}) == 1
    title = f"{results[0].drive}: latency" if len({r.drive for r in results}) == 1 else "Latency"
    below = (
        f"{parse(results[0].kind).label if same else 'several steps'}; half of all I/Os "
        "lie left of 50 %, one in a hundred right of 99 %"
    )
    fig, ax = titled(size, look, title, below)
    furthest = 1.0
    for number, result in enumerate(results):
        whole = Latencies.merged(result.latencies.values())
        if whole is None or not whole.total:
            continue
        so_far = np.cumsum(whole.counts) / whole.total
        hit = np.flatnonzero(whole.counts)
        shares = np.minimum(so_far[hit], 1 - 0.5 / whole.total)
        nines = -np.log10(1 - shares)
        times = np.clip(histogram.MIDDLE_NS[hit], whole.minimum_ns, whole.maximum_ns) / 1000
        furthest = max(furthest, float(nines[-1]))
        name = (
            truncate(result.drive)
            if same
            else f"{truncate(result.drive, 18)}: {parse(result.kind).label}"
        )
        # Beside the marks the words of several drives would cover each other.
        longest = f"longest {show_time(whole.maximum_ns)}"
        label = f"{name}, {longest}" if len(results) > 1 else name
        ax.plot(
            nines,
            times,
            color=look.lines[number],
            linewidth=2.2,
            linestyle=look.dashes[number],
            drawstyle="steps-post",
            label=label,
        )
        ax.plot(
            nines[-1],
            whole.maximum_ns / 1000,
            color=look.lines[number],
            marker=look.marks[number],
            markersize=9,
        )
        if len(results) == 1:
            ax.annotate(
                longest,
                (nines[-1], whole.maximum_ns / 1000),
                xytext=(-10, 8),
                textcoords="offset points",
                fontsize=12,
                ha="right",
            )
    ax.set_yscale("log")
    shown = [i for i, n in enumerate(NINES) if -math.log10(1 - n) <= furthest + 0.3]
    ax.set_xticks([-math.log10(1 - NINES[i]) for i in shown], [NAMES[i] for i in shown])
    ax.set_xlim(0, furthest * 1.04)
    ax.yaxis.set_major_formatter(lambda v, _: show_time(v * 1000, 2))
    # Between powers of ten there would be words, too, where few of these are in sight.
    ax.yaxis.set_minor_formatter(lambda v, _: "")
    ax.set_xlabel("percentile of I/Os")
    ax.set_ylabel("latency")
    if len(results) > 1:
        legend(ax, look, loc="upper left")
    small_print(fig, provenance(results), look.quiet)
    save(fig, out)
