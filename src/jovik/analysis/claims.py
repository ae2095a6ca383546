"""Comparing measurements with claims."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from jovik.analysis.comparability import long_write_of, settled
from jovik.analysis.run_effect import alike_runs
from jovik.analysis.settling import (
    EACH_LOOK,
    FIRST_ERROR,
    FIRST_LOOK,
    MOST_PASSES,
    SettlingGoal,
    SettlingOutcome,
    look_confidence,
    on_margin,
)
from jovik.analysis.statistics import (
    Trend,
    interval,
    student_quantile,
    trend,
    variance,
)
from jovik.analysis.steady_state import steady_notes
from jovik.analysis.step_result import Limit, LimitSource, PassFigures, StepResult
from jovik.base.findings import NotSustained, Shape
from jovik.base.interval import Interval
from jovik.base.quantities import in_rate_unit, show_size, show_time
from jovik.base.trace import Latencies
from jovik.sheets.sheet import Claim
from jovik.steps import IoStep

CLAIM_MARGIN = 0.05
"""How far below its claim a drive may stay and still meet it."""
USUAL_RANDOM_BLOCK = 4096
"""The block of a claim in IOPS that does not name one, as makers use it."""


class Verdict(StrEnum):
    """The possible verdicts on a claim."""

    BEATEN = "beaten"
    MET = "met"
    SHORT = "short"
    CLOSE = "too close to call"
    ONE_PASS = "one pass"
    """A single pass has no interval, so that it gives no verdict."""
    HELD = "held back"
    UNTESTED = "untested"


DOUBTFUL = (Verdict.SHORT, Verdict.CLOSE, Verdict.ONE_PASS)
"""Verdicts that something other than the drive may have caused."""


@dataclass(frozen=True)
class ClaimVerdict:
    """One claim, the step it was compared with, and the verdict with its reason.

    `measured` is in the claim's unit; `share` is measured over claimed. `limit` is what held it
    back; `passes_to_settle` how many passes in all would tell, where it is too close to call;
    `choice` among how many steps this one was the best; `passes` the figures it is from, of however
    many runs; `on_margin` whether it lies so near the margin that no verdict would matter.
    """

    claim: Claim
    verdict: Verdict
    why: str
    step: StepResult | None = None
    measured: Interval | None = None
    limit: Limit | None = None
    passes_to_settle: int | None = None
    choice: int = 1
    passes: tuple[PassFigures, ...] = ()
    on_margin: bool = False

    @property
    def share(self) -> Interval | None:
        """Return measured over claimed, or None if untested."""
        return self.measured.scaled(1 / self.claim.figure) if self.measured else None


def judge_claims(
    claims: Sequence[Claim],
    results: Sequence[StepResult],
    margin: float = CLAIM_MARGIN,
    others: Sequence[StepResult] = (),
    rigs: int = 1,
) -> list[ClaimVerdict]:
    """Return a judgement for each claim, in the order of the sheet.

    Parameters
    ----------
    claims : sequence of Claim
    results : sequence of StepResult
        At most one for each kind of step: the latest.
    margin : float
        Share of the claim.
    others : sequence of StepResult
        Of other runs: the passes of those made alike, on the same sample and rig, count too.
    rigs : int
        Among how many rigs these results are chosen.
    """
    parsed = [(r.step, r) for r in results if r.passes]
    bare = [(s, r) for s, r in parsed if isinstance(s, IoStep) and s.bare]
    steady = [(s, r) for s, r in bare if s.steady]
    fresh = [(s, r) for s, r in bare if not s.steady]
    return [
        _judge_one(claim, steady if claim.steady else fresh, margin, others, rigs)
        for claim in claims
    ]


def _fits(claim: Claim, step: IoStep) -> bool:
    """Return True if a step tests the claim."""
    if (step.random, step.read_percent) != (claim.random, claim.read_percent):
        return False
    block = claim.block_bytes
    if block is None and (claim.unit == "IOPS" or claim.lower_is_better):
        block = USUAL_RANDOM_BLOCK
    if block is not None and step.block_bytes != block:
        return False
    if claim.lower_is_better and (step.depth, step.workers) != (
        claim.depth or 1,
        claim.workers or 1,
    ):
        return False
    return (claim.depth in (None, step.depth)) and (claim.workers in (None, step.workers))


@dataclass(frozen=True)
class Candidate:
    """A step that fits a claim, with all passes that count for it.

    `looks` is whether they were looked at before the last of them were made.
    """

    step: IoStep
    result: StepResult
    passes: tuple[PassFigures, ...]
    looks: bool

    @classmethod
    def of(cls, step: IoStep, result: StepResult, others: Sequence[StepResult]) -> Candidate:
        """With the passes of like runs, oldest first."""
        pool = sorted(alike_runs(result, others), key=lambda r: (r.started, r.run))
        return cls(step, result, tuple(p for r in pool for p in r.passes), len(pool) > 1)

    def figure(self, claim: Claim, choice: int = 1) -> Interval:
        """In the claim's unit, at the confidence that looking and choosing leave.

        The best of several is chosen by what it is judged by: each is given a part of the error
        only (Bonferroni).
        """
        error = EACH_LOOK if self.looks else FIRST_ERROR
        return interval([_of_pass(claim, p) for p in self.passes], 1 - error / choice)


def _judge_one(
    claim: Claim,
    steps: Sequence[tuple[IoStep, StepResult]],
    margin: float,
    others: Sequence[StepResult],
    rigs: int,
) -> ClaimVerdict:
    if claim.sustained:
        return _judge_sustained(claim, steps, margin)
    fitting = [(s, r) for s, r in steps if _fits(claim, s)]
    direct = [Candidate.of(s, r, others) for s, r in fitting if r.conditions.direct]
    if claim.steady:
        unsteady = [c for c in direct if not settled(c.result)]
        direct = [c for c in direct if settled(c.result)]
        if unsteady and not direct:
            why = "; ".join(_not_steady(c.result) for c in unsteady)
            return ClaimVerdict(claim, Verdict.UNTESTED, why, unsteady[0].result)
    if not direct:
        reason = "only measured buffered (page cache)" if fitting else "no such step was run"
        return ClaimVerdict(claim, Verdict.UNTESTED, f"{reason}; try: {suggested_phrase(claim)}")
    # A long write is another test: what is left behind the cliff is in its mean.
    direct = [c for c in direct if not c.step.fresh] or direct
    # In a steady state the test of the specification has looked at the slope.
    steady = direct if claim.steady else [c for c in direct if _trend_of(c.result) is None]
    if not steady:
        direct_trend = _trend_of(direct[0].result)
        assert direct_trend is not None
        return ClaimVerdict(
            claim,
            Verdict.UNTESTED,
            f"{trend_words(direct_trend)}, so it has no figure to judge; "
            "find the cause, then measure again",
            direct[0].result,
        )
    # "Up to" is a promise about the best case, so the best of the fitting steps is the fair one; of
    # rungs of equal figures the one with more passes.
    better = min if claim.lower_is_better else max
    best = better(steady, key=lambda c: c.figure(claim).median)
    rivals = [c for c in steady if c is best or not _surely_worse(claim, c, best)]
    why = _why_this_step(claim, best.step, len(steady))
    return _verdict(claim, best, margin, why, len(rivals) * rigs)


def _not_steady(result: StepResult) -> str:
    steady = result.findings.steady
    return next(iter(steady_notes(steady)), "") if steady is not None else "it was not continued"


def _surely_worse(claim: Claim, one: Candidate, best: Candidate) -> bool:
    """Return True if a step could not have been chosen, so that choosing costs nothing."""
    own, theirs = one.figure(claim), best.figure(claim)
    return own.apart(theirs) and (own.median > theirs.median) == claim.lower_is_better


def _trend_of(result: StepResult) -> Trend | None:
    return trend([p.rate_bytes_s for p in result.passes])


def trend_words(found: Trend) -> str:
    """For a reader."""
    word = "faster" if found.per_pass > 0 else "slower"
    return f"each pass was {100 * abs(found.per_pass):.1f} % {word} than the one before"


def _verdict(claim: Claim, best: Candidate, margin: float, why: str, choice: int) -> ClaimVerdict:
    result, figure = best.result, best.figure(claim, choice)
    verdict, reason = verdict_of(claim, figure, margin)
    limit = _holding(claim, result) if verdict in DOUBTFUL else None
    wanted, near = None, False
    if limit is not None:
        verdict, reason = (
            Verdict.HELD,
            f"the {limit.what} here carries {claim.shown(_in_unit(claim, limit, result))} at "
            f"most: {in_rate_unit(limit.note)}",
        )
    elif verdict is Verdict.CLOSE:
        near = best.looks and figure.least > 0 and on_margin(figure.least, figure.most)
        wanted = None if near else passes_to_settle(claim, best.passes, margin, choice)
        reason = _open_words(len(best.passes), wanted, near)
    return ClaimVerdict(
        claim,
        verdict,
        "; ".join(x for x in (why, reason) if x),
        result,
        figure,
        limit,
        wanted,
        choice,
        best.passes,
        near,
    )


def _open_words(made: int, wanted: int | None, near: bool) -> str:
    if near:
        return f"{SettlingOutcome.ON_MARGIN}, by {made} passes"
    if wanted is None:
        return (
            f"{SettlingOutcome.UNDECIDABLE}: at the spread of these {made} it would take more than "
            f"{MOST_PASSES} passes"
        )
    return f"{_passes(wanted - made)} more would settle it"


def _judge_sustained(
    claim: Claim, steps: Sequence[tuple[IoStep, StepResult]], margin: float
) -> ClaimVerdict:
    """Return the sustained figure, which is the mean over the steady end of a long write."""
    for step, result in steps:
        long_write = long_write_of(result)
        if (
            long_write is None
            or (step.random, step.read_percent) != (claim.random, claim.read_percent)
            or not result.conditions.direct
        ):
            continue
        if claim.block_bytes not in (None, step.block_bytes):
            continue
        scale = 1 / long_write.block_bytes if claim.unit == "IOPS" else 1.0
        written = show_size(long_write.total_bytes)
        sustained = long_write.sustained
        if not isinstance(sustained, Interval):
            why = f"{sustained} (after {written}): {WHY_NOT_SUSTAINED[sustained]}"
            return ClaimVerdict(claim, Verdict.UNTESTED, f"{why}; try: {LONG_WRITE}")
        if (
            not long_write.cliff
            and not long_write.slope
            and not _long_enough(step, long_write.total_bytes)
        ):
            why = (
                f"no cliff within {written}, which is too short for a sustained figure; "
                f"try: {LONG_WRITE}"
            )
            return ClaimVerdict(claim, Verdict.UNTESTED, why)
        since = show_time((long_write.steady_from_s or 0.0) * 1e9)
        why = (
            f"mean from {since} on, after the cliff"
            if long_write.cliff
            else f"mean from {since} on, after a decline"
            if long_write.slope
            else f"no cliff within {written}"
        )
        if long_write.parts[-1].shape is Shape.ALTERNATING:
            why += ", over whole cycles of a rate that alternates"
        figure = sustained.scaled(scale)
        return _sustained_verdict(
            claim, result, figure, margin, f"{why}; the interval is from one pass"
        )
    return ClaimVerdict(
        claim, Verdict.UNTESTED, f"a sustained figure needs a long write; try: {LONG_WRITE}"
    )


def _sustained_verdict(
    claim: Claim, result: StepResult, figure: Interval, margin: float, why: str
) -> ClaimVerdict:
    verdict, reason = verdict_of(claim, figure, margin)
    limit = _holding(claim, result) if verdict in DOUBTFUL else None
    if limit is not None:
        verdict, reason = (
            Verdict.HELD,
            f"the {limit.what} here carries {claim.shown(_in_unit(claim, limit, result))} at "
            f"most: {in_rate_unit(limit.note)}",
        )
    elif verdict in (Verdict.CLOSE, Verdict.ONE_PASS):
        # A long write is a single pass, whose interval comes from its slices.
        verdict, reason = Verdict.CLOSE, "a longer write would settle it"
    return ClaimVerdict(
        claim, verdict, "; ".join(x for x in (why, reason) if x), result, figure, limit
    )


WHY_NOT_SUSTAINED = {
    NotSustained.UNSTEADY: "the figure would depend on when it was stopped",
    NotSustained.SHORT: "less than a tenth of the write, or than 30 s",
}
LONG_WRITE = '"sequential write 1MiB depth 8 over 60% of free"'
LONG_ENOUGH_BYTES, LONG_ENOUGH_PERCENT = 200 * 10**9, 25
"""A write without a cliff shows a sustained rate only from this length on, bytes or % of free."""


def _long_enough(step: IoStep, written_bytes: int) -> bool:
    return (
        written_bytes >= LONG_ENOUGH_BYTES or (step.amount_free_percent or 0) >= LONG_ENOUGH_PERCENT
    )


LIMITS_OF_THE_RIG = (
    LimitSource.LINK,
    LimitSource.TESTER,
    LimitSource.PROCESSOR,
    LimitSource.SOURCE,
)
"""Limits on a result that are not the drive's own."""


