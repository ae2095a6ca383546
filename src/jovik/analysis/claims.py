"""Comparing measurements with claims."""

from __future__ import annotations

import math
import statistics
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from jovik.analysis.claim_candidates import (
    ClaimCandidate,
    Lack,
    Pooled,
    drawback_words,
    figure_in,
    lacks_of,
    of_order,
    of_pass,
    suggested_phrase,
    trend_of,
    trend_words,
)
from jovik.analysis.comparability import long_write_of, settled
from jovik.analysis.evidence import Candidate, Choice, Drawback, link_rate_of
from jovik.analysis.settling import (
    FIRST_LOOK,
    MOST_PASSES,
    SettlingGoal,
    SettlingOutcome,
    look_confidence,
    on_margin,
)
from jovik.analysis.statistics import (
    student_quantile,
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
    many runs; `on_margin` whether it lies so near the margin that no verdict would matter;
    `candidates` every result of the claim's order and direction, and `suggestion` the phrase of the
    step that would test it.
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
    candidates: tuple[ClaimCandidate, ...] = ()
    suggestion: str = ""

    @property
    def share(self) -> Interval | None:
        """Return measured over claimed, or None if untested."""
        return self.measured.scaled(1 / self.claim.figure) if self.measured else None


def judge_claims(
    claims: Sequence[Claim],
    results: Sequence[StepResult],
    margin: float = CLAIM_MARGIN,
    passed_over: Sequence[tuple[Choice, Candidate]] = (),
) -> list[ClaimVerdict]:
    """Return a judgement for each claim, in the order of the sheet.

    Parameters
    ----------
    claims : sequence of Claim
    results : sequence of StepResult
        At most one for each kind of step, chosen by `jovik.analysis.evidence`.
    margin : float
        Share of the claim.
    passed_over : sequence of (Choice, Candidate)
        Results that do not represent the drive, beside the choice that does.
    """
    return [_judge_one(claim, results, margin, passed_over) for claim in claims]


def _judge_one(
    claim: Claim,
    results: Sequence[StepResult],
    margin: float,
    passed_over: Sequence[tuple[Choice, Candidate]],
) -> ClaimVerdict:
    fitting = {id(r): lacks_of(claim, r) for r in of_order(claim, results)}
    usable = [Pooled.of(r) for r in results if fitting.get(id(r)) == []]
    drifting = [] if claim.steady or claim.sustained else [c for c in usable if trend_of(c.result)]
    if claim.sustained:
        verdict = _judge_sustained(claim, [c.result for c in usable], results, margin)
    else:
        usable = [c for c in usable if c not in drifting]
        rigs = {
            o.result.conditions.rig
            for choice, o in passed_over
            if choice.why_not(o) is Drawback.RIG and fitting.get(id(choice.result)) == []
        }
        verdict = _judge_best(claim, usable, drifting, fitting, results, margin, len(rigs) + 1)
    candidates = _candidates(claim, verdict, results, fitting, drifting, passed_over)
    other_words = [verdict.why, *_left_out_words(claim, candidates, verdict)]
    if claim.conditions:
        other_words.append(f"the maker's own conditions, not repeated here: {claim.conditions}")
    return replace(
        verdict,
        why="; ".join(x for x in other_words if x),
        candidates=tuple(candidates),
        suggestion=suggested_phrase(claim),
    )


def _judge_best(
    claim: Claim,
    usable: Sequence[Pooled],
    drifting: Sequence[Pooled],
    fitting: Mapping[int, Sequence[Lack]],
    results: Sequence[StepResult],
    margin: float,
    rigs: int,
) -> ClaimVerdict:
    """Return the verdict by the best of the steps that test a claim."""
    if claim.steady:
        unsteady = [c for c in usable if not settled(c.result)]
        usable = [c for c in usable if settled(c.result)]
        if unsteady and not usable:
            why = "; ".join(_not_steady(c.result) for c in unsteady)
            return ClaimVerdict(claim, Verdict.UNTESTED, why, unsteady[0].result)
    # "Up to" is a promise about the best case, so the best of the fitting steps is the fair one; of
    # rungs of equal figures the one with more passes.
    better = min if claim.lower_is_better else max
    best = better(usable, key=lambda c: c.figure(claim).median) if usable else None
    verdict = None
    if best is not None:
        rivals = [c for c in usable if c is best or not _surely_worse(claim, c, best)]
        why = _why_this_step(claim, best.step, len(usable))
        verdict = _verdict(claim, best, margin, why, len(rivals) * rigs)
    # A weaker step never stands for one that drifts: what that one does is not known yet.
    stronger = [c for c in drifting if best is None or not _surely_worse(claim, c, best)]
    if stronger and (verdict is None or verdict.verdict in DOUBTFUL):
        top = better(stronger, key=lambda c: c.figure(claim).median)
        direction = trend_of(top.result)
        assert direction is not None
        why = (
            f"{top.step.label} did {claim.shown(top.figure(claim).median)}, but "
            f"{trend_words(direction)}, so it has no figure to judge; find the cause, then "
            "measure again"
        )
        return ClaimVerdict(claim, Verdict.UNTESTED, why, top.result)
    if verdict is not None:
        return verdict
    return ClaimVerdict(
        claim, Verdict.UNTESTED, f"{_missing_words(fitting)}; try: {suggested_phrase(claim)}"
    )


CURABLE = (Lack.BUFFERED, Lack.CACHE, Lack.CLIFF)
"""What a step lacks that would test the claim if it was repeated properly."""


def _missing_words(fitting: Mapping[int, Sequence[Lack]]) -> str:
    """Return why no step decides a claim."""
    nearly = [lacks for lacks in fitting.values() if lacks and set(lacks) <= set(CURABLE)]
    if not nearly:
        return "no such step was run"
    if Lack.BUFFERED in nearly[0]:
        return "only measured buffered (page cache)"
    return f"the step that tests it {'; '.join(nearly[0])}"


def _candidates(
    claim: Claim,
    verdict: ClaimVerdict,
    results: Sequence[StepResult],
    fitting: Mapping[int, Sequence[Lack]],
    drifting: Sequence[Pooled],
    passed_over: Sequence[tuple[Choice, Candidate]],
) -> list[ClaimCandidate]:
    """Return every result of the claim's order and direction, with what it lacks."""
    found = []
    drift = {id(c.result) for c in drifting}
    for r in results:
        if id(r) not in fitting:
            continue
        lacks = [*fitting[id(r)], *([Lack.DRIFT] if id(r) in drift else [])]
        if not lacks and r is not verdict.step:
            lacks = [Lack.LESS]
        found.append(ClaimCandidate(r, tuple(lacks), figure_in(claim, r)))
    for choice, other in passed_over:
        if id(choice.result) in fitting:
            why = choice.why_not(other)
            lacks = [*lacks_of(claim, other.result), Lack.NOT_CHOSEN]
            measured = figure_in(claim, other.result)
            found.append(ClaimCandidate(other.result, tuple(lacks), measured, why))
    return found


def _left_out_words(
    claim: Claim, candidates: Sequence[ClaimCandidate], verdict: ClaimVerdict
) -> list[str]:
    """Return the steps that would have tested a claim and were left out, with the reason."""
    words = []
    shown: set[tuple[object, ...]] = set()
    for c in candidates:
        figure = claim.shown(c.measured.median) if c.measured is not None else "no figure"
        if c.lacks == (Lack.DRIFT,) and c.result is not verdict.step:
            direction = trend_of(c.result)
            assert direction is not None
            words.append(f"left out: {c.result.step.label}, {figure}: {trend_words(direction)}")
        elif c.lacks == (Lack.NOT_CHOSEN,) and c.drawback not in (None, Drawback.OLDER):
            assert c.drawback is not None
            where = c.result.conditions
            key = (c.drawback, where.sample, where.rig, where.link)
            if c.drawback is Drawback.RIG and verdict.step is not None and not words:
                words.append(f"on rig '{verdict.step.conditions.rig}' (run {verdict.step.run})")
            if key not in shown:
                words.append(f"not used: {figure} {drawback_words(c.result, c.drawback)}")
            shown.add(key)
        elif c.lacks and set(c.lacks) <= {Lack.CACHE, Lack.CLIFF}:
            words.append(f"left out: {figure}, which {' and '.join(c.lacks)}")
    return words


def _not_steady(result: StepResult) -> str:
    steady = result.findings.steady
    return next(iter(steady_notes(steady)), "") if steady is not None else "it was not continued"


def _surely_worse(claim: Claim, one: Pooled, best: Pooled) -> bool:
    """Return True if a step could not have been chosen, so that choosing costs nothing."""
    own, theirs = one.figure(claim), best.figure(claim)
    return own.apart(theirs) and (own.median > theirs.median) == claim.lower_is_better


def _verdict(claim: Claim, best: Pooled, margin: float, why: str, choice: int) -> ClaimVerdict:
    # The table shows one interval, of 95 %; looking and choosing cost the verdict certainty.
    result, figure = best.result, best.figure(claim)
    judged = best.judged(claim, choice)
    verdict, reason = verdict_of(claim, judged, margin)
    limit = _holding(claim, result, margin) if verdict in DOUBTFUL else None
    wanted, near = None, False
    if limit is not None:
        verdict, reason = Verdict.HELD, _held_words(claim, limit, result)
    elif verdict is Verdict.CLOSE:
        near = best.looks and judged.least > 0 and on_margin(judged.least, judged.most)
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
    claim: Claim, usable: Sequence[StepResult], results: Sequence[StepResult], margin: float
) -> ClaimVerdict:
    """Return the sustained figure, which is the mean over the steady end of a long write."""
    writes = [(r, w) for r in usable if (w := long_write_of(r)) is not None]
    if not writes:
        return ClaimVerdict(
            claim,
            Verdict.UNTESTED,
            f"{_no_long_write(claim, results)}; try: {suggested_phrase(claim)}",
        )
    # The longest has had the most time to become steady.
    result, long_write = max(writes, key=lambda x: x[1].total_bytes)
    sustained = long_write.sustained
    assert isinstance(sustained, Interval)
    scale = 1 / long_write.block_bytes if claim.unit == "IOPS" else 1.0
    since = show_time((long_write.steady_from_s or 0.0) * 1e9)
    why = (
        f"mean from {since} on, after the cliff"
        if long_write.cliff
        else f"mean from {since} on, after a decline"
        if long_write.slope
        else f"no cliff within {show_size(long_write.total_bytes)}"
    )
    if long_write.parts[-1].shape is Shape.ALTERNATING:
        why += ", over whole cycles of a rate that alternates"
    return _sustained_verdict(
        claim, result, sustained.scaled(scale), margin, f"{why}; the interval is from one pass"
    )


