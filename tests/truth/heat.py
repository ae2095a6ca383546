"""Heat as a cause: falls that coincide with the limit, falls that do not, and none."""

from __future__ import annotations

import numpy as np

from jovik.analysis.temperature import heat_limit
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


FAMILIES = (
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