def _holding(claim: Claim, result: StepResult) -> Limit | None:
    """Return the limit of the rig that lies below a claim, so that it cannot be met here."""
    if claim.lower_is_better:
        return None
    held = [
        x
        for x in result.limits
        if x.what in LIMITS_OF_THE_RIG and _in_unit(claim, x, result) < claim.figure
    ]
    return min(held, key=lambda x: x.rate_bytes_s, default=None)


def _in_unit(claim: Claim, limit: Limit, result: StepResult) -> float:
    step = result.step
    assert isinstance(step, IoStep)
    return limit.rate_bytes_s / step.block_bytes if claim.unit == "IOPS" else limit.rate_bytes_s


def passes_to_settle(
    claim: Claim, passes: Sequence[PassFigures], margin: float, choice: int = 1
) -> int | None:
    """Return the number of passes expected to decide a claim at the spread so far.

    With n passes the interval reaches ``t(n - 1) s / sqrt(n)`` to either side on the logarithm, at
    the level of a look (`jovik.analysis.settling`). None if more than `MOST_PASSES` would be
    needed.
    """
    values = [_of_pass(claim, p) / claim.figure for p in passes]
    logs = [-math.log(v) if claim.lower_is_better else math.log(v) for v in values if v > 0]
    if len(logs) < 2:
        return None
    middle = statistics.fmean(logs)
    spread = math.sqrt(variance(logs, middle))
    away = abs(middle - math.log(1 - margin))
    confidence = look_confidence(choice)
    for count in range(max(len(logs) + 1, FIRST_LOOK), MOST_PASSES + 1):
        if student_quantile(count - 1, confidence) * spread / math.sqrt(count) <= away:
            return count
    return None


