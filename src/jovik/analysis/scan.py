"""A scan of the surface.

The shape of rate and access time from the first to the last address, and zones that stand out.
"""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from jovik.base.quantities import show_rate, show_size, show_time

EDGE_SHARE = 0.05
"""The outer and the inner rate are means over so much of the zones at either end."""
FAR = 6.0
"""Robust standard deviations below its neighbours, with `SLOW`, that make a zone slow."""
SLOW = 0.7
AROUND = 10
FALLING = 1.15
"""First-to-last ratio from which the rate is said to fall, as on a hard disk."""


@dataclass(frozen=True)
class Surface:
    """What a scan shows. Rates are bytes a second; `slow` and `unreadable` are numbers of zones."""

    zones: int
    zone_bytes: int
    first_bytes_s: float
    last_bytes_s: float
    median_bytes_s: float
    slowest_bytes_s: float
    access_ns: float | None
    slowest_access_ns: float | None
    slow: tuple[int, ...]
    unreadable: tuple[int, ...]

    @property
    def ratio(self) -> float:
        """First over last rate."""
        return self.first_bytes_s / self.last_bytes_s if self.last_bytes_s else math.inf

    def as_json(self) -> dict[str, Any]:
        """Plain data."""
        return asdict(self) | {"first_over_last": self.ratio if math.isfinite(self.ratio) else None}

    def words(self) -> list[str]:
        """What to tell a reader."""
        said = []
        if self.ratio >= FALLING:
            said.append(
                f"{show_rate(self.first_bytes_s)} at the first address, "
                f"{show_rate(self.last_bytes_s)} at the last: {self.ratio:.2f} to 1, "
                "as on a spinning medium"
            )
        else:
            said.append(
                f"even from the first to the last address ({show_rate(self.first_bytes_s)} and "
                f"{show_rate(self.last_bytes_s)})"
            )
        if self.access_ns is not None and self.slowest_access_ns is not None:
            said.append(
                f"access time {show_time(self.access_ns)}, in the slowest zone "
                f"{show_time(self.slowest_access_ns)}"
            )
        if self.slow:
            said.append(f"slow: {self._places(self.slow)}")
        if self.unreadable:
            said.append(
                f"unreadable: {self._places(self.unreadable)}; copy what matters off this drive"
            )
        return said

    def _places(self, numbers: Sequence[int]) -> str:
        shown = ", ".join(show_size(n * self.zone_bytes) for n in numbers[:5])
        more = f" and {len(numbers) - 5} more" if len(numbers) > 5 else ""
        return f"{len(numbers)} {'zone' if len(numbers) == 1 else 'zones'}, at {shown}{more}"


def surface(
    zone_bytes: int,
    rates_bytes_s: Sequence[float],
    access_ns: Sequence[float | None],
    errors: Sequence[int],
) -> Surface:
    """Judge a scan.

    Parameters
    ----------
    zone_bytes : int
    rates_bytes_s, access_ns, errors : one for each zone
        Rate 0 where nothing could be read.
    """
    rates = np.asarray(rates_bytes_s, dtype=np.float64)
    unreadable = tuple(i for i, e in enumerate(errors) if e)
    good = [float(r) for i, r in enumerate(rates) if not errors[i] and r > 0] or [0.0]
    edge = max(1, round(EDGE_SHARE * len(good)))
    times = [t for i, t in enumerate(access_ns) if t is not None and not errors[i]]
    return Surface(
        zones=len(rates),
        zone_bytes=zone_bytes,
        first_bytes_s=statistics.fmean(good[:edge]),
        last_bytes_s=statistics.fmean(good[-edge:]),
        median_bytes_s=statistics.median(good),
        slowest_bytes_s=min(good),
        access_ns=statistics.median(times) if times else None,
        slowest_access_ns=max(times) if times else None,
        slow=_slow(rates, unreadable),
        unreadable=unreadable,
    )


def _slow(
    rates: np.ndarray[Any, np.dtype[np.float64]], unreadable: Sequence[int]
) -> tuple[int, ...]:
    found = []
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
        if rate < SLOW * middle and math.log(middle / rate) > FAR * max(usual, 0.005):
            found.append(i)
    return tuple(found)
