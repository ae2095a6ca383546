"""Temperatures of a run.

Which sensors can be believed, how warm it got, and whether heat held a rate down.
"""

from __future__ import annotations

import statistics
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from jovik.analysis.health import PLAUSIBLE_C
from jovik.analysis.step_result import Limit, LimitSource, StepResult
from jovik.base.findings import TemperatureRange
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
HOT_RATE_FRACTION = 0.9
"""Share of its cool rate below which a hot drive has slowed down."""
NEAR_LIMIT_C = 1.0
COINCIDENCE_S, LATER_S = 4.0, 15.0
"""How long before and after a fall rates are compared; how long after its limit it may fall."""
LEAST_SLICES = 5


@dataclass(frozen=True)
class SensorReading:
    """One sensor over a run. `set_aside` is the reason why it is ignored, or empty.

    `stuck` is whether that is because it never moves.
    """

    name: str
    start_c: float
    peak_c: float
    set_aside: str = ""
    stuck: bool = False


def assess_sensors(samples: TemperatureSeries, stuck: Collection[str] = ()) -> list[SensorReading]:
    """Return every sensor that answered, with its readings and whether it is credible.

    `stuck` are sensors of this sample that never moved in an earlier run.
    """
    names = sorted({n for _, values in samples for n in values})
    series = {n: [values[n] for _, values in samples if n in values] for n in names}
    lasted = samples[-1][0] - samples[0][0] if samples else 0.0
    middle = {n: statistics.median(v) for n, v in series.items()}
    assessed = []
    for n in names:
        values = series[n]
        others_moved = any(max(v) - min(v) >= MOVED_C for o, v in series.items() if o != n)
        believable = [
            m for o, m in middle.items() if o != n and PLAUSIBLE_C[0] <= m <= PLAUSIBLE_C[1]
        ]
        reason, never_moves = "", False
        if n in stuck and max(values) - min(values) < MOVED_C:
            reason, never_moves = "it never moved in an earlier run", True
        elif not PLAUSIBLE_C[0] <= middle[n] <= PLAUSIBLE_C[1]:
            reason = f"no drive is at {middle[n]:.0f} °C"
        elif (
            max(values) - min(values) < 0.1
            and lasted >= STUCK_AFTER_S
            and (others_moved or lasted >= 5 * STUCK_AFTER_S)
        ):
            reason, never_moves = f"it never moved in {lasted:.0f} s", True
        elif len(believable) >= 2 and abs(middle[n] - statistics.median(believable)) > APART_C:
            reason = (
                f"it is {abs(middle[n] - statistics.median(believable)):.0f} °C away from "
                "the others"
            )
        assessed.append(SensorReading(n, values[0], max(values), reason, never_moves))
    return assessed


def stuck_sensors(results: Iterable[StepResult], sample: str | None) -> frozenset[str]:
    """Return the sensors of a sample that never moved in one of these results."""
    own = (r for r in results if r.conditions.sample == sample)
    return frozenset(name for r in own for name in r.findings.stuck_sensors)


def plausible_temperatures(
    read: Mapping[str, float], stuck: Collection[str] = ()
) -> dict[str, float]:
    """Return readings in degrees Celsius without those of a stuck or an impossible sensor."""
    low, high = PLAUSIBLE_C
    return {n: c for n, c in read.items() if n not in stuck and low <= c <= high}


def believed(samples: TemperatureSeries) -> frozenset[str]:
    """Return names of the sensors that can be believed, by all that is known of them."""
    return frozenset(r.name for r in assess_sensors(samples) if not r.set_aside)


def trusted_temperatures(
    samples: TemperatureSeries, good: frozenset[str] | None = None
) -> list[tuple[float, float]]:
    """(seconds, degrees) of the warmest sensor that can be believed.

    Parameters
    ----------
    good : set of str, optional
        The sensors to believe, where more is known of them than these samples tell.
    """
    names = believed(samples) if good is None else good
    return [
        (t, max(v for n, v in values.items() if n in names))
        for t, values in samples
        if names & set(values)
    ]


def seconds_above(warm: Sequence[tuple[float, float]], limit_c: float) -> float:
    """Return seconds at or above a limit, each reading held until the next."""
    return sum(b[0] - a[0] for a, b in pairwise(warm) if a[1] >= limit_c)


