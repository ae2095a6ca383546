"""Percentiles of latency from the buckets that a pass recorded."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from jovik.base.histogram import MIDDLE_NS
from jovik.base.trace import Latencies

SHOWN: tuple[tuple[str, float], ...] = (
    ("p50", 0.5),
    ("p95", 0.95),
    ("p99", 0.99),
    ("p99_9", 0.999),
)
"""The percentiles that are reported, and their shares."""


def merge(parts: Iterable[Latencies]) -> Latencies | None:
    """Several passes or directions as one; None when there are none."""
    found = list(parts)
    if not found:
        return None
    counts = np.sum([p.counts for p in found], axis=0)
    return Latencies(
        counts,
        min(p.minimum_ns for p in found),
        max(p.maximum_ns for p in found),
        sum(p.sum_ns for p in found),
    )


def percentile_ns(latencies: Latencies, share: float) -> float:
    """The latency that this share of I/Os does not exceed: the nearest rank, at most 1 % off.

    Parameters
    ----------
    share : float
        From 0 to 1.
    """
    rank = max(int(np.ceil(share * latencies.total)), 1)
    bucket = int(np.searchsorted(np.cumsum(latencies.counts), rank))
    return float(min(max(MIDDLE_NS[bucket], latencies.minimum_ns), latencies.maximum_ns))


def summary_ns(latencies: Latencies) -> dict[str, float]:
    """Mean, percentiles, minimum and maximum in nanoseconds.

    Minimum, maximum and mean are exact.
    """
    shown = {name: percentile_ns(latencies, share) for name, share in SHOWN}
    return {
        "mean": latencies.sum_ns / latencies.total,
        **shown,
        "min": latencies.minimum_ns,
        "max": latencies.maximum_ns,
    }
