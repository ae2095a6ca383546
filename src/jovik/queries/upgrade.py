"""The gain from replacing one drive with another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import PurePath

from jovik.analysis.run_effect import run_effect
from jovik.analysis.step_result import StepResult
from jovik.analysis.upgrade import JobTime, Upgrade, compare, compare_with_class, program_job
from jovik.base.errors import UsageError
from jovik.base.vocabulary import CLASS_PREFIX
from jovik.queries.drive_class import standing_in
from jovik.queries.evidence import NONE_PASSED_OVER, Evidence, PassedOver, evidence
from jovik.queries.instrument import InstrumentChange, logged_changes, logged_of
from jovik.queries.programs import program_time
from jovik.queries.readings import alike, joined
from jovik.sheets.drive_class import DriveClass, read_class
from jovik.sheets.reading import Reading
from jovik.sheets.sheet import Drive
from jovik.shelf.store import Shelf
from jovik.steps.replay import ReplayStep


@dataclass(frozen=True)
class Upgraded:
    """Two drives step by step, with readings taken by the same method, and their results.

    `passed_over` names newer results that do not represent them. With `to_class`, the new one is a
    class of drives with its usual figures. `logged` is what instruments showed beside both, and
    `program` the recorded program that was asked for.
    """

    old: Drive
    new: Drive
    upgrade: Upgrade
    readings: tuple[tuple[Reading, Reading], ...]
    results: tuple[StepResult, ...]
    link_bytes_s: float | None = None
    passed_over: PassedOver = NONE_PASSED_OVER
    to_class: bool = False
    logged: tuple[InstrumentChange, ...] = ()
    program: JobTime | None = None


def _to_class(shelf: Shelf, old: str, target: DriveClass) -> Upgraded:
    """Compare a drive with the usual figures of a class."""
    drive = shelf.sheets.get(old).drive
    found = evidence(shelf, drive.name)
    standing = standing_in(target, found.results, found.effect)
    if standing is None:
        raise UsageError(
            f"{drive.name} has no result that classes of drives know",
            f'measure it: jovik measure TARGET --drive "{drive.name}"',
        )
    upgrade = compare_with_class(drive.name, target.title, standing.figures)
    results = tuple(f.result for f in standing.figures)
    new = Drive(target.title)
    return Upgraded(drive, new, upgrade, (), results, None, found.passed_over(), to_class=True)


def upgraded(
    shelf: Shelf,
    old: str,
    new: str,
    *,
    link_bytes_s: float | None = None,
    program: ReplayStep | None = None,
) -> Upgraded:
    """Compare the newest results of two drives.

    Parameters
    ----------
    link_bytes_s : float, optional
        The payload rate of the link of the new drive.
    program : ReplayStep, optional
        The replay of a recorded program to compare them by.

    Raises
    ------
    UnknownNameError, UsageError
        A drive is not there, was not measured, or both are the same, or neither replayed the
        program nor has a twin.
    """
    if new.startswith(CLASS_PREFIX):
        if program is not None:
            raise UsageError(
                "a class of drives has no twin that a recorded program could run on",
                "name a drive, or omit --load",
            )
        return _to_class(shelf, old, read_class(new.removeprefix(CLASS_PREFIX)))
    before, after = shelf.sheets.get(old).drive, shelf.sheets.get(new).drive
    if after.name == before.name:
        raise UsageError(
            f"{after.name} cannot replace itself", "name another drive; see jovik sheet list"
        )
    # Twins have the spread of latencies.
    found = [evidence(shelf, d.name, with_latencies=program is not None) for d in (before, after)]
    results = [e.results for e in found]
    for drive, own in zip((before, after), results, strict=True):
        if not own:
            raise UsageError(
                f"{drive.name} has not been measured",
                f'measure it: jovik measure TARGET --drive "{drive.name}"',
            )
    effect = run_effect(shelf.results.candidates())
    job = None
    if program is not None:
        times = (
            program_time(program, before, results[0]),
            program_time(program, after, results[1], link_bytes_s),
        )
        job = program_job(PurePath(program.path).stem, program.pinned().kind, *times)
    upgrade = compare(
        before.name,
        after.name,
        *results,
        link_bytes_s=link_bytes_s,
        new_price=after.price,
        effect=effect,
        program=job,
    )
    every = tuple(r for of_drive in results for r in of_drive)
    logged = tuple(
        logged_changes(shelf, logged_of(shelf, before.name), logged_of(shelf, after.name))
    )
    return Upgraded(
        before,
        after,
        upgrade,
        _readings(shelf, before.name, after.name, logged),
        every,
        link_bytes_s,
        _passed_over(found),
        logged=logged,
        program=job,
    )


def _passed_over(found: Sequence[Evidence]) -> PassedOver:
    """Return what does not represent any of the drives."""
    over = [e.passed_over() for e in found]
    return PassedOver(
        tuple(x for o in over for x in o.newer),
        {d: s for o in over for d, s in o.suspects.items()},
        {d: f for o in over for d, f in o.faults.items()},
    )


def _readings(
    shelf: Shelf, before: str, after: str, logged: Sequence[InstrumentChange]
) -> tuple[tuple[Reading, Reading], ...]:
    """Return readings of both drives by the same method.

    What a log shows phase by phase is not repeated as a reading.
    """
    by_log = {(f"{x.quantity}, {x.what}".casefold(), x.method.casefold()) for x in logged}
    return tuple(
        (r, s)
        for r in map(joined, alike(shelf.notes.readings(before)))
        for s in map(joined, alike(shelf.notes.readings(after)))
        if s.comparable(r) and (r.what.casefold(), r.method.casefold()) not in by_log
    )
