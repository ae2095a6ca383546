"""All that the shelf knows of a drive under review."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.advice import Advice
from jovik.analysis.step_result import StepResult
from jovik.base.errors import UsageError
from jovik.queries.advice import advice_of
from jovik.queries.claims import ClaimsReport, claims_report
from jovik.queries.evidence import evidence
from jovik.queries.ranking import RankingReport, ranking_report
from jovik.queries.readings import Noted, noted
from jovik.queries.suitability import Fitted, fitted
from jovik.queries.upgrade import Upgraded, upgraded
from jovik.sheets.load import load_names, read_load
from jovik.sheets.sheet import Sheet
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class ReviewData:
    """All that the shelf knows of a drive under review."""

    sheet: Sheet
    results: tuple[StepResult, ...]
    runs: tuple[tuple[RunRecord, tuple[StepResult, ...]], ...]
    claims_report: ClaimsReport | None
    ranking_report: RankingReport
    fitted: Fitted
    upgrades: tuple[Upgraded, ...]
    noted: Noted
    advice: Advice

    @property
    def days(self) -> tuple[str, str]:
        """Return the days of the first and the last run."""
        days = [run.started[:10] for run, _ in self.runs]
        return min(days), max(days)


def gather(
    shelf: Shelf, name: str, against: Sequence[str] = (), found: RankingReport | None = None
) -> ReviewData:
    """Return everything a review is made of.

    Runs in the order of the work, only those whose figures still count.

    Raises
    ------
    UnknownNameError, UsageError
        A drive is not there, or was not measured.
    """
    sheet = shelf.sheets.get(name)
    drive = sheet.drive.name
    found_evidence = evidence(shelf, drive, with_latencies=True, filled=True)
    results = found_evidence.results
    if not results:
        raise UsageError(
            f"{drive} has not been measured",
            f'measure it: jovik measure TARGET --drive "{drive}" --plan full-review',
        )
    keys = sorted({r.run for r in results})
    ranked = found if found is not None else ranking_report(shelf)
    uses = fitted(shelf, drive, [read_load(n) for n in load_names()])
    return ReviewData(
        sheet,
        tuple(results),
        tuple((shelf.runs.get(k), tuple(shelf.results.of_run(k, counted=True))) for k in keys),
        claims_report(shelf, drive) if sheet.claims else None,
        ranked,
        uses,
        tuple(upgraded(shelf, other, drive) for other in against),
        noted(shelf, drive),
        advice_of(shelf, ranked, uses),
    )
