"""Choose the evidence: which result represents a drive in each kind of step, and why not another.

Every statement that combines figures (verdicts, rankings, upgrades, fits, classes) takes its
results from here. A result with the least grave drawback represents its drive; recency decides only
between equals.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from jovik.analysis.comparability import figure_of, long_write_of, rate_of, settled
from jovik.analysis.cross_rig import same_sample_other_rigs, surely_above
from jovik.analysis.limits import NEAR_LINK
from jovik.analysis.run_effect import PRIOR_ALONE, RunEffect, made_alike
from jovik.analysis.statistics import trend
from jovik.analysis.step_result import LimitSource, StepResult


class Drawback(StrEnum):
    """Why a result represents its drive less well than another, the gravest first."""

    NO_FIGURE = "no figure"
    """A pass moved no data, a long write was not steady, or a timed one ran across a cliff."""
    SUSPECT = "suspect sample"
    BUFFERED = "page cache"
    LINK = "link"
    """Its link carries less than the drive does elsewhere."""
    CONTROL_GROUP = "control group"
    """A control group held it back."""
    RIG = "rig"
    """The same sample surely does more on another rig."""
    FIRMWARE = "earlier firmware"
    CACHE = "write cache"
    """It began with the write cache partly full."""
    DISTURBED = "disturbed"
    DRIFT = "drift"
    """Its passes got faster or slower one after the other."""
    ONE_PASS = "one pass"
    OLDER = "older"


GRAVITY = {drawback: 2**n for n, drawback in enumerate(reversed(Drawback))}
"""A graver drawback outweighs all lesser ones together."""


@dataclass(frozen=True)
class Candidate:
    """A result that could represent its drive, and its drawbacks, the gravest first."""

    result: StepResult
    drawbacks: tuple[Drawback, ...] = ()

    @property
    def gravity(self) -> int:
        """Return a number that is larger the less it represents the drive."""
        return sum(GRAVITY[d] for d in self.drawbacks)


@dataclass(frozen=True)
class Choice:
    """The result that represents a drive in one kind of step at one fill level.

    It has the passes of all runs that were made alike, on the same sample and rig.
    `unused` are the other candidates, the newest first. Each has a drawback that the chosen one
    lacks, of which `OLDER` is the least.
    """

    chosen: Candidate
    unused: tuple[Candidate, ...] = ()

    @property
    def result(self) -> StepResult:
        """Return the chosen result."""
        return self.chosen.result

    def why_not(self, other: Candidate) -> Drawback:
        """Return the gravest drawback that a candidate has and the chosen result has not."""
        own = set(self.chosen.drawbacks)
        return next((d for d in other.drawbacks if d not in own), Drawback.OLDER)


def choose(
    candidates: Sequence[StepResult],
    suspects: Collection[tuple[str, str | None]] = (),
    effect: RunEffect = PRIOR_ALONE,
) -> list[Choice]:
    """Choose a result for each drive, kind of step and fill level.

    Parameters
    ----------
    candidates : sequence of StepResult
        Of any drives, the oldest first.
    suspects : collection of (drive, sample)
        Samples that are far below their siblings.
    effect : RunEffect
        The differences between runs.

    Returns
    -------
    list of Choice
        In the order of the chosen results among the candidates.
    """
    groups: dict[tuple[str, str, int | None], list[StepResult]] = defaultdict(list)
    firmware: dict[tuple[str, str | None], str | None] = {}
    for r in candidates:
        if r.passes:
            groups[r.drive, r.kind, r.conditions.filled_percent].append(r)
            firmware[r.drive, r.conditions.sample] = r.conditions.firmware
    order = {place_of(r): n for n, r in enumerate(candidates)}
    choices = [_choose_one(g, suspects, firmware, effect) for g in groups.values()]
    return sorted(choices, key=lambda c: order[place_of(c.result)])


def place_of(result: StepResult) -> tuple[str, str, int, str]:
    """Return what tells a result from every other."""
    return result.drive, result.run, result.position, result.phrase


def _choose_one(
    group: Sequence[StepResult],
    suspects: Collection[tuple[str, str | None]],
    firmware: Mapping[tuple[str, str | None], str | None],
    effect: RunEffect,
) -> Choice:
    found = [
        Candidate(r, tuple(_drawbacks(r, group, suspects, firmware, effect)))
        for r in reversed(group)
    ]
    # Within a run, a step of its own has more passes than a rung of a ladder.
    newest = found[0].result.run
    best = min(
        found,
        key=lambda c: (
            c.gravity,
            c.result.run != newest,
            c.result.findings.ladder is not None,
        ),
    )
    alike = [c for c in found if c is best or _poolable(c, best)]
    whole = replace(best, result=_pooled(best.result, [c.result for c in reversed(alike)]))
    return Choice(whole, tuple(c for c in found if c not in alike))


def _poolable(one: Candidate, best: Candidate) -> bool:
    """Return True if a candidate's passes count with those of the chosen result."""
    r, findings = one.result, one.result.findings
    whole = long_write_of(r) is not None or findings.scan or findings.replay or findings.steady
    alike = one.drawbacks == best.drawbacks and Drawback.DRIFT not in best.drawbacks
    return not whole and alike and made_alike(r, best.result)


