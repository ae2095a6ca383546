"""How does a drive stand to its claims?"""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.claims import CLAIM_MARGIN, ClaimVerdict, judge_claims
from jovik.analysis.cliff_agreement import cliff_agreement
from jovik.analysis.comparability import is_plain, long_write_of
from jovik.analysis.consistency import Disagreement, disagreements
from jovik.analysis.firmware_change import FirmwareChange, firmware_changes
from jovik.analysis.lost_data import lost_by
from jovik.analysis.step_result import StepResult
from jovik.base.errors import UsageError
from jovik.base.findings import CliffAgreement, LostData
from jovik.base.trace import SLICE_NS
from jovik.queries.drive_class import ClassStanding, standing_of
from jovik.queries.evidence import NONE_PASSED_OVER, PassedOver, evidence
from jovik.queries.samples import SampleComparison, samples
from jovik.sheets.sheet import Sheet
from jovik.shelf.change_log import Excluded
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class ClaimsReport:
    """Claims of a drive with their verdicts, inconsistent results and its samples.

    `lost` is set where it did not discard what was written, which no verdict makes up for;
    `passed_over` newer results that do not represent it, `firmware` which samples have another one
    now, `cliffs` where long writes made alike in several runs fell, `excluded` what was excluded;
    `standing` where the drive lies in its class.
    """

    sheet: Sheet
    margin: float
    verdicts: tuple[ClaimVerdict, ...]
    disagreements: tuple[Disagreement, ...]
    samples: SampleComparison
    lost: LostData | None = None
    passed_over: PassedOver = NONE_PASSED_OVER
    firmware: tuple[FirmwareChange, ...] = ()
    cliffs: CliffAgreement | None = None
    excluded: tuple[Excluded, ...] = ()
    standing: ClassStanding | None = None


def claims_report(shelf: Shelf, name: str, margin: float = CLAIM_MARGIN) -> ClaimsReport:
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
        raise UsageError(f"margin must be between 0 and 1, not {margin:g}", "for example 0.05")
    sheet = shelf.sheets.get(name)
    drive = sheet.drive.name
    if not sheet.claims:
        raise UsageError(
            f"the sheet of {drive} has no claims",
            f'add one: jovik sheet claim "{drive}" "sequential read" FIGURE',
        )
    every = evidence(shelf, drive)
    results = every.results
    if not results:
        raise UsageError(
            f"{drive} has not been measured", f'measure it: jovik measure TARGET --drive "{drive}"'
        )
    passed_over = every.passed_over()
    verdicts = judge_claims(sheet.claims, results, margin, passed_over.newer)
    return ClaimsReport(
        sheet,
        margin,
        tuple(verdicts),
        tuple(disagreements(results)),
        samples(shelf, sheet),
        lost_by(results),
        passed_over,
        tuple(firmware_changes(results, every.candidates)),
        _cliffs(every.candidates),
        tuple(shelf.changes.excluded(drive)),
        standing_of(sheet.drive, results, every.effect),
    )


def _cliffs(results: Sequence[StepResult]) -> CliffAgreement | None:
    """Return True if the newest long write and its repetitions fall at the same place."""
    writes = [r for r in results if is_plain(r) and long_write_of(r) is not None]
    if not writes:
        return None
    newest = writes[-1]
    alike = {
        w: None
        for r in writes
        if r.kind == newest.kind
        and (r.conditions.sample, r.conditions.rig)
        == (newest.conditions.sample, newest.conditions.rig)
        and (w := long_write_of(r)) is not None
    }
    # The same series twice is a model drive measured with the same seed.
    return cliff_agreement(list(alike))


EVEN = 0.01
"""A pass is even when its beginning is no further than this share from the whole of it."""


def even_from_the_start(shelf: Shelf, found: ClaimVerdict, first_ns: int) -> bool:
    """Return True if the passes of a verdict were as fast in their first moments as on the whole.

    A drive with a small cache, or a device that may burst, is faster at first: shorter passes would
    then measure something else.
    """
    if found.step is None:
        return False
    each = first_ns // SLICE_NS
    shares = []
    for trace in shelf.runs.traces(found.step.run, found.step.phrase):
        moved = trace.slices[:-1, [0, 2]].sum(axis=1)
        if len(moved) < 2 * each or not moved.sum() or not moved[:each].sum():
            return False
        shares.append(float(moved[:each].mean() / moved.mean()))
    return bool(shares) and abs(statistics.median(shares) - 1) <= EVEN
