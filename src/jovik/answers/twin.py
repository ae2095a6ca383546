"""A drive's twin: the answer of `jovik twin`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.plain_data import plain
from jovik.queries.twin import TwinReport, twin_of
from jovik.shelf.store import Shelf
from jovik.simulator.twin_file import twin_toml
from jovik.tables.table import Table
from jovik.tables.twin import twin_tables


@dataclass(frozen=True)
class TwinAnswer(Answer):
    """A model drive fitted to a drive's results."""

    schema: ClassVar[str] = "twin"

    found: TwinReport

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        twin = self.found.twin
        return {
            "drive": twin.drive.name,
            "typical_error": twin.typical_error,
            "parameters": [plain(p) | {"determined": p.determined} for p in twin.parameters],
            "left_out": [plain(x) | {"error": x.error} for x in twin.left_out],
            "missing": list(self.found.missing),
            "origin": plain(self.found.origin),
        }

    def csv(self) -> Csv:
        """Return a row for each step that was left out."""
        return csv_of(self.found.twin.left_out, "phrase", "kind", "measured", "predicted", "error")

    def tables(self) -> Sequence[Table]:
        """Return the parameters, and the errors."""
        return twin_tables(self.found)

    @property
    def toml(self) -> str:
        """Return the twin as the file of a model drive."""
        return twin_toml(self.found.twin, self.found.origin)


def twin(shelf: Shelf, drive: str) -> TwinAnswer:
    """Fit the twin of a drive. `jovik.queries.twin.twin_of` describes errors."""
    return TwinAnswer(twin_of(shelf, drive))