def _pooled(newest: StepResult, alike: Sequence[StepResult]) -> StepResult:
    """Return a result with the passes of all results that were made alike, the oldest first."""
    if len(alike) < 2:
        return newest
    passes = tuple(p for r in alike for p in r.passes)
    return replace(newest, passes=passes, pooled_runs=tuple(r.run for r in alike))


def _drawbacks(
    r: StepResult,
    group: Sequence[StepResult],
    suspects: Collection[tuple[str, str | None]],
    firmware: Mapping[tuple[str, str | None], str | None],
    effect: RunEffect,
) -> list[Drawback]:
    """Return the drawbacks of one of several results of a drive, the gravest first."""
    if not has_figure(r):
        return [Drawback.NO_FIGURE]
    c = r.conditions
    found = {
        Drawback.SUSPECT: (r.drive, c.sample) in suspects,
        Drawback.BUFFERED: not c.direct,
        Drawback.LINK: held_by_link(r, group),
        Drawback.CONTROL_GROUP: any(x.what.of_group for x in r.limits),
        Drawback.RIG: any(
            has_figure(o) and surely_above(o, r, effect) for o in same_sample_other_rigs(r, group)
        ),
        Drawback.FIRMWARE: c.firmware != firmware[r.drive, c.sample],
        Drawback.CACHE: r.findings.write_cache_full,
        Drawback.DISTURBED: any(d.bad for d in r.findings.disturbed),
        Drawback.DRIFT: trend([p.rate_bytes_s for p in r.passes]) is not None,
        Drawback.ONE_PASS: not figure_of(r).known,
    }
    return [d for d, there in found.items() if there]


def has_figure(r: StepResult) -> bool:
    """Return True if a result has a figure to be compared by."""
    return bool(r.passes) and settled(r) and all(p.rate_bytes_s > 0 for p in r.passes)


def link_rate_of(r: StepResult) -> float | None:
    """Return the payload rate of the link that a result was measured on, bytes a second."""
    if r.conditions.link_bytes_s is not None:
        return r.conditions.link_bytes_s
    return next((x.rate_bytes_s for x in r.limits if x.what is LimitSource.LINK), None)


def held_by_link(r: StepResult, others: Sequence[StepResult]) -> bool:
    """Return True if the drive does more on a faster link than this result's link carries."""
    carries = link_rate_of(r)
    if carries is None or not r.conditions.direct:
        return False
    return any(
        has_figure(o)
        and (link_rate_of(o) or carries) > carries
        and rate_of(o).median > NEAR_LINK * carries
        for o in others
        if o.conditions.direct
    )
