"""A figure with its 95 % interval."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Interval:
    """A figure with its 95 % interval.

    `low` and `high` are None if there is nothing to tell them from.
    """

    median: float
    low: float | None = None
    high: float | None = None

    @property
    def known(self) -> bool:
        """Return True if there is an interval at all."""
        return self.low is not None and self.high is not None

    @property
    def least(self) -> float:
        """Return the low end, or the median if the interval is unknown."""
        return self.median if self.low is None else self.low

    @property
    def most(self) -> float:
        """Return the high end, or the median if the interval is unknown."""
        return self.median if self.high is None else self.high

    def below(self, value: float) -> bool:
        """Return True if the whole interval is known to lie below the value."""
        return self.high is not None and self.high < value

    def above(self, value: float) -> bool:
        """Return True if the whole interval is known to lie above the value."""
        return self.low is not None and self.low > value

    def holds(self, value: float) -> bool:
        """Return True if the interval is known and contains the value."""
        return self.known and self.least <= value <= self.most

    def apart(self, other: Interval) -> bool:
        """Return True if both intervals are known and do not overlap."""
        return self.known and other.known and (self.least > other.most or other.least > self.most)

    @property
    def half_width(self) -> float | None:
        """Return half the interval's width as a fraction of the median, or None if unknown."""
        if self.low is None or self.high is None or not self.median:
            return None
        return (self.high - self.low) / 2 / self.median

    def inverse(self) -> Interval:
        """Return the interval of one over the value."""
        low, high = self.low, self.high
        return Interval(1 / self.median, 1 / high if high else None, 1 / low if low else None)

    def scaled(self, factor: float) -> Interval:
        """Return the same in another unit."""
        return Interval(
            self.median * factor,
            None if self.low is None else self.low * factor,
            None if self.high is None else self.high * factor,
        )
