"""The sheets of a shelf: the answers of `jovik sheet show` and `jovik sheet list`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any, ClassVar

from jovik.answers.answer import Answer, Csv, csv_of
from jovik.sheets.sheet import Sheet
from jovik.shelf.store import Shelf
from jovik.tables.sheets import sheet_table, sheets_table
from jovik.tables.table import Table


@dataclass(frozen=True)
class SheetAnswer(Answer):
    """A drive with its claims."""

    schema: ClassVar[str] = "sheet"

    sheet: Sheet

    def data(self) -> dict[str, Any]:
        """Return the drive's fields, and claims with `what` in the words of a phrase."""
        claims = [{"what": c.what, **asdict(c)} for c in self.sheet.claims]
        return {**asdict(self.sheet.drive), "claims": claims}

    def csv(self) -> Csv:
        """Return a row for each claim."""
        return csv_of(
            self.sheet.claims,
            claim="what",
            figure="figure",
            unit="unit",
            up_to="up_to",
            printed="printed",
        )

    def tables(self) -> Sequence[Table]:
        """Return the claims, and the drive itself below."""
        return [sheet_table(self.sheet)]


@dataclass(frozen=True)
class SheetsAnswer(Answer):
    """The drives on a shelf."""

    schema: ClassVar[str] = "sheets"

    sheets: tuple[Sheet, ...]

    def data(self) -> dict[str, Any]:
        """Return every sheet as documented."""
        return {"drives": [SheetAnswer(s).data() for s in self.sheets]}

    def tables(self) -> Sequence[Table]:
        """Return a row for each drive."""
        return [sheets_table(self.sheets)]


def sheet(shelf: Shelf, name: str) -> SheetAnswer:
    """Return the sheet of a drive."""
    return SheetAnswer(shelf.sheets.get(name))


def sheets(shelf: Shelf) -> SheetsAnswer:
    """List the drives on the shelf."""
    return SheetsAnswer(tuple(map(shelf.sheets.get, shelf.sheets.names())))