@dataclass(frozen=True)
class TemperatureSummary:
    """The temperature of a step, whether heat limited it, notes, and sensors that never moved."""

    temperature: TemperatureRange | None
    limit: Limit | None
    notes: tuple[str, ...]
    stuck: tuple[str, ...] = ()


def summarise_temperatures(
    passes: Iterable[tuple[TemperatureSeries, npt.NDArray[np.int64]]],
    sensors: Sequence[SensorReading],
    limit_c: float | None,
) -> TemperatureSummary:
    """Return the warmth of a step, by the sensors as the whole run shows them.

    Parameters
    ----------
    passes : sequence of (temperatures, slices)
        Of each pass whose temperatures were read.
    sensors : sequence of SensorReading
        From `assess_sensors`, of all readings of the run: a sensor is believed in all of its steps
        or in none.
    limit_c : float or None
        The drive's own limit, or the sheet's.
    """
    good = frozenset(r.name for r in sensors if not r.set_aside)
    shown: TemperatureRange | None = None
    limit: Limit | None = None
    above, places, notes = 0.0, set[str](), []
    for series, slices in passes:
        places |= {n for _, values in series for n in values}
        warm = trusted_temperatures(series, good)
        if warm:
            peak = max(c for _, c in warm)
            shown = TemperatureRange(
                shown.start_c if shown else warm[0][1], max(shown.peak_c, peak) if shown else peak
            )
        limit = limit or heat_limit(slices, warm, limit_c)
        above += seconds_above(warm, limit_c) if limit_c is not None else 0.0
    if above:
        notes.append(f"{above:.0f} s at or above its limit of {limit_c:.0f} °C")
    notes += [
        f"sensor '{r.name}' ({r.peak_c:.0f} °C) is ignored: {r.set_aside}"
        for r in sensors
        if r.set_aside and r.name in places
    ]
    stuck = tuple(r.name for r in sensors if r.stuck and r.name in places)
    return TemperatureSummary(shown, limit, tuple(notes), stuck)


def _fall_at(rates: npt.NDArray[np.float64], at: int) -> tuple[int, float] | None:
    """Return where the rate fell around a moment, and to which share of the rate before, or None.

    The sensor is read once a second, and a drive may get a little warmer before it throttles.
    """
    window, later = (round(s * 1e9 / SLICE_NS) for s in (COINCIDENCE_S, LATER_S))
    best: tuple[int, float] | None = None
    for s in range(max(at - window, LEAST_SLICES), min(at + later, len(rates) - LEAST_SLICES)):
        before, after = rates[max(s - window, 0) : s].mean(), rates[s : s + window].mean()
        share = float(after / before) if before else 1.0
        if share < HOT_RATE_FRACTION and (best is None or share < best[1]):
            best = s, share
    return best


def heat_limit(
    slices: npt.NDArray[np.int64],
    warm: Sequence[tuple[float, float]],
    limit_c: float | None,
) -> Limit | None:
    """Return whether heat held a pass down: its rate fell when the temperature reached its limit.

    A fall at another time has another cause, such as a full write cache. A drive that was hot from
    the first moment may have been slow from then on, or not: nothing tells.

    Parameters
    ----------
    slices : int64, shape (n, 5)
        Of the pass; whole slices count.
    warm : sequence of (seconds, degrees Celsius)
        Of the pass, from `trusted_temperatures`.
    limit_c : float or None
        The drive's own limit, or the sheet's.
    """
    rates = slices[:-1, [0, 2]].sum(axis=1) / (SLICE_NS / 1e9)
    if len(rates) < 10 or limit_c is None or not warm:
        return None
    seconds = np.arange(len(rates)) * (SLICE_NS / 1e9)
    at = np.searchsorted([t for t, _ in warm], seconds, side="right") - 1
    degrees = np.array([warm[max(i, 0)][1] for i in at])
    # A drive that throttles cools below its limit while it does, and is fast again. Its sensor may
    # show a degree less than it throttles at.
    edges = [
        int(s)
        for near in (NEAR_LIMIT_C, 0.0)
        for s in np.flatnonzero(np.diff((degrees >= limit_c - near).astype(int)) > 0) + 1
    ]
    falls = [fall for s in edges if (fall := _fall_at(rates, s)) is not None]
    if not falls:
        return None
    since, share = falls[0]
    after = rates[since:]
    return Limit(
        LimitSource.HEAT,
        float(after.mean()),
        f"at {limit_c:.0f} °C it fell to {share:.0%} of its cool rate".replace("%", " %"),
    )
