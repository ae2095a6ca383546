"""Short writes whose passes end behind the write cache, too late in them for a level of its own."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from jovik.base.findings import CLIFF_FRACTION, RateDrop
from jovik.base.quantities import show_rate, show_size
from jovik.base.trace import SLICE_NS

END_SLICES = 2
"""So many slices at the end must be slow in each pass: one may be a pause."""


def end_drop(passes: Sequence[npt.NDArray[np.int64]]) -> RateDrop | None:
    """Return where the passes of a short write fall near their end, or None.

    An end is slow if each of its slices lies a fifth or more below the usual rate of the fastest
    beginning, and below everything in that. As many passes as decide the median must have a slow
    end, and at least two: neither a pause at the end of one pass nor noise repeats.

    Parameters
    ----------
    passes : sequence of int64, shape (n, 5)
        Whole slices of each pass, as in `jovik.base.trace.Trace`.

    Returns
    -------
    RateDrop or None
        Of the first pass with a slow end. Its place is known to one slice.
    """
    written = [p[:, 2].astype(np.float64) for p in passes if len(p) >= 2 * END_SLICES]
    if not written:
        return None
    best = max((w[: len(w) // 2] for w in written), key=lambda s: float(np.median(s)))
    usual = float(np.median(best))
    limit = min((1 - CLIFF_FRACTION) * usual, float(best.min()))
    slow = [w for w in written if w[-END_SLICES:].max() < limit]
    if len(slow) < max(2, (len(passes) + 1) // 2):
        return None
    fast = np.flatnonzero(slow[0] >= limit)
    at = int(fast[-1]) + 1 if len(fast) else 0
    reached = np.concatenate([[0.0], np.cumsum(slow[0])])
    slice_s = SLICE_NS / 1e9
    return RateDrop(
        at_bytes=int(reached[at]),
        at_s=at * slice_s,
        low_bytes=int(reached[max(at - 1, 0)]),
        high_bytes=int(reached[min(at + 1, len(slow[0]))]),
        before_bytes_s=usual / slice_s,
        after_bytes_s=float(np.median(slow[0][at:])) / slice_s,
    )


def end_drop_note(drop: RateDrop) -> str:
    """Return it as a sentence."""
    return (
        f"most of its passes end slowly: the first of these falls after {show_size(drop.at_bytes)} "
        f"from {show_rate(drop.before_bytes_s)} to {show_rate(drop.after_bytes_s)}"
    )
