"""A whole run along a time axis: its unit, and its steps as bands."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import groupby

from jovik.charts.chart import Band

MINUTES_FROM_S = 300.0


def time_unit(whole_s: float) -> tuple[float, str]:
    """Return the seconds in the unit of the axis, and its word."""
    return (60.0, "minutes") if whole_s >= MINUTES_FROM_S else (1.0, "seconds")


def bands_of(passes: Iterable[tuple[int, float, float]], unit: float) -> tuple[Band, ...]:
    """Return a band for each step with its number, every other one shaded.

    Parameters
    ----------
    passes : iterable of (int, float, float)
        The step of each pass, and when it began and ended, in seconds.
    """
    bands = []
    for step, group in groupby(passes, key=lambda p: p[0]):
        results = list(group)
        start, end = results[0][1] / unit, results[-1][2] / unit
        bands.append(Band(start, end, str(step), shaded=step % 2 == 1))
    return tuple(bands)
