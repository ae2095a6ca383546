"""Corrections of a shelf: the answer of `jovik shelf log`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from jovik.answers.answer import Answer, Csv, csv_of
from jovik.shelf.change_log import LoggedCorrection
from jovik.tables.changes import log_table
from jovik.tables.table import Table


@dataclass(frozen=True)
class CorrectionsAnswer(Answer):
    """Corrections, newest first."""

    schema: ClassVar[str] = "log"

    changes: tuple[LoggedCorrection, ...]

    def csv(self) -> Csv:
        """Return a row for each change."""
        return csv_of(self.changes, "made", "subject", "what", "before", "after")

    def tables(self) -> Sequence[Table]:
        """Return a row for each change."""
        return [log_table(self.changes)]
