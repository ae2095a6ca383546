"""Whether to buy a drive on the shelf."""

from __future__ import annotations

from dataclasses import dataclass

from jovik.analysis.advice import Advice, advice
from jovik.analysis.drive_faults import faults_of
from jovik.analysis.samples import UNKNOWN_SAMPLE
from jovik.analysis.step_result import StepResult
from jovik.queries.ranking import RankingReport
from jovik.queries.suitability import Fitted
from jovik.shelf.store import Shelf

FEW = 0.5
"""A drive with less than this fraction of the counted steps holds no place in the main list."""


@dataclass(frozen=True)
class Reservations:
    """What limits the trust in all figures of a drive.

    `circumstances` are those of its machine that matter, `measured` the steps of the ranking that
    it has, and `counted` those that the ranking has.
    """

    circumstances: tuple[str, ...]
    measured: int
    counted: int

    @property
    def few(self) -> bool:
        """Return True if it was measured in few of the steps."""
        return self.measured < FEW * self.counted


def reservations_of(found: RankingReport, drive: str) -> Reservations:
    """Return what limits the trust in the figures of a drive."""
    row = next((d for d in found.ranking.drives if d.drive == drive), None)
    counted = set(found.ranking.counted)
    own = {s.kind for s in row.steps} & counted if row is not None else set()
    return Reservations(found.circumstances.get(drive, ()), len(own), len(counted))


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
