"""Whether to buy a drive on the shelf."""

from __future__ import annotations

from jovik.analysis.advice import Advice, advice
from jovik.analysis.drive_faults import faults_of
from jovik.analysis.samples import UNKNOWN_SAMPLE
from jovik.analysis.step_result import StepResult
from jovik.queries.ranking import RankingReport
from jovik.queries.suitability import Fitted
from jovik.shelf.store import Shelf


def advice_of(shelf: Shelf, found: RankingReport, uses: Fitted) -> Advice:
    """Return the answer about a drive, from all of its results that count.

    Parameters
    ----------
    found : RankingReport
        Of the shelf.
    uses : Fitted
        How loads fit the drive.
    """
    drive = uses.drive.name
    by_sample: dict[str, list[StepResult]] = {}
    for r in shelf.results.every(drive):
        by_sample.setdefault(r.conditions.sample or UNKNOWN_SAMPLE, []).append(r)
    standing = found.standings.get(drive)
    return advice(
        {sample: faults_of(each) for sample, each in by_sample.items()},
        [s.sample for s in found.passed_over.suspects.get(drive, ()) if s.slower],
        standing.index if standing is not None else None,
        len(standing.figures) if standing is not None else 0,
        standing.drive_class.title if standing is not None else "",
        uses.empty,
    )
