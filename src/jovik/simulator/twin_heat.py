"""The heat of a twin: how warm the drive became in one run, and the rate that it had meanwhile.

The temperature follows the load as in `jovik.simulator.parameters.Heat`, a mass behind a
resistance. For a given time constant it is linear in the other parameters, so that the search is
over that constant alone.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from jovik.analysis.statistics import interval
from jovik.base.interval import Interval
from jovik.base.trace import SLICE_NS
from jovik.simulator.parameters import Behaviour, Heat
from jovik.simulator.twin_from_others import Parameter

Floats = npt.NDArray[np.float64]
LEAST_READINGS = 8
"""A pass needs this many readings: its first temperature is fitted, too."""
LEAST_RISE_C = 3.0
"""A drive that warmed up by less shows nothing but the steps of its sensor."""
START_SPREAD_C = 3.0
"""Standard deviation of the first reading of a run around the temperature at rest."""
QUANTISED = 1 / math.sqrt(12)
"""The spread of a reading, in steps of its sensor (Widrow and Kollar, "Quantization Noise")."""
TIMES_S = np.geomspace(5, 3 * 3600, 120)
"""Time constants that are tried."""
LIKELY_DROP = 3.84
"""The 95 % quantile of chi-squared with one degree of freedom, for a profile likelihood."""
QUANTILE = 1.96
LEAST_LOAD = 0.1
"""A run must load the drive by this fraction: `full` would be extrapolated too far otherwise."""
EDGE_S = 2.0
"""A sensor that is read once a second shows a change of the rate this much later at most."""
CLEAR_FALL = 0.8
"""A throttled drive has at most this fraction of its rate."""


@dataclass(frozen=True)
class WarmTrace:
    """A pass with readings.

    Attributes
    ----------
    phrase : str
        Its step.
    at_s, degrees_c : float64, shape (n,)
        Time since the pass began, and the warmest sensor that can be believed.
    rates : float64, shape (m,), bytes/s
        In each slice of `SLICE_NS`.
    held_back : bool
        Heat limited the step.
    """

    phrase: str
    at_s: Floats
    degrees_c: Floats
    rates: Floats
    held_back: bool


def fitted_heat(
    traces: Sequence[WarmTrace], behaviour: Behaviour
) -> tuple[Heat, tuple[Parameter, ...]] | None:
    """Return the heat that the passes of a run determine with its parameters, or None.

    Parameters
    ----------
    traces : sequence of WarmTrace
        In the order of the run.
    behaviour : Behaviour
        The twin's: full load is its highest rate.
    """
    used = [t for t in traces if len(t.at_s) >= LEAST_READINGS]
    if not used:
        return None
    read = np.concatenate([t.degrees_c for t in used])
    most = max(behaviour.read_rate, behaviour.write_rate)
    loads = [_loads(t, most) for t in used]
    load = min(max(float(x.max()) for x in loads), 1.0)
    if np.ptp(read) < LEAST_RISE_C or load < LEAST_LOAD:
        return None
    fits = [_at_time(used, loads, time_s) for time_s in TIMES_S]
    costs = np.array([f.cost for f in fits])
    best = int(costs.argmin())
    rounded = QUANTISED * float(np.diff(np.unique(read)).min())
    variance = max(costs[best] / max(len(read) - len(used) - 3, 1), rounded**2)
    # Errors of neighbouring readings are alike, and one that equals the reading before it adds
    # nothing: as many readings as are independent count.
    changes = sum(1 + np.count_nonzero(np.diff(t.degrees_c)) for t in used)
    known = variance * len(read) / min(fits[best].independent, changes)
    likely = np.flatnonzero(costs <= costs[best] + LIKELY_DROP * known)
    if likely[0] == 0 or likely[-1] == len(TIMES_S) - 1:
        # So short a time, or so long a one, that the readings hold no curve.
        return None

    def span(values: Sequence[float], spreads: Sequence[float], load: float) -> Interval:
        # A plateau is rounded the same way for as long as it lasts.
        ends = [
            values[k] + sign * QUANTILE * math.hypot(spreads[k] * math.sqrt(known), rounded / load)
            for k in likely.tolist()
            for sign in (-1, 1)
        ]
        return Interval(values[best], min(ends), max(ends))

    idle = span([f.idle for f in fits], [f.idle_spread for f in fits], 1.0)
    full = span([f.full for f in fits], [f.full_spread for f in fits], load)
    # The grid is finer than most readings are sure, but not than all.
    ns = [float(TIMES_S[k]) * 1e9 for k in (best, likely[0] - 1, likely[-1] + 1)]
    phrases = tuple(dict.fromkeys(t.phrase for t in used if np.ptp(t.degrees_c) >= LEAST_RISE_C))
    found = [
        Parameter("idle", idle, phrases),
        Parameter("full", full, phrases),
        Parameter("time", Interval(*ns), phrases),
    ]
    throttling = _throttling([t for t in used if t.held_back])
    heat = Heat.model_construct(
        **{name: field.default for name, field in Heat.model_fields.items()}
        | {p.name: p.value.median for p in (*found, *throttling)}
        | {"time": round(ns[0])}
    )
    return heat, (*found, *throttling)


@dataclass(frozen=True)
class _Fit:
    """The other parameters at one time constant; spreads are for readings of spread 1."""

    idle: float
    full: float
    idle_spread: float
    full_spread: float
    cost: float
    independent: float


def _loads(trace: WarmTrace, most: float) -> Floats:
    """Return the load before each reading, since the one before: a fraction of the highest rate."""
    moved = np.concatenate([[0.0], np.cumsum(trace.rates / most)])
    times = np.arange(len(moved)) * (SLICE_NS / 1e9)
    at = np.interp(trace.at_s, times, moved)
    taken = np.diff(at, prepend=0.0)
    took = np.diff(trace.at_s, prepend=0.0) / (SLICE_NS / 1e9)
    load: Floats = np.divide(taken, took, out=np.zeros_like(taken), where=took > 0)
    return load


def _at_time(traces: Sequence[WarmTrace], loads: Sequence[Floats], time_s: float) -> _Fit:
    """Solve for the temperatures at rest and under full load, and each pass's first one."""
    rows = sum(len(t.at_s) for t in traces) + 1
    matrix = np.zeros((rows, 2 + len(traces)))
    wanted = np.zeros(rows)
    begin = 0
    for n, (trace, load) in enumerate(zip(traces, loads, strict=True)):
        left = np.exp(-np.diff(trace.at_s, prepend=0.0) / time_s)
        warmed, way = 0.0, np.zeros(len(left))
        for k, (kept, now) in enumerate(zip(left.tolist(), load.tolist(), strict=True)):
            warmed = way[k] = warmed * kept + now * (1 - kept)
        end = begin + len(way)
        start = np.exp(-trace.at_s / time_s)
        matrix[begin:end, 0] = 1 - start - way
        matrix[begin:end, 1] = way
        matrix[begin:end, 2 + n] = start
        wanted[begin:end] = trace.degrees_c
        begin = end
    matrix[-1, 0] = QUANTISED / START_SPREAD_C
    wanted[-1] = traces[0].degrees_c[0] * matrix[-1, 0]
    found, *_ = np.linalg.lstsq(matrix, wanted, rcond=None)
    off = wanted - matrix @ found
    spreads = np.sqrt(np.diag(np.linalg.pinv(matrix.T @ matrix)))
    total = float(off @ off)
    again = float(off[1:] @ off[:-1]) / total if total else 0.0
    alike = min(max(again, 0.0), 0.99)
    return _Fit(
        float(found[0]),
        float(found[1]),
        float(spreads[0]),
        float(spreads[1]),
        total,
        max(rows * (1 - alike) / (1 + alike), 3.0),
    )


