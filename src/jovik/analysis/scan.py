"""A scan of the surface.

The shape of rate and access time from the first to the last address, and zones that stand out.
"""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from typing import Any

import numpy as np

from jovik.analysis.statistics import interval, student_quantile
from jovik.base.findings import ScanFinding
from jovik.base.interval import Interval
from jovik.base.quantities import show_rate, show_size, show_time
from jovik.base.trace import ScanRecord

EDGE_SHARE = 0.05
"""The outer and the inner rate are means over so much of the zones at either end."""
SLOW_ZONE_DEVIATIONS = 6.0
"""Robust standard deviations below its neighbours, with `SLOW`, that make a zone slow."""
SLOW = 0.7
AROUND = 10
FALLING = 1.15
"""From this ratio of first to last on, the rate falls, as on a hard disk."""


def scan_notes(found: ScanFinding) -> list[str]:
    """Return the notes for the reader."""
    notes = []
    if found.ratio >= FALLING:
        notes.append(
            f"{show_rate(found.first_bytes_s)} in the first zones, "
            f"{show_rate(found.last_bytes_s)} in the last: {found.ratio:.2f} to 1, "
            "as on a spinning medium"
        )
    else:
        notes.append(
            f"even from the first zones to the last ({show_rate(found.first_bytes_s)} and "
            f"{show_rate(found.last_bytes_s)})"
        )
    if found.access_ns is not None and found.slowest_access_ns is not None:
        whole = found.access_low_ns is not None and found.access_high_ns is not None
        span = (
            f" over the whole span ({show_time(found.access_low_ns)} to "
            f"{show_time(found.access_high_ns)})"
            if found.access_low_ns is not None and found.access_high_ns is not None
            else " within a zone"
        )
        within = ", within" if whole else ", in"
        notes.append(
            f"access time {show_time(found.access_ns)}{span}{within} the slowest zone "
            f"{show_time(found.slowest_access_ns)}"
        )
    if found.slow:
        notes.append(f"slow: {_places(found, found.slow)}")
    if found.unreadable:
        notes.append(
            f"unreadable: {_places(found, found.unreadable)}; copy important data off this drive"
        )
    return notes


def _places(found: ScanFinding, numbers: Sequence[int]) -> str:
    shown = ", ".join(show_size(n * found.zone_bytes) for n in numbers[:5])
    more = f" and {len(numbers) - 5} more" if len(numbers) > 5 else ""
    return f"{len(numbers)} {'zone' if len(numbers) == 1 else 'zones'}, at {shown}{more}"


def scan_finding(record: ScanRecord) -> ScanFinding:
    """Judge the zones of a scan."""
    zone_bytes, errors = record.zone_bytes, record.errors
    rates_bytes_s, access_ns = record.rate_bytes_s, record.access_ns
    rates = np.asarray(rates_bytes_s, dtype=np.float64)
    unreadable = tuple(i for i, e in enumerate(errors) if e)
    good = [float(r) for i, r in enumerate(rates) if not errors[i] and r > 0] or [0.0]
    edge = max(1, round(EDGE_SHARE * len(good)))
    times = [t for i, t in enumerate(access_ns) if t is not None and not errors[i]]
    whole = interval(record.whole_access_ns) if record.whole_access_ns else None
    mean = _mean_rate(good)
    return ScanFinding(
        zones=len(rates),
        zone_bytes=zone_bytes,
        first_bytes_s=statistics.fmean(good[:edge]),
        last_bytes_s=statistics.fmean(good[-edge:]),
        median_bytes_s=statistics.median(good),
        slowest_bytes_s=min(good),
        access_ns=whole.median if whole else statistics.median(times) if times else None,
        slowest_access_ns=max(times) if times else None,
        slow=_slow(rates, unreadable),
        unreadable=unreadable,
        access_low_ns=whole.low if whole else None,
        access_high_ns=whole.high if whole else None,
        mean_bytes_s=mean.median,
        mean_low_bytes_s=mean.low,
        mean_high_bytes_s=mean.high,
    )


def _mean_rate(good: Sequence[float]) -> Interval:
    """Return the rate over all zones and its 95 % interval.

    Zones differ by where they lie, which is no noise: its variance is read from neighbours (von
    Neumann, "Distribution of the ratio of the mean square successive difference to the variance",
    Annals of Mathematical Statistics 1941), of the time for a byte, whose mean is that of the scan.
    """
    if min(good) <= 0:
        return Interval(0.0)
    slowness = 1 / np.asarray(good)
    middle = float(slowness.mean())
    if len(good) < 4:
        return Interval(1 / middle)
    spread = float((np.diff(slowness) ** 2).sum()) / 2 / (len(good) - 1)
    reach = student_quantile(len(good) * 2 / 3) * math.sqrt(spread / len(good))
    low = 1 / (middle + reach)
    return Interval(1 / middle, low, 1 / (middle - reach) if middle > reach else None)


def _slow(
    rates: np.ndarray[Any, np.dtype[np.float64]], unreadable: Sequence[int]
) -> tuple[int, ...]:
    slow = []
    logs = np.log(np.maximum(rates, 1.0))
    usual = (
        1.4826 * float(np.median(np.abs(np.diff(logs)))) / math.sqrt(2) if len(logs) > 2 else 0.0
    )
    for i, rate in enumerate(rates):
        near = [
            rates[j]
            for j in range(max(0, i - AROUND), min(len(rates), i + AROUND + 1))
            if j != i and j not in unreadable
        ]
        if i in unreadable or not near or rate <= 0:
            continue
        middle = float(np.median(near))
        if rate < SLOW * middle and math.log(middle / rate) > SLOW_ZONE_DEVIATIONS * max(
            usual, 0.005
        ):
            slow.append(i)
    return tuple(slow)
