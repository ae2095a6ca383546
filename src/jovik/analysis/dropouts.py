"""Pauses of a pass: short moments that moved less than half of the data around them."""

from __future__ import annotations

import math
import statistics
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from jovik.analysis.running_median import running_median
from jovik.base.findings import DropOuts
from jovik.base.quantities import show_time
from jovik.base.trace import SLICE_NS

LONGEST_FRACTION = 0.5
LEAST_IOS = 8
LONGEST_PAUSE_S = 3.0
"""A longer stretch is a level of its own.

The usual value around a slice is the median of twice this duration.
"""
MOST_OF_TIME = 0.15
"""Where more of the time is low, the drive alternates between two rates and does not pause."""
LEAST_AROUND = 5
AROUND_PAUSE = 9
REGULAR_SPREAD = 0.35
"""Spread of the times between pauses, as a share of them, up to which they are regular."""


@dataclass(frozen=True)
class Pauses:
    """Where a series pauses.

    Attributes
    ----------
    low : bool array, shape (n,)
        Whether a value is part of a pause.
    around : float array, shape (n,)
        The running median, which is the usual value at each position.
    starts, lengths : int arrays, shape (pauses,)
        In values.
    """

    low: npt.NDArray[np.bool_]
    around: npt.NDArray[np.float64]
    starts: npt.NDArray[np.int64]
    lengths: npt.NDArray[np.int64]


def pauses_in(moved: npt.NDArray[np.float64], value_s: float) -> Pauses:
    """Return the pauses of a series of amounts moved in `value_s` seconds each."""
    none = np.zeros(0, np.int64)
    window = min(round(2 * LONGEST_PAUSE_S / value_s), len(moved) // 3)
    if len(moved) < LEAST_AROUND:
        return Pauses(np.zeros(len(moved), bool), moved, none, none)
    around = running_median(moved, max(window, LEAST_AROUND) | 1, "symmetric")
    low = (moved < LONGEST_FRACTION * around) & (around > 0)
    if low.mean() > MOST_OF_TIME:
        low = np.zeros(len(moved), bool)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], low.astype(np.int8), [0]])))
    return Pauses(low, around, edges[::2], edges[1::2] - edges[::2])


def filled(moved: npt.NDArray[np.float64], pauses: Pauses) -> npt.NDArray[np.float64]:
    """Return the series with each pause filled by the usual value before it.

    Before and not around: a pause at a cliff then leaves the cliff behind it, where the bytes are.
    """
    out = moved.copy()
    for start, length in zip(pauses.starts, pauses.lengths, strict=True):
        before = out[max(start - AROUND_PAUSE, 0) : start]
        end = start + length
        # At the very beginning there is only what comes after.
        usual = np.median(before if len(before) else moved[end : end + AROUND_PAUSE])
        out[start : start + length] = usual
    return out


def drop_out_note(found: DropOuts) -> str:
    """For a reader."""
    if found.count == 1:
        return f"paused once, for {show_time(found.longest_s * 1e9)} (below half of its rate)"
    often = f", about every {show_time(found.every_s * 1e9)}" if found.every_s else ""
    return (
        f"paused {found.count} times (below half of its rate){often}: "
        f"{show_time(found.seconds * 1e9)} together, the longest {show_time(found.longest_s * 1e9)}"
    )


def all_drop_outs(passes: Iterable[npt.NDArray[np.int64]]) -> DropOuts | None:
    """Return the pauses of several passes together, or None if there are none."""
    of_each = [drop_outs(slices) for slices in passes]
    count = sum(x.count for x in of_each)
    if not count:
        return None
    every = [x.every_s for x in of_each if x.every_s is not None]
    return DropOuts(
        count,
        sum(x.seconds for x in of_each),
        max(x.longest_s for x in of_each),
        statistics.fmean(every) if every else None,
    )


def slices_per_bin(slices: npt.NDArray[np.int64]) -> int:
    """Return how many slices have to be taken together for the count of I/Os in them to be a rate.

    Of a few large I/Os a slice holds one or none, which is no pause.
    """
    ios = slices[:, [1, 3]].sum(axis=1)
    usual = float(ios.mean()) if len(ios) else 0.0
    return max(1, math.ceil(LEAST_IOS / usual)) if usual > 0 else 1


def drop_outs(slices: npt.NDArray[np.int64]) -> DropOuts:
    """Return the pauses of a pass.

    Parameters
    ----------
    slices : int64, shape (n, 5)
        As in `jovik.base.trace.Trace`; the last, which may not be whole, is left out.
    """
    each = slices_per_bin(slices[:-1])
    rows = (len(slices) - 1) // each
    moved = slices[: rows * each, [0, 2]].sum(axis=1).reshape(rows, each).sum(axis=1)
    value_s = each * SLICE_NS / 1e9
    pauses = pauses_in(moved.astype(np.float64), value_s)
    if not len(pauses.starts):
        return DropOuts(0, 0.0, 0.0)
    lengths = pauses.lengths * value_s
    return DropOuts(
        len(lengths), float(lengths.sum()), float(lengths.max()), _every_s(pauses.starts * value_s)
    )


def _every_s(starts_s: npt.NDArray[Any]) -> float | None:
    """Return the period of pauses if they are regular, which takes at least three."""
    between = np.diff(starts_s)
    if len(between) < 2:
        return None
    middle = float(np.median(between))
    regular = float(np.median(np.abs(between - middle))) <= REGULAR_SPREAD * middle
    return middle if regular else None
