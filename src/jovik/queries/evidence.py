"""Choose the results of the shelf that represent its drives."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

from jovik.analysis.cross_rig import RigSlowdown
from jovik.analysis.drive_faults import DriveFault, faults_of
from jovik.analysis.evidence import Candidate, Choice, Drawback, choose, place_of
from jovik.analysis.run_effect import RunEffect, run_effect
from jovik.analysis.samples import SuspectSample, side_by_side, suspects
from jovik.analysis.step_result import StepResult
from jovik.queries.selection import read_selection, select
from jovik.shelf.results import is_drive_result
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class PassedOver:
    """Newer results that do not represent their drives, each beside its choice.

    `suspects` are samples that are far below their siblings, by drive, and `faults` what makes a
    drive known for its faults.
    """

    newer: tuple[tuple[Choice, Candidate], ...] = ()
    suspects: Mapping[str, tuple[SuspectSample, ...]] = field(default_factory=dict)
    faults: Mapping[str, tuple[DriveFault, ...]] = field(default_factory=dict)

    def slowed(self) -> list[RigSlowdown]:
        """Return the rigs on which a sample is clearly slower than on the chosen one."""
        slow: dict[tuple[str, str, str, str], list[str]] = {}
        for choice, other in self.newer:
            if choice.why_not(other) is Drawback.RIG:
                here, better = other.result.conditions, choice.result.conditions
                key = (other.result.drive, str(here.sample), str(here.rig), str(better.rig))
                slow.setdefault(key, []).append(other.result.kind)
        return [RigSlowdown(*key, tuple(dict.fromkeys(kinds))) for key, kinds in slow.items()]

    def of(self, drives: Collection[str]) -> PassedOver:
        """Return the same for some drives."""
        return PassedOver(
            tuple((c, o) for c, o in self.newer if c.result.drive in drives),
            {d: s for d, s in self.suspects.items() if d in drives},
            {d: f for d, f in self.faults.items() if d in drives},
        )

    def represented_by_others(self, drive: str, sample: str) -> bool:
        """Return True if no result of a suspect sample represents its drive."""
        return all(
            c.result.conditions.sample != sample for c, _ in self.newer if c.result.drive == drive
        )


NONE_PASSED_OVER = PassedOver()


@dataclass(frozen=True)
class Evidence:
    """The results that represent drives, and those that do not.

    Attributes
    ----------
    choices : tuple of Choice
        One for each drive, kind of step and fill level, drives by first measurement.
    candidates : tuple of StepResult
        All results that were considered, the oldest first.
    effect : RunEffect
        The differences between runs that the candidates show.
    suspects : mapping of drive to tuple of SuspectSample
        Samples that are far below their siblings.
    """

    choices: tuple[Choice, ...]
    candidates: tuple[StepResult, ...]
    effect: RunEffect
    suspects: Mapping[str, tuple[SuspectSample, ...]] = field(default_factory=dict)

    @property
    def results(self) -> list[StepResult]:
        """Return the chosen results."""
        return [c.result for c in self.choices]

    def of(self, result: StepResult) -> Choice | None:
        """Return the choice of a chosen result."""
        return next((c for c in self.choices if c.result is result), None)

    def passed_over(self) -> PassedOver:
        """Return the newer results that do not represent their drives, and suspect samples."""
        order = {place_of(r): n for n, r in enumerate(self.candidates)}
        newer = tuple(
            (c, other)
            for c in self.choices
            for other in c.unused
            if order[place_of(other.result)] > order[place_of(c.result)]
        )
        by_drive: dict[str, list[StepResult]] = {}
        for r in self.candidates:
            by_drive.setdefault(r.drive, []).append(r)
        faults = {d: found for d, each in by_drive.items() if (found := faults_of(each))}
        return PassedOver(newer, self.suspects, faults)


def evidence(
    shelf: Shelf, name: str | None = None, *, filled: bool = False, with_latencies: bool = False
) -> Evidence:
    """Choose the results that represent a drive, or every drive of the shelf.

    Parameters
    ----------
    name : str, optional
        A drive, or a selection of its results such as ``Comet 2TB@rig=hub``: every one is a
        candidate. Of all drives, the newest few of each sample, rig, link and firmware.
    filled : bool
        Whether steps on a drive that was filled on purpose are among them.
    with_latencies : bool
        Whether the chosen results have their latencies.
    """
    if name is not None and "@" in name:
        chosen = select(shelf, read_selection(shelf, name)).results
        candidates = [r for r in chosen if is_drive_result(r, filled)]
    elif name is not None:
        candidates = [r for r in shelf.results.every(name) if is_drive_result(r, filled)]
    else:
        candidates = shelf.results.candidates(filled=filled)
    found = weigh(candidates)
    if with_latencies:
        found = _with_latencies(shelf, found)
    places = {d: n for n, d in enumerate(shelf.results.drives_in_order())}
    choices = sorted(found.choices, key=lambda c: places.get(c.result.drive, len(places)))
    return Evidence(tuple(choices), found.candidates, found.effect, found.suspects)


def weigh(candidates: Sequence[StepResult]) -> Evidence:
    """Choose among these results, the oldest first."""
    effect = run_effect(candidates)
    by_drive: dict[str, list[StepResult]] = {}
    for r in candidates:
        by_drive.setdefault(r.drive, []).append(r)
    suspected = {
        drive: found for drive, results in by_drive.items() if (found := _suspects(results, effect))
    }
    guilty = {(drive, s.sample) for drive, found in suspected.items() for s in found}
    return Evidence(tuple(choose(candidates, guilty, effect)), tuple(candidates), effect, suspected)


def of_each_sample(candidates: Sequence[StepResult], effect: RunEffect) -> list[StepResult]:
    """Return the result that represents each sample in each kind of step."""
    by_sample: dict[str, list[StepResult]] = {}
    for r in candidates:
        if r.conditions.sample is not None and r.conditions.filled_percent is None:
            by_sample.setdefault(r.conditions.sample, []).append(r)
    return [c.result for own in by_sample.values() for c in choose(own, (), effect)]


def _suspects(candidates: Sequence[StepResult], effect: RunEffect) -> tuple[SuspectSample, ...]:
    """Return the samples of one drive that are far below their siblings."""
    if len({r.conditions.sample for r in candidates} - {None}) < 2:
        return ()
    return tuple(suspects(side_by_side(of_each_sample(candidates, effect), effect=effect)))


def _with_latencies(shelf: Shelf, found: Evidence) -> Evidence:
    """Return the same with the latencies of the chosen results, each of its newest run."""
    full = shelf.results.with_latencies(found.results)
    choices = tuple(
        Choice(Candidate(replace(c.result, latencies=r.latencies), c.chosen.drawbacks), c.unused)
        for c, r in zip(found.choices, full, strict=True)
    )
    return replace(found, choices=choices)
