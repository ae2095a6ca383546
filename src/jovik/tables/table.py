"""A table as plain data."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.base.interval import Interval
from jovik.base.quantities import digits_for, significant


@dataclass(frozen=True)
class Table:
    """Rows of text under a title.

    Parameters
    ----------
    right : columns of numbers
    optional_columns : columns that a narrow medium leaves out, the first of them first
    notes : lines below it, which change what a reader decides
    verdict : lines above it: the answer, for a medium that begins with it
    small : small print below the notes, which a terminal shows on request
    bar : the column that a terminal with room draws as bars, and what each row has there
    """

    title: str
    columns: Sequence[str]
    rows: Sequence[Sequence[str]]
    right: Sequence[int] = ()
    optional_columns: Sequence[int] = ()
    notes: Sequence[str] = ()
    verdict: Sequence[str] = ()
    small: Sequence[str] = ()
    bar: tuple[int, Sequence[float | None]] | None = None

    def __post_init__(self) -> None:
        # A sentence that does not apply is empty, so that its caller needs no condition.
        for name in ("notes", "verdict", "small"):
            object.__setattr__(self, name, [x for x in getattr(self, name) if x.strip()])

    @property
    def every_note(self) -> list[str]:
        """Return notes and small print, for a medium that has room for both."""
        return [*self.notes, *self.small]


def interval_words(value: Interval, scale: float = 1.0) -> str:
    """Return ``7,050 to 7,400`` with enough digits to distinguish the ends, or a dash."""
    if value.low is None or value.high is None:
        return "-"
    low, high = value.low * scale, value.high * scale
    digits = digits_for(low, high)
    return f"{significant(low, digits)} to {significant(high, digits)}"


def figure_words(value: Interval, scale: float = 1.0) -> str:
    """``1.012 (1.010 to 1.013)``: a figure and its interval, both to the same place."""
    if value.low is None or value.high is None:
        return significant(value.median * scale)
    digits = digits_for(value.low * scale, value.high * scale)
    return f"{significant(value.median * scale, digits)} ({interval_words(value, scale)})"


def interval_json(value: Interval) -> dict[str, float | None]:
    """Median, low and high."""
    return {"median": value.median, "low": value.low, "high": value.high}
