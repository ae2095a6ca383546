"""A whole run along a time axis: its unit, and its steps as bands."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby
from typing import Any, Protocol, TypeVar

from jovik.charts.style import Theme

NARROWEST = 0.022
"""Share of the width that a step's number takes."""
MINUTES_FROM_S = 300.0


class Timed(Protocol):
    """A pass with its step's place and its place in time, seconds since the first pass began."""

    @property
    def step(self) -> int:
        """The place of its step in the run, from 1."""

    @property
    def start_s(self) -> float:
        """When it began."""

    @property
    def end_s(self) -> float:
        """When it ended."""


T = TypeVar("T", bound=Timed)


def time_unit(whole_s: float) -> tuple[float, str]:
    """Seconds in the unit of the axis, and its word."""
    return (60.0, "minutes") if whole_s >= MINUTES_FROM_S else (1.0, "seconds")


def by_step(passes: Sequence[T]) -> list[list[T]]:
    """Neighbouring passes of one step together."""
    return [list(g) for _, g in groupby(passes, key=lambda p: p.step)]


def shade_steps(
    ax: Any, passes: Sequence[T], whole_s: float, unit: float, look: Theme, *, numbers: bool = True
) -> None:
    """Each step's share of the time, every other one shaded, with its number where it has room."""
    for mine in by_step(passes):
        start, end, step = mine[0].start_s, mine[-1].end_s, mine[0].step
        if step % 2:
            ax.axvspan(start / unit, end / unit, color=look.grid, alpha=0.55, linewidth=0)
        if numbers and (end - start) / whole_s >= NARROWEST:
            ax.annotate(
                str(step),
                ((start + end) / 2 / unit, 0.015),
                xycoords=("data", "axes fraction"),
                ha="center",
                fontsize=11,
                color=look.quiet,
            )
