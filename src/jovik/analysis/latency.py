"""Percentiles of latency from the buckets that a pass recorded."""

from __future__ import annotations

from jovik.base.trace import Latencies

SHOWN: tuple[tuple[str, float], ...] = (
    ("p50", 0.5),
    ("p95", 0.95),
    ("p99", 0.99),
    ("p99_9", 0.999),
)
"""The percentiles that are reported, and their shares."""


def summary_ns(latencies: Latencies) -> dict[str, float]:
    """Mean, percentiles, minimum and maximum in nanoseconds.

    Minimum, maximum and mean are exact.
    """
    shown = {name: latencies.percentile_ns(share) for name, share in SHOWN}
    return {
        "mean": latencies.sum_ns / latencies.total,
        **shown,
        "min": latencies.minimum_ns,
        "max": latencies.maximum_ns,
    }
