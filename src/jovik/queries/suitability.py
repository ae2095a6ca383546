"""Which loads does a drive carry?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from jovik.analysis.lost_data import lost_by
from jovik.analysis.program_time import ProgramTime
from jovik.analysis.step_result import StepResult
from jovik.analysis.suitability import Suitability, fit
from jovik.base.errors import UsageError
from jovik.base.findings import LostData
from jovik.queries.evidence import NONE_PASSED_OVER, PassedOver, evidence
from jovik.queries.programs import in_order, program_time
from jovik.queries.selection import drive_of
from jovik.sheets.load import Load
from jovik.sheets.sheet import Drive
from jovik.shelf.store import Shelf
from jovik.steps.replay import ReplayStep


@dataclass(frozen=True)
class Fitted:
    """How loads fit a drive, in their order: empty, and at each level that it was filled to.

    `passed_over` are newer results that do not represent it, `programs` replayed recordings, and
    `asked` the recorded programs that were asked for.
    """

    drive: Drive
    empty: tuple[Suitability, ...]
    filled: dict[int, tuple[Suitability, ...]]
    passed_over: PassedOver = NONE_PASSED_OVER
    lost: LostData | None = None
    programs: tuple[StepResult, ...] = ()
    asked: tuple[ProgramFit, ...] = ()


class Pace(StrEnum):
    """How fast a program is, beside when it was recorded."""

    FASTER = "faster"
    SLOWER = "slower"
    AS_FAST = "as fast"


@dataclass(frozen=True)
class ProgramFit:
    """A recorded program on a drive, beside what it took on the drive that it was recorded on."""

    name: str
    time: ProgramTime
    recorded_s: float
    recorded_on: str

    @property
    def verdict(self) -> Pace:
        """Return what its interval allows to say."""
        if self.time.elapsed_s.below(self.recorded_s):
            return Pace.FASTER
        return Pace.SLOWER if self.time.elapsed_s.above(self.recorded_s) else Pace.AS_FAST


def fitted(
    shelf: Shelf, name: str, loads: Sequence[Load], programs: Sequence[ReplayStep] = ()
) -> Fitted:
    """Fit loads to the newest results of a drive.

    Parameters
    ----------
    programs : sequence of ReplayStep
        Replays of recorded programs, which are predicted where they were not measured.

    Raises
    ------
    UnknownNameError, UsageError
        It is not there, or was not measured, or has too few results for a prediction.
    """
    drive = shelf.sheets.get(drive_of(shelf, name)).drive
    every = evidence(shelf, name, with_latencies=True, filled=True)
    results = every.results
    if not results:
        raise UsageError(
            f"{drive.name} has not been measured",
            f'measure it: jovik measure TARGET --drive "{drive.name}" --plan full-review',
        )

    lost = lost_by(results)

    def at(level: int | None) -> tuple[Suitability, ...]:
        at_level = [r for r in results if r.conditions.filled_percent == level]
        fits = (fit(x, at_level, drive.endurance_bytes) for x in loads)
        # No rate makes up for data that does not come back.
        return tuple(
            replace(f, headroom=0.0, streams=0, ends="it loses data", missing="") if lost else f
            for f in fits
        )

    levels = sorted(
        {r.conditions.filled_percent for r in results if r.conditions.filled_percent is not None}
    )
    replayed = tuple(r for r in results if r.findings.replay is not None)
    filled = {level: at(level) for level in levels}
    plain = [r for r in results if r.conditions.filled_percent is None]
    asked = tuple(_program_fit(p, drive, plain) for p in programs)
    return Fitted(drive, at(None), filled, every.passed_over(), lost, replayed, asked)


def _program_fit(step: ReplayStep, drive: Drive, results: Sequence[StepResult]) -> ProgramFit:
    found = in_order(step, [program_time(step, drive, results)])
    return ProgramFit(found.name, found.times[0], found.recorded_s, found.recorded_on)


def fitted_all(shelf: Shelf, loads: Sequence[Load]) -> list[Fitted]:
    """Return the same for every drive on the shelf that was measured.

    Raises
    ------
    UsageError
        None was.
    """
    measured = shelf.results.drives_in_order()
    if not measured:
        raise UsageError(
            "no drive on this shelf has been measured", "measure one: jovik measure TARGET"
        )
    return [fitted(shelf, name, loads) for name in measured]