def _throttling(traces: Sequence[WarmTrace]) -> list[Parameter]:
    """Return where throttling begins and ends, and the rate that is left, if it was seen."""
    begins: list[float] = []
    ends: list[float] = []
    slow_degrees: list[float] = []
    left: list[float] = []
    for trace in traces:
        rates = trace.rates[:-1]
        if len(rates) < LEAST_READINGS:
            continue
        window = round(EDGE_S * 1e9 / SLICE_NS)
        smooth = np.convolve(rates, np.ones(window) / window, mode="valid")
        low, high = np.quantile(smooth, (0.05, 0.95))
        if low > CLEAR_FALL * high:
            continue
        slow = rates < math.sqrt(max(low, 1.0) * high)
        if slow.all() or not slow.any():
            continue
        fast_rate, slow_rate = float(np.median(rates[~slow])), float(np.median(rates[slow]))
        left.append(slow_rate / fast_rate)
        seconds = np.arange(len(rates)) * (SLICE_NS / 1e9)
        degrees = np.interp(seconds, trace.at_s, trace.degrees_c)
        slow_degrees.append(float(degrees[slow].min()))
        change = np.diff(slow.astype(int))
        begins += [_near(degrees, k, np.max) for k in np.flatnonzero(change > 0).tolist()]
        ends += [_near(degrees, k, np.min) for k in np.flatnonzero(change < 0).tolist()]
    if not begins:
        return []
    names = tuple(dict.fromkeys(t.phrase for t in traces))
    # A drive that was never fast again resumes somewhere below the coolest moment.
    coolest = Parameter("resume_at", Interval(min(slow_degrees)), ())
    return [
        Parameter("throttle_at", interval(begins), names),
        Parameter("resume_at", interval(ends), names) if ends else coolest,
        Parameter("throttle_share", interval(left), names),
    ]


def _near(degrees: Floats, at: int, of: Callable[[Floats], float]) -> float:
    window = round(EDGE_S * 1e9 / SLICE_NS)
    return float(of(degrees[max(at - window, 0) : at + window + 1]))
