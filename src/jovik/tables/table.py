"""A table as plain data."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.base.interval import Interval
from jovik.base.quantities import significant


@dataclass(frozen=True)
class Table:
    """Rows of text under a title.

    Parameters
    ----------
    right : columns of numbers
    spare : columns that a narrow medium does without, the first to go first
    notes : lines below it
    """

    title: str
    columns: Sequence[str]
    rows: Sequence[Sequence[str]]
    right: Sequence[int] = ()
    spare: Sequence[int] = ()
    notes: Sequence[str] = ()


def interval_words(value: Interval, scale: float = 1.0) -> str:
    """``7,050 to 7,400``, or a dash where nothing tells."""
    if value.low is None or value.high is None:
        return "-"
    return f"{significant(value.low * scale)} to {significant(value.high * scale)}"


def interval_json(value: Interval) -> dict[str, float | None]:
    """Median, low and high."""
    return {"median": value.median, "low": value.low, "high": value.high}
