"""Running medians and means of a series.

Beyond its ends a series goes on as `numpy.pad` makes it: ``symmetric``, its own mirror image, or
``edge``, its last value.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
import numpy.typing as npt

Values = npt.NDArray[np.float64]
Beyond = Literal["symmetric", "edge"]

AT_ONCE = 1_000_000
"""Values that are looked at together, so that a day of slices does not fill the memory."""


def running_median(series: Values, width: int, beyond: Beyond) -> Values:
    """Return the median of `width` values around each, an odd number, in the series' shape."""
    whole = np.pad(series, width // 2, mode=beyond)
    windows = np.lib.stride_tricks.sliding_window_view(whole, width)
    step = max(AT_ONCE // width, 1)
    middle = width // 2
    parts = [
        np.partition(windows[start : start + step], middle, axis=1)[:, middle]
        for start in range(0, len(windows), step)
    ]
    return np.concatenate(parts)


def running_mean(series: Values, width: int, beyond: Beyond) -> Values:
    """Return the mean of `width` values around each, an odd number, in the series' shape."""
    sums = np.cumsum(np.concatenate([[0.0], np.pad(series, width // 2, mode=beyond)]))
    return np.asarray((sums[width:] - sums[:-width]) / width, dtype=np.float64)
