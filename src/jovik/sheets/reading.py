"""Readings and notes: figures taken by other means, and the reviewer's remarks."""

from __future__ import annotations

import csv
import datetime
import io
import re
from collections.abc import Iterator
from dataclasses import dataclass

from jovik.base.errors import PhraseError, UsageError
from jovik.base.limits import LARGEST_READING, LINE_LETTERS, READINGS
from jovik.base.quantities import (
    parse_number,
    parse_rate,
    parse_time,
    show_rate,
    show_time,
    significant,
)
from jovik.base.toml_files import StrictModel, read_toml
from jovik.steps import IoStep, parse

RATE = re.compile(r"(?i)(iops|[kmgtp]?i?b/s)\s*\Z")
TIME = re.compile(r"(?i)\d\s*(ns|us|µs|ms|s|sec|min|h)\s*\Z|\d:\d")
COLUMNS = ("what", "value", "unit", "method", "instrument")
LOWER_IS_BETTER = ("s", "dB", "dBA", "dB(A)", "W", "g", "C")
"""Units in which less is more: time, noise, power, weight, heat."""


@dataclass(frozen=True)
class Reading:
    """One figure taken by other means.

    `unit` is ``s``, ``bytes/s`` or ``IOPS`` if it has one of those, otherwise as written.
    `phrase` is the step that measures the same quantity, if there is one.
    """

    what: str
    value: float
    unit: str
    method: str = ""
    instrument: str = ""
    phrase: str | None = None
    drive: str = ""
    written: str = ""

    @property
    def lower_is_better(self) -> bool:
        """Return whether less is better."""
        return self.unit in LOWER_IS_BETTER

    @property
    def shown(self) -> str:
        """Return the value for people."""
        if self.unit == "s":
            return show_time(self.value * 1e9)
        if self.unit == "bytes/s":
            return show_rate(self.value)
        return f"{significant(self.value)} {self.unit}".strip()

    def comparable(self, other: Reading) -> bool:
        """Return True if both are of the same quantity by the same method and instrument."""
        return self._taken == other._taken

    @property
    def _taken(self) -> tuple[str, ...]:
        words = (self.what, self.method, self.instrument)
        return (self.unit, *(x.casefold() for x in words))


@dataclass(frozen=True)
class Note:
    """Something written down: a pro, a con or a remark.

    `happened` is the day or the moment of an event (ISO 8601), `run` the run that it is about.
    """

    sort: str
    text: str
    written: str = ""
    happened: str | None = None
    run: str | None = None


_DAY_FIRST = re.compile(r"(\d{1,2})\.(\d{1,2})\.(\d{4})(?:[ T,]+(.*))?")
"""Dates as many instruments and spreadsheets write them: ``23.11.2026 14:05:07``."""


def parse_moment(text: str) -> datetime.datetime:
    """Return a moment from ISO 8601, or from day.month.year with a time (ValueError)."""
    if (match := _DAY_FIRST.fullmatch(text.strip())) is not None:
        day, month, year, clock = match.groups()
        text = f"{year}-{int(month):02}-{int(day):02}" + (f"T{clock}" if clock else "")
    return datetime.datetime.fromisoformat(text.strip())


def parse_when(text: str) -> str:
    """Return ``2026-11-23`` or ``2026-11-23T14:05`` as it is stored, also from ``23.11.2026``.

    Raises
    ------
    UsageError
        It is neither a day nor a moment.
    """
    try:
        moment = parse_moment(text)
    except ValueError:
        raise UsageError(
            f"'{text}' is not a date", "write 2026-11-23 or 2026-11-23T14:05"
        ) from None
    return moment.date().isoformat() if len(text.strip()) <= 10 else moment.isoformat()


def parse_reading(text: str, method: str = "", instrument: str = "") -> Reading:
    """``boot time=8.1s``, ``noise=31 dB(A)``, ``random read 4KiB depth 32=91,000 IOPS``.

    Raises
    ------
    UsageError
        There is no name, or no number.
    """
    what, equals, value = text.partition("=")
    if not equals or not what.strip() or not value.strip():
        raise UsageError(
            f"'{text}' is not a reading", "write NAME=VALUE with its unit, such as 'boot time=8.1s'"
        )
    amount, unit = _value(value.strip())
    if not abs(amount) <= LARGEST_READING:
        raise UsageError(f"{value.strip():.40} is larger than any reading")
    return Reading(
        what.strip(), amount, unit, method.strip(), instrument.strip(), _phrase(what.strip())
    )


def _value(text: str) -> tuple[float, str]:
    """Return the number and the unit of a reading.

    What has the form of a rate or a time and cannot be read as one is refused, and not taken for a
    number with a strange unit.
    """
    try:
        if RATE.search(text):
            return parse_rate(text)
        if TIME.search(text):
            return parse_time(text) / 1e9, "s"
        return parse_number(text)
    except ValueError as error:
        raise UsageError(str(error), "such as 8.1s, 9min 30s, 31 dB(A), 540MB/s or 12 g") from None


def _phrase(what: str) -> str | None:
    """Return the kind of step that measures the same quantity, where the name is one."""
    try:
        step = parse(what)
    except PhraseError:
        return None
    return step.kind if isinstance(step, IoStep) else None


SEPARATORS = {";": "semicolons", "\t": "tabs", ",": "commas"}
"""Possible separators of a table's cells."""


def _mark(text: str) -> str:
    first = text.split("\n", 1)[0]
    mark = max(SEPARATORS, key=first.count)
    return mark if first.count(mark) else ","


