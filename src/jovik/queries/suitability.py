"""Which loads does a drive carry?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.cross_rig import RigSlowdown, slowed
from jovik.analysis.lost_data import lost_by
from jovik.analysis.run_effect import run_effect
from jovik.analysis.step_result import StepResult
from jovik.analysis.suitability import Suitability, fit
from jovik.base.errors import UsageError
from jovik.base.findings import LostData
from jovik.sheets.load import Load
from jovik.sheets.sheet import Drive
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class Fitted:
    """How loads fit a drive, in their order.

    Empty, and at each level that it was filled to on purpose.

    `slowed` is what the rig may have held back, `programs` recordings that were done again on it.
    """

    drive: Drive
    empty: tuple[Suitability, ...]
    filled: dict[int, tuple[Suitability, ...]]
    slowed: tuple[RigSlowdown, ...] = ()
    lost: LostData | None = None
    programs: tuple[StepResult, ...] = ()


def fitted(shelf: Shelf, name: str, loads: Sequence[Load]) -> Fitted:
    """Fit loads to the newest results of a drive.

    Raises
    ------
    UnknownNameError, UsageError
        It is not there, or was not measured.
    """
    drive = shelf.sheets.get(name).drive
    results = shelf.results.latest(drive.name, with_latencies=True, filled=True, ladders=True)
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
    held = slowed(
        [r for r in results if r.conditions.filled_percent is None],
        shelf.results.of_several_rigs(drive.name),
        run_effect(shelf.results.recent(drive.name)),
    )
    programs = tuple(r for r in results if r.findings.replay is not None)
    filled = {level: at(level) for level in levels}
    return Fitted(drive, at(None), filled, tuple(held), lost, programs)


def fitted_all(shelf: Shelf, loads: Sequence[Load]) -> list[Fitted]:
    """Return the same for every drive on the shelf that was measured.

    Raises
    ------
    UsageError
        None was.
    """
    measured = dict.fromkeys(r.drive for r in shelf.results.latest(ladders=True))
    if not measured:
        raise UsageError(
            "no drive on this shelf has been measured", "measure one: jovik measure TARGET"
        )
    return [fitted(shelf, name, loads) for name in measured]
