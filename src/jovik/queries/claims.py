"""How does a drive stand to its claims?"""

from __future__ import annotations

from dataclasses import dataclass

from jovik.analysis.claims import MARGIN, ClaimVerdict, judge
from jovik.analysis.consistency import Disagreement, disagreements
from jovik.analysis.cross_rig import RigSlowdown, across_rigs, slowed
from jovik.analysis.firmware import FirmwareChange, firmware_changes
from jovik.analysis.lost_data import lost_by
from jovik.analysis.run_effect import run_effect
from jovik.base.errors import UsageError
from jovik.base.findings import LostData
from jovik.queries.samples import SampleComparison, samples
from jovik.sheets.sheet import Sheet
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class Judged:
    """Claims of a drive with their verdicts, inconsistent results and its samples.

    `lost` is set where it did not give back what was written, which no verdict makes up for;
    `slowed` is what a rig may have held back, `firmware` which samples have another one now.
    """

    sheet: Sheet
    margin: float
    judgements: tuple[ClaimVerdict, ...]
    disagreements: tuple[Disagreement, ...]
    samples: SampleComparison
    lost: LostData | None = None
    slowed: tuple[RigSlowdown, ...] = ()
    firmware: tuple[FirmwareChange, ...] = ()


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
    every = [r for r in shelf.results(drive) if r.conditions.filled_percent is None]
    judgements = across_rigs(judge(sheet.claims, results, margin, every), every, margin)
    effect = run_effect(shelf.recent_results(drive))
    held = slowed(results, shelf.results_of_several_rigs(drive), effect)
    return Judged(
        sheet,
        margin,
        tuple(judgements),
        tuple(disagreements(results)),
        samples(shelf, sheet),
        lost_by(results),
        tuple(held),
        tuple(firmware_changes(results, every)),
    )