def table_form(text: str) -> str:
    """Return how a table was taken to be written, for who brought it.

    Empty where it is plain CSV.
    """
    mark = _mark(text)
    return (
        "" if mark == "," else f"read with {SEPARATORS[mark]} between the cells and decimal commas"
    )


def decimal_comma(text: str) -> bool:
    """Return True if a comma within a number of this table is a decimal comma.

    Spreadsheets in many countries write it so, with semicolons or tabs between the cells.
    """
    return _mark(text) != ","


def table_rows(text: str, where: str) -> Iterator[tuple[int, list[str]]]:
    """Yield the number and the cells of each line that is not empty.

    Commas, semicolons or tabs part the cells: whichever the first line has most of.

    Raises
    ------
    UsageError
        The text is not CSV, or a line is longer than any of a table.
    """
    reader = csv.reader(_lines(text, where), delimiter=_mark(text))
    try:
        for cells in reader:
            if any(c.strip() for c in cells):
                yield reader.line_num, cells
    except csv.Error as error:
        raise UsageError(f"{where}, line {reader.line_num}: {error}") from None


def _lines(text: str, where: str) -> Iterator[str]:
    for number, line in enumerate(io.StringIO(text), start=1):
        if len(line) > LINE_LETTERS:
            raise UsageError(f"{where}, line {number} is longer than {LINE_LETTERS:,} letters")
        yield line


def number_with_point(value: str, *, comma: bool) -> str:
    """Return a number with a decimal point instead of a comma, followed by the rest."""
    match = re.fullmatch(r"\s*([+-]?\d+),(\d+)(\D*)", value) if comma else None
    return f"{match[1]}.{match[2]}{match[3]}" if match is not None else value


def _named_rows(text: str, where: str) -> Iterator[tuple[int, dict[str, str]]]:
    """Yield the header, then each line, as cells by column. Missing cells are left out."""
    header: list[str] | None = None
    for count, (number, cells) in enumerate(table_rows(text, where)):
        if count > READINGS:
            raise UsageError(f"{where} has more than {READINGS:,} lines", "split it into several")
        header = header or cells
        if len(cells) > len(header):
            raise UsageError(f"{where}, line {number}: it has more cells than there are columns")
        yield number, dict(zip(header, cells, strict=False))


def read_csv(text: str, where: str) -> list[Reading]:
    """Return readings from CSV with ``what``, ``value``, and optionally unit, method, instrument.

    Raises
    ------
    UsageError
        Not such a file, with the line and the reason.
    """
    rows = _named_rows(text, where)
    _, columns = next(rows, (0, {}))
    if not {"what", "value"} <= set(columns):
        raise UsageError(
            f"{where} has no columns 'what' and 'value'",
            f"the first line names them: {','.join(COLUMNS)}",
        )
    strange = [n for n in columns if n not in COLUMNS]
    if strange:
        raise UsageError(
            f"{where}: '{strange[0]}' is not a column here", f"there are {', '.join(COLUMNS)}"
        )
    readings = []
    comma = decimal_comma(text)
    for number, row in rows:
        if len(row) < len(columns):
            raise UsageError(
                f"{where}, line {number}: it has not as many fields as there are columns"
            )
        try:
            value = number_with_point(row["value"], comma=comma)
            readings.append(
                parse_reading(
                    f"{row['what']}={value}{row.get('unit', '')}",
                    row.get("method", ""),
                    row.get("instrument", ""),
                )
            )
        except UsageError as error:
            raise UsageError(f"{where}, line {number}: {error.message}", error.hint) from None
    return readings


class ColumnMapping(StrictModel):
    """One column of a foreign table: its meaning, unit and method."""

    column: str
    what: str
    unit: str
    method: str = ""


class Mapping(StrictModel):
    """The meaning of the columns of a foreign table.

    Which holds the drive's name (or the one drive that all of it is of), and which holds what.
    """

    drive_column: str = ""
    drive: str = ""
    instrument: str
    figure: list[ColumnMapping]


def read_mapped(
    text: str, where: str, mapping: str, mapping_where: str
) -> dict[str, list[Reading]]:
    """Return readings by drive from a foreign table and a mapping of its columns.

    An empty cell is a figure that was not taken.

    Raises
    ------
    UsageError
        The mapping is invalid, or the table does not match it, with the line and the reason.
    """
    how = read_toml(mapping, mapping_where, Mapping)
    if bool(how.drive_column) == bool(how.drive):
        raise UsageError(
            f"{mapping_where} needs either 'drive_column' or 'drive'",
            'such as drive_column = "model"',
        )
    rows = _named_rows(text, where)
    _, columns = next(rows, (0, {}))
    missing = [
        c for c in (how.drive_column, *(f.column for f in how.figure)) if c and c not in columns
    ]
    if missing:
        raise UsageError(
            f"{where} has no column '{missing[0]}'", f"there are: {', '.join(columns)}"
        )
    by_drive: dict[str, list[Reading]] = {}
    comma = decimal_comma(text)
    for number, row in rows:
        name = how.drive or row.get(how.drive_column, "").strip()
        if not name:
            raise UsageError(f"{where}, line {number}: it names no drive")
        for one in how.figure:
            value = number_with_point(row.get(one.column, "").strip(), comma=comma)
            if not value:
                continue
            try:
                reading = parse_reading(
                    f"{one.what}={value} {one.unit}", one.method, how.instrument
                )
            except UsageError as error:
                raise UsageError(
                    f"{where}, line {number}, column '{one.column}': {error.message}", error.hint
                ) from None
            by_drive.setdefault(name, []).append(reading)
    return by_drive
