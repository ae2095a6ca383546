"""Changes between two selections, or over time: the answers of `jovik compare`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.analysis.comparability import rate_of
from jovik.analysis.comparison import Comparison
from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.plain_data import keyed, plain
from jovik.queries.comparison import Compared, History, compared, history_of
from jovik.shelf.store import Shelf
from jovik.tables.comparison import comparison_table, history_table, verdict_lines
from jovik.tables.instrument import changes_json, changes_table
from jovik.tables.table import Table


@dataclass(frozen=True)
class CompareAnswer(Answer):
    """The differences between two selections."""

    schema: ClassVar[str] = "comparison"

    found: Compared

    @property
    def comparison(self) -> Comparison:
        """Return the comparison itself."""
        return self.found.comparison

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        report, comparison = self.found, self.comparison
        steps = [
            keyed(s, "kind", "times", "direction", before_run="before.run", after_run="after.run")
            | {"filled_percent": s.before.conditions.filled_percent}
            | {"before_bytes_s": plain(rate_of(s.before)), "after_bytes_s": plain(rate_of(s.after))}
            for s in comparison.steps
        ]
        return {
            "before": _selected(report.before),
            "after": _selected(report.after),
            "conditions": plain(comparison.conditions),
            "steps": steps,
            "findings": [keyed(f, "kind", "step", "before", "after") for f in comparison.findings],
            "not_comparable": [keyed(x, "kind", "why") for x in comparison.not_comparable],
            **keyed(comparison, "only_before", "only_after"),
            "logged": changes_json(report.logged),
        }

    def csv(self) -> Csv:
        """Return a row for each step."""
        return csv_of(
            self.data()["steps"],
            kind="kind",
            before_bytes_s="before_bytes_s.median",
            after_bytes_s="after_bytes_s.median",
            times="times.median",
            low="times.low",
            high="times.high",
            direction="direction",
        )

    def verdict(self) -> Sequence[str]:
        """Return the changes, in short."""
        return verdict_lines(self.found)

    def tables(self) -> Sequence[Table]:
        """Return conditions, steps and findings."""
        table = comparison_table(self.found)
        logged = changes_table(self.found.logged, "before", "after")
        return [table, *([logged] if logged.rows else [])]


def _selected(side: Any) -> dict[str, Any]:
    return {"selection": side.selection.words, "runs": [r.id for r in side.runs]}


@dataclass(frozen=True)
class HistoryAnswer(Answer):
    """A sample over time."""

    schema: ClassVar[str] = "history"

    found: History

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        points = [
            keyed(p, "kind", "times")
            | keyed(
                p.result, "started", "run", firmware="conditions.firmware", rig="conditions.rig"
            )
            | {"rate_bytes_s": plain(rate_of(p.result))}
            for p in self.found.points
        ]
        words = self.found.selected.selection.words
        return {"selection": words, "sample": self.found.sample, "points": points}

    def csv(self) -> Csv:
        """Return a row for each step and period."""
        return csv_of(
            self.data()["points"],
            *("kind", "started", "firmware", "rig"),
            rate_bytes_s="rate_bytes_s.median",
            times="times.median",
            low="times.low",
            high="times.high",
        )

    def tables(self) -> Sequence[Table]:
        """Return each step over time."""
        return [history_table(self.found)]


def compare(shelf: Shelf, before: str, after: str, step: str | None = None) -> CompareAnswer:
    """Compare two selections: ``RUN``, ``DRIVE`` or ``DRIVE@rig=hub@since=2026-11-01``.

    Raises
    ------
    UsageError
        One selects nothing, or they have no step that can be compared.

    Examples
    --------
    >>> one = jovik.measure(shelf, "model:comet", "random read 4KiB for 1s", passes=3, seed=7)
    >>> two = jovik.measure(shelf, "model:comet", "random read 4KiB for 1s", passes=3, seed=8)
    >>> found = jovik.compare(shelf, one.run.id, two.run.id)
    >>> [str(s.direction) for s in found.comparison.steps]
    ['within noise']
    """
    return CompareAnswer(compared(shelf, before, after, step))


def history(shelf: Shelf, words: str, over_days: float, step: str | None = None) -> HistoryAnswer:
    """Return how a selection changed over time, in periods of `over_days`."""
    return HistoryAnswer(history_of(shelf, words, over_days, step))
