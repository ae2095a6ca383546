"""A sheet: a drive as sold and its maker's claims, and its TOML file.

[drive]
name = "Fjord 1TB"
maker = "Halden"
capacity = "1TB"
price = "89 EUR"

[[claim]]
what = "random read 4KiB depth 32"
figure = "900,000 IOPS"
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import Field, ValidationError, field_validator, model_validator

from jovik.base.errors import PhraseError, UnknownNameError, UsageError
from jovik.base.quantities import (
    parse_endurance,
    parse_rate,
    parse_size,
    parse_time,
    show_rate,
    show_size,
    significant,
    spell_size,
    spell_time,
)
from jovik.base.toml_files import Size, StrictModel, explain, from_text, read_toml
from jovik.sheets.drive_facts import DRIVE_FACTS
from jovik.steps.io_clauses import CLAUSES
from jovik.steps.tokens import Cursor


@dataclass(frozen=True)
class Drive:
    """A model in one capacity, as sold. Empty strings and None are facts that the sheet lacks."""

    name: str
    maker: str = ""
    model: str = ""
    capacity_bytes: int | None = None
    interface: str = ""
    medium: str = ""
    price: float | None = None
    currency: str = ""
    warranty_years: float | None = None
    endurance_bytes: int | None = None
    flash_bytes: int | None = None
    class_name: str | None = None

    @property
    def spelled_price(self) -> str:
        """Return the price as a sheet holds it, ``89 EUR`` or ``89.90 EUR``.

        Empty where it is unknown.
        """
        if self.price is None:
            return ""
        return f"{self.price:.{0 if self.price == int(self.price) else 2}f} {self.currency}".strip()

    @property
    def over_provisioning(self) -> float | None:
        """Return raw flash beyond the capacity as a fraction of it (JESD218B, 2.1), or None.

        The standard's term for space that the user cannot address.
        """
        if not self.flash_bytes or not self.capacity_bytes:
            return None
        return self.flash_bytes / self.capacity_bytes - 1


@dataclass(frozen=True)
class Claim:
    """One advertised figure.

    `figure` is in `unit`: ``"bytes/s"``, ``"IOPS"`` or, for an access time, ``"ns"``. None leaves a
    number open that the maker did not give. `sustained` is of a long write, `steady` of the steady
    state, each judged by that test and by nothing else. `conditions` are the maker's own, which no
    step can repeat.
    """

    random: bool
    read_percent: int
    figure: float
    unit: str
    block_bytes: int | None = None
    depth: int | None = None
    workers: int | None = None
    up_to: bool = True
    sustained: bool = False
    printed: str = ""
    steady: bool = False
    span_bytes: int | None = None
    compressible_percent: int | None = None
    conditions: str = ""

    @property
    def _direction(self) -> str:
        if self.read_percent in (0, 100):
            return "read" if self.read_percent else "write"
        return f"mixed {self.read_percent}% read"

    @property
    def what(self) -> str:
        """Return the subject of the claim, in the words of a phrase."""
        words = ["random" if self.random else "sequential", self._direction]
        if self.block_bytes is not None:
            words.append(spell_size(self.block_bytes))
        if self.depth is not None:
            words.append(f"depth {self.depth}")
        if self.workers is not None:
            words.append(f"workers {self.workers}")
        return " ".join(words + self._data_words(spell_size))

    @property
    def label(self) -> str:
        """Return the same for tables."""
        order = "random" if self.random else "sequential"
        parts = [f"{order} {self._direction}"]
        if self.block_bytes is not None:
            parts.append(_spaced_size(self.block_bytes))
        parts += [
            f"{n} {v}"
            for n, v in (("depth", self.depth), ("workers", self.workers))
            if v is not None
        ]
        parts += self._data_words(_spaced_size)
        parts += ["sustained"] if self.sustained else []
        parts += ["steady state"] if self.steady else []
        return ", ".join(parts)

    def _data_words(self, size: Callable[[int], str]) -> list[str]:
        words = [f"within {size(self.span_bytes)}"] if self.span_bytes is not None else []
        if self.compressible_percent is not None:
            words.append(f"payload {self.compressible_percent}% compressible")
        return words

    @property
    def lower_is_better(self) -> bool:
        """Return True if it is an access time."""
        return self.unit == "ns"

    def shown(self, value: float | None = None) -> str:
        """Return a value (the claim's own unless given) in the claim's unit, for people."""
        value = self.figure if value is None else value
        if self.unit == "ns":
            return f"{significant(value / 1000)} µs"
        if self.unit == "IOPS":
            return f"{significant(value)} IOPS"
        return show_rate(value)


def _spaced_size(size: int) -> str:
    """Return ``4 KiB``."""
    return re.sub(r"(\d)([A-Za-z])", r"\1 \2", spell_size(size))


@dataclass(frozen=True)
class Sheet:
    """A drive with its claims."""

    drive: Drive
    claims: tuple[Claim, ...] = ()


def parse_claim(what: str, figure: str, **more: Any) -> Claim:
    """Return a claim from its words and its figure.

    Parameters
    ----------
    what : str
        ``sequential|random read|write|mixed N% read [BLOCK] [depth N] [workers N] [within SIZE]
        [payload N% compressible]``, or ``access time``.
    figure : str
        ``7000 MB/s``, ``900,000 IOPS`` or ``60us``.

    Raises
    ------
    PhraseError
        `what` does not parse.
    ValueError
        `figure` is neither a rate nor a time, or no step can meet the conditions.
    """
    amount, unit = parse_figure(figure)
    return _testable(Claim(**_read_what(what), figure=amount, unit=unit, **more))


def _testable(claim: Claim) -> Claim:
    """Return the claim, or raise ValueError if no step can meet its conditions."""
    if claim.lower_is_better and ((claim.depth or 1) > 1 or (claim.workers or 1) > 1):
        raise ValueError("an access time is of one request at a time: depth 1")
    if claim.sustained and claim.read_percent:
        raise ValueError("only a write is sustained beyond a write cache: leave out 'sustained'")
    if claim.sustained and claim.span_bytes is not None:
        raise ValueError("a sustained write has an amount of its own: leave out 'within'")
    if claim.sustained and claim.steady:
        raise ValueError("a claim is about a long write or about the steady state, not both")
    if claim.span_bytes is not None and claim.span_bytes < (claim.block_bytes or 1):
        raise ValueError("a file is at least one block long")
    return claim


def check_fits(sheet: Sheet) -> Sheet:
    """Return a sheet, or raise UsageError if a claim is about a file larger than the drive."""
    capacity = sheet.drive.capacity_bytes
    for claim in sheet.claims:
        if capacity is not None and (claim.span_bytes or 0) > capacity:
            raise UsageError(
                f"'{claim.what}' does not fit on a drive of {show_size(capacity)}",
                "give the size of the file that the maker used",
            )
    return sheet


ACCESS_TIME = "access time"
"""Words for the time of a small random read, one at a time."""


def _read_what(what: str) -> dict[str, Any]:
    if " ".join(what.casefold().split()) == ACCESS_TIME:
        what = "random read 4KiB"
    cursor = Cursor(what)
    values: dict[str, Any] = {
        "random": cursor.choice("'sequential' or 'random'", "sequential", "random") == "random"
    }
    values["read_percent"] = _direction(cursor)
    known = {c.keywords: c for c in CLAUSES}
    if cursor.next is not None and cursor.next.text[0].isdigit():
        values["block_bytes"] = cursor.read(parse_size, "a block such as 4KiB")
    while cursor.next is not None:
        word = next((w for w in CONDITIONS if cursor.accept(w)), None)
        if word is None:
            raise cursor.wrong(
                "a block such as 4KiB, 'depth N', 'workers N', 'within SIZE' or "
                "'payload N% compressible'"
            )
        start = cursor.at
        values |= known[(word,)].read(cursor)
        if "span_free_percent" in values:
            raise cursor.wrong("a size such as 8GiB", cursor.words[start])
        if word == "payload" and values["read_percent"] == 100:
            raise cursor.wrong("'payload' only in a claim about writes", cursor.words[start - 1])
    return values


CONDITIONS = ("depth", "workers", "within", "payload")
"""The parts of a phrase that a claim may have as well."""


def _direction(cursor: Cursor) -> int:
    """Return the percentage of reads: ``read``, ``write`` or ``mixed 70% read``."""
    word = cursor.choice("'read', 'write' or 'mixed N% read'", "read", "write", "mixed")
    if word != "mixed":
        return 100 if word == "read" else 0
    percent = cursor.read(
        lambda t: int(t.removesuffix("%")), "a percentage of reads such as 70%", _of_a_mix
    )
    cursor.choice("'read'", "read")
    return percent


def _of_a_mix(percent: int) -> str:
    return "" if 0 < percent < 100 else "a percentage between 0 and 100"


def parse_figure(text: str) -> tuple[float, str]:
    """Return a claimed figure and its unit.

    Raises
    ------
    ValueError
        Neither a rate nor a time, or zero.
    """
    try:
        value, unit = parse_rate(text)
    except ValueError as error:
        try:
            value, unit = float(parse_time(text)), "ns"
        except ValueError:
            raise ValueError(
                f"'{text}' is not a figure; write 550MB/s, 95000 IOPS or 60us"
            ) from error
    if value <= 0:
        raise ValueError("a claimed figure is above zero")
    return value, unit


SYMBOLS = {"$": "USD", "€": "EUR", "£": "GBP"}


def parse_price(text: str) -> tuple[float, str]:
    """``89 EUR``, ``89.90`` or ``$79`` as (89.0, "EUR")."""
    match = re.fullmatch(r"\s*([$€£])?\s*(\d{1,12}(?:\.\d{1,2})?)\s*([A-Za-z]{3}|[$€£])?\s*", text)
    if not match or (match[1] and match[3]):
        raise ValueError(f"'{text}' is not a price; write 89 EUR")
    currency = match[1] or match[3] or ""
    return float(match[2]), SYMBOLS.get(currency, currency.upper())


def parse_years(text: str) -> float:
    """``5 years`` as 5.0."""
    match = re.fullmatch(r"\s*(\d{1,4}(?:\.\d{1,4})?)\s*(years?|y)?\s*", text)
    if not match:
        raise ValueError(f"'{text}' is not a warranty; write 5 years")
    return float(match[1])


class DriveTable(StrictModel):
    """`[drive]` as written."""

    name: Annotated[str, Field(min_length=1, pattern=r"\S")]
    maker: str = ""
    model: str = ""
    capacity: Size | None = None
    interface: str = ""
    medium: str = ""
    price: Annotated[tuple[float, str] | None, from_text(parse_price)] = None
    warranty: Annotated[float | None, from_text(parse_years)] = None
    endurance: Annotated[int | None, from_text(parse_endurance)] = None
    flash: Size | None = None
    class_name: Annotated[str | None, Field(alias="class")] = None

    @field_validator("class_name")
    @classmethod
    def _is_a_class(cls, name: str | None) -> str | None:
        # Where the classes are read, sheets are too.
        from jovik.sheets.drive_class import read_class

        if name:
            try:
                read_class(name)
            except UnknownNameError as error:
                raise ValueError(f"{error.message}\n{error.hint}") from None
        return name

    def drive(self) -> Drive:
        """As the rest of Jovik knows it."""
        price, currency = self.price or (None, "")
        return Drive(
            self.name.strip(),
            self.maker,
            self.model,
            self.capacity,
            self.interface,
            self.medium,
            price,
            currency,
            self.warranty,
            self.endurance,
            self.flash,
            self.class_name or None,
        )


class ClaimTable(StrictModel):
    """One `[[claim]]` as written."""

    what: str
    figure: Annotated[tuple[float, str], from_text(parse_figure)]
    up_to: bool = True
    sustained: bool = False
    steady: bool = False
    printed: str = ""
    conditions: str = ""

    @field_validator("what")
    @classmethod
    def _parses(cls, text: str) -> str:
        try:
            _read_what(text)
        except PhraseError as error:
            raise ValueError(f"{error.message}\n{error.hint}") from None
        return text

    def claim(self) -> Claim:
        """As the rest of Jovik knows it."""
        figure, unit = self.figure
        return Claim(
            **_read_what(self.what),
            figure=figure,
            unit=unit,
            up_to=self.up_to,
            sustained=self.sustained,
            steady=self.steady,
            printed=self.printed,
            conditions=self.conditions,
        )

    @model_validator(mode="after")
    def _is_testable(self) -> ClaimTable:
        _testable(self.claim())
        return self


class SheetFile(StrictModel):
    """A whole sheet as written."""

    drive: DriveTable
    claim: list[ClaimTable] = []

    def sheet(self) -> Sheet:
        """As the rest of Jovik knows it."""
        return Sheet(self.drive.drive(), tuple(c.claim() for c in self.claim))


def read_sheet(text: str, where: str) -> Sheet:
    """Return a sheet from TOML.

    Raises
    ------
    UsageError
        With the file, the line and the key.
    """
    return check_fits(read_toml(text, where, SheetFile).sheet())


def drive_from_words(words: dict[str, str]) -> Drive:
    """Return a drive from words under the keys of `[drive]`, as options give them.

    Raises
    ------
    UsageError
        With the key at fault and the reason.
    """
    try:
        return DriveTable.model_validate(words).drive()
    except ValidationError as error:
        raise UsageError(explain(error.errors()[0])[1]) from None


def edited_sheet(sheet: Sheet, words: dict[str, str]) -> Sheet:
    """Return the sheet with new values for some keys of `[drive]`. An empty text clears one.

    Raises
    ------
    UsageError
        With the key at fault and the reason.
    """
    import tomlkit

    written = {k: str(v) for k, v in tomlkit.parse(write_sheet(sheet))["drive"].items()}
    return Sheet(drive_from_words({k: v for k, v in (written | words).items() if v}), sheet.claims)


def write_sheet(sheet: Sheet) -> str:
    """Return a sheet as TOML, from which `read_sheet` returns the same sheet."""
    import tomlkit

    drive = sheet.drive
    document = tomlkit.document()
    table = tomlkit.table()
    table["name"] = drive.name
    for fact in DRIVE_FACTS:
        if value := fact.exact(drive):
            table[fact.key] = value
    document["drive"] = table
    if sheet.claims:
        claims = tomlkit.aot()
        for claim in sheet.claims:
            entry = tomlkit.table()
            entry["what"] = claim.what
            entry["figure"] = spell_figure(claim)
            if not claim.up_to:
                entry["up_to"] = False
            if claim.sustained:
                entry["sustained"] = True
            if claim.steady:
                entry["steady"] = True
            if claim.printed:
                entry["printed"] = claim.printed
            if claim.conditions:
                entry["conditions"] = claim.conditions
            claims.append(entry)
        document["claim"] = claims
    return tomlkit.dumps(document)


def spell_figure(claim: Claim) -> str:
    """Return the claimed figure exactly, as a sheet holds it."""
    if claim.unit == "ns":
        return spell_time(round(claim.figure))
    if claim.unit == "IOPS":
        return f"{claim.figure:.0f} IOPS"
    for unit, scale in (("MB/s", 1e6), ("kB/s", 1e3)):
        if claim.figure % scale == 0:
            return f"{claim.figure / scale:.0f} {unit}"
    return f"{claim.figure:.0f} B/s"