def _no_long_write(claim: Claim, results: Sequence[StepResult]) -> str:
    """Return why no long write decides a sustained claim."""
    for r in of_order(claim, results):
        written, lacks = long_write_of(r), set(lacks_of(claim, r))
        if written is None:
            continue
        size = show_size(written.total_bytes)
        sustained = written.sustained
        if lacks == {Lack.UNSTEADY} and not isinstance(sustained, Interval):
            return f"{sustained} (after {size}): {WHY_NOT_SUSTAINED[sustained]}"
        if lacks == {Lack.SHORT}:
            return f"no cliff within {size}, which is too short for a sustained figure"
        if lacks <= {Lack.BLOCK, Lack.DEPTH, Lack.WORKERS}:
            return f"the long write has {' and '.join(sorted(lacks))} than the claim"
    return "a sustained figure needs a long write"


def _sustained_verdict(
    claim: Claim, result: StepResult, figure: Interval, margin: float, why: str
) -> ClaimVerdict:
    verdict, reason = verdict_of(claim, figure, margin)
    limit = _holding(claim, result, margin) if verdict in DOUBTFUL else None
    if limit is not None:
        verdict, reason = Verdict.HELD, _held_words(claim, limit, result)
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
LIMITS_OF_THE_RIG = (
    LimitSource.LINK,
    LimitSource.TESTER,
    LimitSource.PROCESSOR,
    LimitSource.SOURCE,
    LimitSource.GROUP_BYTES,
    LimitSource.GROUP_IOS,
)
"""Limits on a result that are not the drive's own."""


