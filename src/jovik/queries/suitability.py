"""Which loads does a drive carry?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.lost_data import lost_by
from jovik.analysis.step_result import StepResult
from jovik.analysis.suitability import Suitability, fit
from jovik.base.errors import UsageError
from jovik.base.findings import LostData
from jovik.queries.evidence import NONE_PASSED_OVER, PassedOver, evidence
from jovik.queries.selection import drive_of
from jovik.sheets.load import Load
from jovik.sheets.sheet import Drive
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class Fitted:
    """How loads fit a drive, in their order: empty, and at each level that it was filled to.

    `passed_over` are newer results that do not represent it, `programs` replayed recordings.
    """

    drive: Drive
    empty: tuple[Suitability, ...]
    filled: dict[int, tuple[Suitability, ...]]
    passed_over: PassedOver = NONE_PASSED_OVER
    lost: LostData | None = None
    programs: tuple[StepResult, ...] = ()


def fitted(shelf: Shelf, name: str, loads: Sequence[Load]) -> Fitted:
    """Fit loads to the newest results of a drive.

    Raises
    ------
    UnknownNameError, UsageError
        It is not there, or was not measured.
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
    programs = tuple(r for r in results if r.findings.replay is not None)
    filled = {level: at(level) for level in levels}
    return Fitted(drive, at(None), filled, every.passed_over(), lost, programs)


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
