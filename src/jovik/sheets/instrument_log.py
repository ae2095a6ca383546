"""The log of an instrument beside a run: time stamps and values from a table."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

from jovik.base.errors import UsageError
from jovik.base.limits import LARGEST_READING, LOG_LINES
from jovik.base.quantities import parse_time
from jovik.sheets.reading import decimal_comma, number_with_point, parse_moment, table_rows

MIN_LOG_VALUES = 2
LATEST_S = 253_402_300_800.0
"""The end of the year 9999, seconds since the epoch."""


@dataclass(frozen=True)
class InstrumentLog:
    """Values in order of time.

    Attributes
    ----------
    seconds : tuple of float
        Since the epoch where `clock`, else since a mark of the instrument's own.
    values : tuple of float
    clock : bool
        Whether the time stamps are of a clock.
    """

    seconds: tuple[float, ...]
    values: tuple[float, ...]
    clock: bool


@dataclass(frozen=True)
class RunLog:
    """A log that was laid beside a run, as the shelf keeps it.

    Attributes
    ----------
    seconds : tuple of float
        Since the first pass of the run began.
    readings : tuple of float
        In `unit`.
    method, instrument : str
        How it was taken, in the user's words; empty if they were not given.
    """

    run: str
    quantity: str
    unit: str
    seconds: tuple[float, ...]
    readings: tuple[float, ...]
    written: str = ""
    method: str = ""
    instrument: str = ""


def read_log(text: str, where: str) -> InstrumentLog:
    """Return a log from a table whose first column is the time and whose second the value.

    Times are seconds, or clock times as ISO 8601 or as day.month.year (local time if they name no
    zone). A first line without a number is a heading. Semicolons and tabs separate cells with
    decimal commas.

    Raises
    ------
    UsageError
        With the line at fault, or that there are too few values.
    """
    seconds: list[float] = []
    values: list[float] = []
    clock: bool | None = None
    comma = decimal_comma(text)
    for count, (number, cells) in enumerate(table_rows(text, where), start=1):
        if count > LOG_LINES:
            raise UsageError(f"{where} has more than {LOG_LINES:,} lines")
        if len(cells) < MIN_LOG_VALUES:
            raise UsageError(f"{where}, line {number}: a time and a value are wanted")
        try:
            value = float(number_with_point(cells[1].strip(), comma=comma))
            at, of_clock = _time(number_with_point(cells[0].strip(), comma=comma))
        except ValueError:
            if count == 1:
                continue
            raise UsageError(
                f"{where}, line {number}: '{cells[0]}', '{cells[1]}' are not a time and a number",
                "times are seconds, or 2026-11-23T14:05:07",
            ) from None
        if not (abs(value) <= LARGEST_READING and abs(at) <= LATEST_S):
            raise UsageError(
                f"{where}, line {number}: '{cells[0]:.40}' and '{cells[1]:.40}' are not a time and "
                "a value of any instrument"
            )
        if clock is not None and clock != of_clock:
            raise UsageError(f"{where}, line {number}: times are of a clock here, and were not")
        clock = of_clock
        seconds.append(at)
        values.append(value)
    if len(seconds) < MIN_LOG_VALUES:
        raise UsageError(f"{where} has fewer than {MIN_LOG_VALUES} values")
    if any(b < a for a, b in pairwise(seconds)):
        raise UsageError(f"{where}: its times do not rise")
    return InstrumentLog(tuple(seconds), tuple(values), bool(clock))


def _time(text: str) -> tuple[float, bool]:
    try:
        return float(text), False
    except ValueError:
        pass
    try:
        return parse_moment(text).timestamp(), True
    except ValueError:
        return parse_time(text) / 1e9, False
