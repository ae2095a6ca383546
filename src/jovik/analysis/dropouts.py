"""Drop-outs of a pass: slices in which it moved less than half of what it moves around them."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from jovik.base.findings import DropOuts
from jovik.base.trace import SLICE_NS

HALF = 0.5
LEAST_IOS = 8
AROUND_SLICES = 101
"""Half a median of ten seconds: after a fall of the whole level, the new level is what counts."""


def drop_out_note(found: DropOuts) -> str:
    """For a reader."""
    times = "once" if found.count == 1 else f"{found.count} times"
    return (
        f"dropped below half of its rate {times}, {found.seconds:.1f} s together, "
        f"{found.longest_s:.1f} s the longest"
    )


def all_drop_outs(passes: Sequence[npt.NDArray[np.int64]]) -> DropOuts | None:
    """The drop-outs of several passes together; None where there are none."""
    found = [drop_outs(slices) for slices in passes]
    count = sum(x.count for x in found)
    if not count:
        return None
    return DropOuts(count, sum(x.seconds for x in found), max(x.longest_s for x in found))


def slices_per_bin(slices: npt.NDArray[np.int64]) -> int:
    """How many slices have to be taken together for the count of I/Os in them to be a rate.

    Of a few large I/Os a slice holds one or none, which is no drop-out.
    """
    ios = slices[:, [1, 3]].sum(axis=1)
    usual = float(ios.mean()) if len(ios) else 0.0
    return max(1, math.ceil(LEAST_IOS / usual)) if usual > 0 else 1


def drop_outs(slices: npt.NDArray[np.int64]) -> DropOuts:
    """The drop-outs of a pass.

    Parameters
    ----------
    slices : int64, shape (n, 5)
        As in `jovik.base.trace.Trace`; the last, which may not be whole, is left out.
    """
    from scipy.ndimage import median_filter

    each = slices_per_bin(slices[:-1])
    rows = (len(slices) - 1) // each
    moved = (
        slices[: rows * each, [0, 2]].sum(axis=1).reshape(rows, each).sum(axis=1).astype(np.float64)
    )
    if not len(moved):
        return DropOuts(0, 0.0, 0.0)
    around = median_filter(
        moved, min(max(AROUND_SLICES // each, 5) | 1, len(moved) | 1), mode="nearest"
    )
    low = (moved < HALF * around) & (around > 0)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], low.astype(np.int8), [0]])))
    lengths = (edges[1::2] - edges[::2]) * each * (SLICE_NS / 1e9)
    if not len(lengths):
        return DropOuts(0, 0.0, 0.0)
    return DropOuts(len(lengths), float(lengths.sum()), float(lengths.max()))
