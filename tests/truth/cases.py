"""A case of the suite: what was made, what is true of it, and whether what Jovik says is."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Outcome:
    """One case: the truth and the statement in words, and whether they agree."""

    truth: str
    said: str
    right: bool


@dataclass(frozen=True)
class Family:
    """Cases of one kind, made from a seed, and the share of them that has to be right.

    `most` is an upper bound on the share instead, for intervals that must not hold too often.
    """

    name: str
    make: Callable[[int], Outcome]
    least: float
    full: int
    short: int
    most: float = 1.0


@dataclass(frozen=True)
class Rate:
    """A family's result."""

    family: Family
    right: int
    of: int
    wrong: tuple[tuple[int, Outcome], ...]

    @property
    def share(self) -> float:
        """Right cases among all."""
        return self.right / self.of

    def holds(self, sure: float = 0.0) -> bool:
        """Whether the share is as it has to be, with an allowance for chance of `sure` errors."""
        spread = sure * (self.family.least * (1 - self.family.least) / self.of) ** 0.5
        over = sure * (self.family.most * (1 - self.family.most) / self.of) ** 0.5
        return self.family.least - spread <= self.share <= self.family.most + over


def run(family: Family, seeds: Iterable[int]) -> Rate:
    """Make every case of a family."""
    outcomes = [(seed, family.make(seed)) for seed in seeds]
    wrong = tuple((s, o) for s, o in outcomes if not o.right)
    return Rate(family, len(outcomes) - len(wrong), len(outcomes), wrong)
