"""The latencies of a simulated pass.

Drawn around what Little's law gives, and given to all its I/Os.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from jovik.base import histogram
from jovik.base.io_session import Workload
from jovik.base.trace import Latencies
from jovik.simulator.parameters import Behaviour

SAMPLES = 4000
"""Latencies drawn for a pass, whose fractions then apply to all its I/Os."""


def latencies(
    parameters: Behaviour,
    work: Workload,
    slices: npt.NDArray[np.int64],
    elapsed_ns: int,
    rng: np.random.Generator,
) -> dict[str, Latencies]:
    """Latencies spread around the mean that Little's law gives (in flight = rate x latency)."""
    whole = int(slices[:, [1, 3]].sum())
    histograms = {}
    for name, column in (("read", 1), ("write", 3)):
        ios = int(slices[:, column].sum())
        if not ios:
            continue
        mean = work.depth * work.workers * elapsed_ns / whole
        if work.rate_limit_bytes_s is not None:
            mean = min(mean, parameters.service_ns(work, parameters.write_rate))
            pause_ns = elapsed_ns / whole - mean
            if parameters.sleep_after and pause_ns > parameters.sleep_after:
                mean += parameters.wake_time
        sigma = parameters.spreads[name == "write"]
        drawn = mean * np.exp(rng.normal(-sigma * sigma / 2, sigma, SAMPLES))
        # One I/O in five hundred waits for something else in the drive.
        drawn[rng.random(SAMPLES) < 0.002] *= 8
        drawn *= mean / drawn.mean()
        shares = (
            np.bincount(histogram.bucket_of(drawn.astype(np.int64)), minlength=histogram.COUNT)
            / SAMPLES
        )
        counts = rng.multinomial(ios, shares).astype(np.int64)
        hit = np.flatnonzero(counts)
        low, high = int(histogram.LOW_NS[hit[0]]), int(histogram.HIGH_NS[hit[-1]] - 1)
        total = float((counts * histogram.MIDDLE_NS).sum())
        histograms[name] = Latencies(
            counts, low, high, round(min(max(total, low * ios), high * ios))
        )
    return histograms