def settling_goal(found: ClaimVerdict, margin: float) -> SettlingGoal:
    """Return the question that more passes of a verdict's step are to settle."""
    assert found.step is not None
    claim = found.claim
    step = found.step.step
    assert isinstance(step, IoStep)
    # A rate as a share of the claim, larger being better: of a time, the claim over it.
    if claim.lower_is_better:
        per_rate = claim.figure / 1e9 / step.block_bytes
    elif claim.unit == "IOPS":
        per_rate = 1 / claim.figure / step.block_bytes
    else:
        per_rate = 1 / claim.figure
    prior = tuple(p.rate_bytes_s * per_rate for p in found.passes)
    return SettlingGoal(per_rate, 1 - margin, found.choice, prior)


def _of_pass(claim: Claim, one: PassFigures) -> float:
    """Return a pass in the claim's unit. The block size converts IOPS and bytes a second.

    The mean access time of a pass at depth 1 is the time it took over the I/Os it made.
    """
    if claim.unit == "bytes/s":
        return one.rate_bytes_s
    return one.iops if claim.unit == "IOPS" else 1e9 / one.iops if one.iops else math.inf


def _passes(count: int) -> str:
    return f"{count} {'pass' if count == 1 else 'passes'}"


def _why_this_step(claim: Claim, step: IoStep, choice: int) -> str:
    if claim.depth is not None:
        return f"measured at depth {step.depth} as claimed"
    if choice > 1:
        return f"best of the {choice} steps that test this claim"
    return "the only step that tests this claim"


