"""Percentiles of latency from the buckets that a pass recorded."""

from __future__ import annotations

from jovik.base.trace import Latencies

REPORTED_PERCENTILES: tuple[tuple[str, float], ...] = (
    ("p50", 0.5),
    ("p95", 0.95),
    ("p99", 0.99),
    ("p99_9", 0.999),
)
"""The percentiles that are reported, and their shares."""


MIN_IOS_BEYOND = 10
"""So many I/Os have to lie beyond a percentile: of fewer, it is the maximum in disguise."""


def percentile_ns(latencies: Latencies, share: float) -> float | None:
    """Return a percentile in nanoseconds, or None if there are too few I/Os."""
    if latencies.total * (1 - share) < MIN_IOS_BEYOND - 1e-6:
        return None
    return latencies.percentile_ns(share)


def summary_ns(latencies: Latencies) -> dict[str, float | None]:
    """Mean, percentiles, minimum and maximum in nanoseconds.

    Minimum, maximum and mean are exact; a percentile is None if too few I/Os tell it.
    """
    shown = {name: percentile_ns(latencies, share) for name, share in REPORTED_PERCENTILES}
    return {
        "mean": latencies.sum_ns / latencies.total,
        **shown,
        "min": latencies.minimum_ns,
        "max": latencies.maximum_ns,
    }