def _holding(claim: Claim, result: StepResult, margin: float) -> Limit | None:
    """Return the limit of the rig that lies below a claim, so that it cannot be met here.

    A link that carries less than would meet the claim counts whatever part of it was reached.
    """
    if claim.lower_is_better:
        return None
    held = [
        x
        for x in result.limits
        if x.what in LIMITS_OF_THE_RIG and _in_unit(claim, x, result) < claim.figure
    ]
    carries = link_rate_of(result)
    if carries is not None:
        link = Limit(LimitSource.LINK, carries, f"{result.conditions.link} carries no more")
        if _in_unit(claim, link, result) < (1 - margin) * claim.figure:
            held.append(link)
    return min(held, key=lambda x: x.rate_bytes_s, default=None)


def _held_words(claim: Claim, limit: Limit, result: StepResult) -> str:
    carried = claim.shown(_in_unit(claim, limit, result))
    return f"the {limit.what} here carries {carried} at most: {in_rate_unit(limit.note)}"


def _in_unit(claim: Claim, limit: Limit, result: StepResult) -> float:
    step = result.step
    assert isinstance(step, IoStep)
    return limit.rate_bytes_s / step.block_bytes if claim.unit == "IOPS" else limit.rate_bytes_s


MEDIAN_SPREAD = math.sqrt(math.pi / 2)
"""How much more a median spreads than a mean, of many passes whose noise is normal."""


def passes_to_settle(
    claim: Claim, passes: Sequence[PassFigures], margin: float, choice: int = 1
) -> int | None:
    """Return the number of passes expected to decide a claim at the spread so far.

    With n passes the interval of their median reaches ``1.25 t(n - 1) s / sqrt(n)`` to either side
    on the logarithm, at the level of a look (`jovik.analysis.settling`). None if more than
    `MOST_PASSES` would be needed.
    """
    values = [of_pass(claim, p) / claim.figure for p in passes]
    logs = [-math.log(v) if claim.lower_is_better else math.log(v) for v in values if v > 0]
    if len(logs) < 2:
        return None
    spread = MEDIAN_SPREAD * math.sqrt(variance(logs, statistics.fmean(logs)))
    away = abs(statistics.median(logs) - math.log(1 - margin))
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


def all_latencies_ns(result: StepResult) -> dict[str, float | None] | None:
    """Return the latencies of a step, both directions together, or None if nothing completed."""
    from jovik.analysis.latency import summary_ns

    whole = Latencies.merged(result.latencies.values())
    return summary_ns(whole) if whole else None
