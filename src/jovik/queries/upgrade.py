"""The gain from replacing one drive with another."""

from __future__ import annotations

from dataclasses import dataclass

from jovik.analysis.cross_rig import RigSlowdown, slowed
from jovik.analysis.run_effect import run_effect
from jovik.analysis.step_result import StepResult
from jovik.analysis.upgrade import Upgrade, compare
from jovik.base.errors import UsageError
from jovik.queries.readings import alike, joined
from jovik.sheets.reading import Reading
from jovik.sheets.sheet import Drive
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class Upgraded:
    """Two drives step by step, with readings taken by the same method, and their results.

    `slowed` names results that their rigs may have limited.
    """

    old: Drive
    new: Drive
    upgrade: Upgrade
    readings: tuple[tuple[Reading, Reading], ...]
    results: tuple[StepResult, ...]
    link_bytes_s: float | None = None
    slowed: tuple[RigSlowdown, ...] = ()


def upgraded(shelf: Shelf, old: str, new: str, *, link_bytes_s: float | None = None) -> Upgraded:
    """Compare the newest results of two drives.

    Parameters
    ----------
    link_bytes_s : float, optional
        The payload rate of the link of the new drive.

    Raises
    ------
    UnknownNameError, UsageError
        A drive is not there, was not measured, or both are the same.
    """
    before, after = shelf.sheets.get(old).drive, shelf.sheets.get(new).drive
    if after.name == before.name:
        raise UsageError(
            f"{after.name} cannot replace itself", "name another drive; see jovik sheet list"
        )
    results = []
    for drive in (before, after):
        results.append(shelf.results.latest(drive.name))
        if not results[-1]:
            raise UsageError(
                f"{drive.name} has not been measured",
                f'measure it: jovik measure TARGET --drive "{drive.name}"',
            )
    effect = run_effect(shelf.results.recent())
    upgrade = compare(
        before.name,
        after.name,
        *results,
        link_bytes_s=link_bytes_s,
        new_price=after.price,
        effect=effect,
    )
    every = tuple(r for of_drive in results for r in of_drive)
    held = tuple(slowed(every, shelf.results.of_several_rigs(), effect))
    both = [
        (r, s)
        for r in map(joined, alike(shelf.notes.readings(before.name)))
        for s in map(joined, alike(shelf.notes.readings(after.name)))
        if s.comparable(r)
    ]
    return Upgraded(before, after, upgrade, tuple(both), every, link_bytes_s, held)
