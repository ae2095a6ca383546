"""How does a drive stand to its claims?"""

from __future__ import annotations

from dataclasses import dataclass

from jovik.analysis.claims import MARGIN, ClaimVerdict, Verdict, judge
from jovik.analysis.consistency import Disagreement, disagreements
from jovik.analysis.cross_rig import across_rigs
from jovik.analysis.run_effect import run_effect
from jovik.base.errors import UsageError
from jovik.queries.samples import SampleComparison, samples
from jovik.sheets.sheet import Sheet
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class Judged:
    """Claims of a drive with their verdicts, inconsistent results and its samples."""

    sheet: Sheet
    margin: float
    judgements: tuple[ClaimVerdict, ...]
    disagreements: tuple[Disagreement, ...]
    samples: SampleComparison


def judged(shelf: Shelf, name: str, margin: float = MARGIN) -> Judged:
    """Hold the newest results of a drive against its claims.

    Raises
    ------
    UnknownNameError
        No drive of that name.
    UsageError
        The margin is no share, or the drive has no claims or was not measured; with the command
        that would help.
    """
    if not 0 < margin < 1:
        raise UsageError(f"a margin of {margin:g} is no share", "give one between 0 and 1: 0.05")
    sheet = shelf.sheet(name)
    drive = sheet.drive.name
    if not sheet.claims:
        raise UsageError(
            f"the sheet of {drive} has no claims",
            f'add one: jovik sheet claim "{drive}" "sequential read" 7000MB/s',
        )
    results = shelf.latest_results(drive, ladders=True)
    if not results:
        raise UsageError(
            f"{drive} has not been measured", f'measure it: jovik measure TARGET --drive "{drive}"'
        )
    judgements = judge(sheet.claims, results, margin, shelf.results(drive))
    if any(j.verdict is Verdict.SHORT for j in judgements):
        judgements = across_rigs(
            judgements,
            shelf.results_of_several_rigs(drive),
            run_effect(shelf.recent_results(drive)),
        )
    return Judged(
        sheet, margin, tuple(judgements), tuple(disagreements(results)), samples(shelf, sheet)
    )
