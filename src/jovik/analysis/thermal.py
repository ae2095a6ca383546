"""Temperatures of a run.

Which sensors can be believed, how warm it got, and whether heat held a rate down.
"""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from jovik.analysis.health import PLAUSIBLE_C
from jovik.base.step_result import Limit, LimitSource
from jovik.base.trace import SLICE_NS

TemperatureSeries = Sequence[tuple[float, dict[str, float]]]
"""(seconds, degrees Celsius by sensor), in order of time."""

STUCK_AFTER_S = 60.0
"""A sensor constant for this long while another moved or the drive worked is stuck."""
MOVED_C = 3.0
APART_C = 45.0
"""How far sensors of one drive may lie apart.

Its controller is warmer than its memory, but not by more.
"""
FALL = 0.9
"""Share of its cool rate below which a hot drive has slowed down."""
NEAR_LIMIT_C = 1.0


@dataclass(frozen=True)
class SensorReading:
    """One sensor over a run; `set_aside` says why it is not believed, or nothing."""

    name: str
    start_c: float
    peak_c: float
    set_aside: str = ""


def assess_sensors(samples: TemperatureSeries) -> list[SensorReading]:
    """Every sensor that answered, with what it showed and whether it can be believed."""
    names = sorted({n for _, values in samples for n in values})
    series = {n: [values[n] for _, values in samples if n in values] for n in names}
    lasted = samples[-1][0] - samples[0][0] if samples else 0.0
    middle = {n: statistics.median(v) for n, v in series.items()}
    found = []
    for n in names:
        values = series[n]
        others_moved = any(max(v) - min(v) >= MOVED_C for o, v in series.items() if o != n)
        believable = [
            m for o, m in middle.items() if o != n and PLAUSIBLE_C[0] <= m <= PLAUSIBLE_C[1]
        ]
        reason = ""
        if not PLAUSIBLE_C[0] <= middle[n] <= PLAUSIBLE_C[1]:
            reason = f"no drive is at {middle[n]:.0f} °C"
        elif (
            max(values) - min(values) < 0.1
            and lasted >= STUCK_AFTER_S
            and (others_moved or lasted >= 5 * STUCK_AFTER_S)
        ):
            reason = f"it never moved in {lasted:.0f} s"
        elif len(believable) >= 2 and abs(middle[n] - statistics.median(believable)) > APART_C:
            reason = (
                f"it is {abs(middle[n] - statistics.median(believable)):.0f} °C away from "
                "the others"
            )
        found.append(SensorReading(n, values[0], max(values), reason))
    return found


def trusted_temperatures(samples: TemperatureSeries) -> list[tuple[float, float]]:
    """(seconds, degrees) of the warmest sensor that can be believed."""
    good = {r.name for r in assess_sensors(samples) if not r.set_aside}
    return [
        (t, max(v for n, v in values.items() if n in good))
        for t, values in samples
        if good & set(values)
    ]


def seconds_above(samples: TemperatureSeries, limit_c: float) -> float:
    """Seconds that trusted sensors were at or above a limit, each reading held until the next."""
    warm = trusted_temperatures(samples)
    return sum(b[0] - a[0] for a, b in pairwise(warm) if a[1] >= limit_c)


def heat_limit(
    slices: npt.NDArray[np.int64],
    samples: TemperatureSeries,
    limit_c: float | None,
) -> Limit | None:
    """Whether heat held a pass down.

    Its rate fell while the temperature sat at its limit.

    Parameters
    ----------
    slices : int64, shape (n, 5)
        Of the pass; whole slices count.
    samples : samples of the pass
    limit_c : float or None
        The drive's own limit, or the sheet's.
    """
    rates = slices[:-1, [0, 2]].sum(axis=1) / (SLICE_NS / 1e9)
    warm = trusted_temperatures(samples)
    if len(rates) < 10 or limit_c is None:
        return None
    hot = np.zeros(len(rates), bool)
    if limit_c is not None and warm:
        at = (
            np.searchsorted(
                [t for t, _ in warm], np.arange(len(rates)) * (SLICE_NS / 1e9), side="right"
            )
            - 1
        )
        hot = np.array([warm[max(i, 0)][1] >= limit_c - NEAR_LIMIT_C for i in at])
    if hot.any() and not hot.all() and rates[hot].mean() < FALL * rates[~hot].mean():
        share = rates[hot].mean() / rates[~hot].mean()
        return Limit(
            LimitSource.HEAT,
            float(rates[hot].mean()),
            f"at {limit_c:.0f} °C it fell to {share:.0%} of its cool rate".replace("%", " %"),
        )
    return None
