"""Heat as a cause: falls that coincide with the limit, falls that do not, and none."""

from __future__ import annotations

import math

import numpy as np

from jovik.analysis.temperature import heat_limit
from jovik.base.trace import SLICE_NS
from jovik.simulator import load_model
from jovik.simulator.twin_heat import WarmTrace, fitted_heat
from tests.truth.cases import Family, Outcome

LIMIT_C = 70.0


def _case(seed: int, *, fall_after_s: float | None, coincides: bool) -> Outcome:
    """A pass of three minutes that gets warm; its rate falls so long after the limit, or never."""
    rng = np.random.default_rng([seed, 50])
    slices = np.zeros((1801, 5), np.int64)
    at = rng.uniform(40, 80)
    time_s = rng.uniform(20, 60)
    noise = 1 + rng.uniform(0.01, 0.06) * rng.normal(size=1801)
    rates = 1e8 * noise
    if fall_after_s is not None:
        since = round(10 * (at + fall_after_s))
        rates[since:] *= rng.uniform(0.3, 0.8)
    slices[:, 2] = np.maximum(rates, 0).astype(np.int64)
    # A first-order rise to above the limit, read once a second.
    top = LIMIT_C + rng.uniform(2, 10)
    warm = [
        (float(t), float(top - (top - LIMIT_C) * np.exp((at - t) / time_s))) for t in range(181)
    ]
    found = heat_limit(slices, warm, LIMIT_C)
    said = "no heat" if found is None else found.note
    return Outcome(f"falls after {fall_after_s}", said, (found is not None) == coincides)


def _fitted(seed: int) -> Outcome:
    """A drive that warms as a mass behind a resistance, read in whole degrees once a second."""
    rng = np.random.default_rng([seed, 51])
    idle, time_s = rng.uniform(25, 45), math.exp(rng.uniform(math.log(20), math.log(600)))
    full = idle + rng.uniform(10, 50)
    behaviour = load_model("comet").behaviour
    lasts_s, most_load = int(rng.uniform(60, 600)), rng.uniform(0.3, 1)
    warm, traces = idle + rng.uniform(0, 2), []
    for s, load in ((lasts_s, most_load), (lasts_s // 3, most_load * 0.1), (20, 0.5)):
        at = np.arange(1, s + 1, dtype=float)
        end = idle + (full - idle) * load
        true = end + (warm - end) * np.exp(-at / time_s)
        rates = np.full(s * 10**9 // SLICE_NS, load * behaviour.read_rate)
        read = np.round(true + rng.normal(0, 0.2, s))
        traces.append(WarmTrace("a read", at, read, rates, held_back=False))
        warm = float(true[-1])
    found = fitted_heat(traces, behaviour)
    if found is None:
        return Outcome("heat", "nothing", False)
    given = dict(zip(("idle", "full", "time"), (idle, full, time_s * 1e9), strict=True))
    holds = [p.value.holds(given[p.name]) for p in found[1]]
    said = ", ".join(f"{p.name} {p.value.least:.3g} to {p.value.most:.3g}" for p in found[1])
    return Outcome(f"{idle:.1f} to {full:.1f} °C in {time_s:.0f} s", said, all(holds))


FAMILIES = (
    Family("the heat of a twin", _fitted, 0.9, 200, 20),
    Family(
        "a fall at the limit is heat",
        lambda s: _case(s, fall_after_s=s % 8, coincides=True),
        0.97,
        1000,
        60,
    ),
    Family(
        "a fall at another time is not heat",
        lambda s: _case(s, fall_after_s=25 + s % 40, coincides=False),
        0.99,
        1000,
        60,
    ),
    Family(
        "warm without a fall is not heat",
        lambda s: _case(s, fall_after_s=None, coincides=False),
        0.99,
        1000,
        60,
    ),
)