def verdict_of(claim: Claim, figure: Interval, margin: float) -> tuple[Verdict, str]:
    """Return the verdict for an interval in the claim's unit, and a reason if it needs one.

    Turned so that larger is better, with claim 1: short where the whole interval lies below ``1 -
    margin``, beaten where it lies above ``1 + margin``, met where it lies above ``1 - margin``,
    else too close to call. One pass gives no verdict.
    """
    if figure.low is None or figure.high is None:
        return Verdict.ONE_PASS, "one pass gives no verdict: measure with --passes 3 or more"
    low, high = figure.low / claim.figure, figure.high / claim.figure
    if claim.lower_is_better:
        low, high = 1 / high, 1 / low
    if high < 1 - margin:
        return Verdict.SHORT, ""
    if low < 1 - margin:
        return Verdict.CLOSE, "more passes would settle it"
    return (Verdict.BEATEN if low > 1 + margin else Verdict.MET), ""


def suggested_phrase(claim: Claim) -> str:
    """Return a phrase that would test a claim."""
    block = claim.block_bytes or (
        USUAL_RANDOM_BLOCK if claim.random or claim.unit != "bytes/s" else 2**20
    )
    depth = claim.depth or (1 if claim.lower_is_better else 32 if claim.random else 8)
    step = IoStep(claim.random, claim.read_percent, block, depth, claim.workers or 1)
    if claim.steady:
        step = replace(step, steady="rate", span_free_percent=90)
    return f'"{step.canonical}"'


def all_latencies_ns(result: StepResult) -> dict[str, float | None] | None:
    """Return the latencies of a step, both directions together, or None if nothing completed."""
    from jovik.analysis.latency import summary_ns

    whole = Latencies.merged(result.latencies.values())
    return summary_ns(whole) if whole else None
