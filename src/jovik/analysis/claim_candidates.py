"""Which results test a claim, and what the others lack."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from jovik.analysis.comparability import crossed_cliff, long_write_of, settled
from jovik.analysis.evidence import Drawback
from jovik.analysis.settling import EACH_LOOK, FIRST_ERROR
from jovik.analysis.statistics import Trend, interval, trend
from jovik.analysis.step_result import PassFigures, StepResult
from jovik.base.findings import LongWrite
from jovik.base.interval import Interval
from jovik.sheets.sheet import Claim
from jovik.steps import IoStep, Step

STREAM_BLOCK, USUAL_RANDOM_DEPTH, LEAST_DEEP = 512 * 2**10, 32, 16
"""The block of a stream, and the depth of small requests, that a claim leaves open."""
USUAL_RANDOM_BLOCK = 4096
"""The block of a claim in IOPS that does not name one, as makers use it."""


class Lack(StrEnum):
    """What a result lacks to decide a claim."""

    ORDER = "another order or direction"
    BLOCK = "another block size"
    DEPTH = "another depth"
    WORKERS = "another number of workers"
    SPAN = "another file size"
    PAYLOAD = "another payload"
    SPECIAL = "another test (paced, durable or verified)"
    STATE = "another state (short test or steady state)"
    LONG = "a long write, whose rate is the sustained one"
    SHORT = "too short for a sustained figure"
    UNSTEADY = "not steady at its end"
    BUFFERED = "measured through the page cache"
    CLIFF = "ran across the cliff"
    CACHE = "began with the write cache partly full"
    DRIFT = "its passes drift"
    LESS = "does less than the chosen one"
    NOT_CHOSEN = "another result represents the drive better"


@dataclass(frozen=True)
class ClaimCandidate:
    """A result of the claim's order and direction, and what it lacks to decide the claim.

    `drawback` is why another result of the same step represents the drive. `measured` is in the
    claim's unit.
    """

    result: StepResult
    lacks: tuple[Lack, ...] = ()
    measured: Interval | None = None
    drawback: Drawback | None = None


def lacks_of(claim: Claim, result: StepResult) -> list[Lack]:
    """Return what a result of the claim's order and direction lacks to test it."""
    step = result.step
    assert isinstance(step, IoStep)
    written = long_write_of(result)
    lacks = {
        Lack.BUFFERED: not result.conditions.direct,
        Lack.LONG: written is not None and not claim.sustained,
        Lack.SHORT: claim.sustained and (written is None or not _lasted(step, written)),
        Lack.UNSTEADY: claim.sustained and written is not None and not settled(result),
        Lack.CLIFF: crossed_cliff(result) is not None,
        Lack.CACHE: result.findings.write_cache_full and not claim.sustained,
    }
    return _step_lacks(claim, step) + [lack for lack, there in lacks.items() if there]


def _step_lacks(claim: Claim, step: IoStep) -> list[Lack]:
    """Return what a step of the claim's order and direction lacks by its phrase."""
    block = claim.block_bytes
    if block is None and (claim.unit == "IOPS" or claim.lower_is_better):
        block = USUAL_RANDOM_BLOCK
    depth, workers = claim.depth, claim.workers
    if claim.lower_is_better:
        depth, workers = depth or 1, workers or 1
    lacks = {
        Lack.SPECIAL: not replace(step, compressible_percent=0).bare,
        Lack.PAYLOAD: (claim.compressible_percent or 0) != step.compressible_percent,
        Lack.SPAN: claim.span_bytes is not None and step.span != suggested_step(claim).span,
        Lack.BLOCK: block not in (None, step.block_bytes),
        Lack.DEPTH: depth not in (None, step.depth),
        Lack.WORKERS: workers not in (None, step.workers),
        Lack.STATE: claim.steady != bool(step.steady),
    }
    return [lack for lack, there in lacks.items() if there]


def tests_claim(step: Step, claim: Claim) -> bool:
    """Return True if a step is meant to test a claim: its order, block, depth, workers and state.

    A random claim that leaves the depth open is about many requests at once.
    """
    if not isinstance(step, IoStep):
        return False
    if (step.random, step.read_percent) != (claim.random, claim.read_percent):
        return False
    deep = step.depth * step.workers >= LEAST_DEEP or not claim.random
    open_depth = claim.depth is None and not claim.lower_is_better
    long = step.fresh or step.long_timed
    return not _step_lacks(claim, step) and claim.sustained == long and (deep or not open_depth)


def of_order(claim: Claim, results: Sequence[StepResult]) -> list[StepResult]:
    """Return the results whose order and direction are the claim's."""
    return [
        r
        for r in results
        if isinstance(step := r.step, IoStep)
        and r.passes
        and (step.random, step.read_percent) == (claim.random, claim.read_percent)
    ]


@dataclass(frozen=True)
class Pooled:
    """A step that fits a claim, with all passes that count for it.

    `looks` is whether they were looked at before the last of them were made.
    """

    step: IoStep
    result: StepResult
    passes: tuple[PassFigures, ...]
    looks: bool

    @classmethod
    def of(cls, result: StepResult) -> Pooled:
        """Return a result, and whether its passes are of several runs."""
        step = result.step
        assert isinstance(step, IoStep)
        return cls(step, result, result.passes, len(result.from_runs) > 1)

    def figure(self, claim: Claim) -> Interval:
        """Return the figure in the claim's unit with its 95 % interval."""
        return interval([of_pass(claim, p) for p in self.passes])

    def judged(self, claim: Claim, choice: int) -> Interval:
        """Return the same at the confidence that looking and choosing leave.

        The best of several is chosen by what it is judged by: each is given a part of the error
        only (Bonferroni).
        """
        error = EACH_LOOK if self.looks else FIRST_ERROR
        return interval([of_pass(claim, p) for p in self.passes], 1 - error / choice)


def figure_in(claim: Claim, r: StepResult) -> Interval | None:
    """Return the figure of a result in the claim's unit, with its 95 % interval.

    None if it has none in that unit: an access time is of one request at a time.
    """
    written = long_write_of(r)
    step = r.step
    assert isinstance(step, IoStep)
    if written is not None:
        scale = 1 / step.block_bytes if claim.unit == "IOPS" else 1.0
        sustained = written.sustained
        is_rate = isinstance(sustained, Interval) and not claim.lower_is_better
        return sustained.scaled(scale) if is_rate and isinstance(sustained, Interval) else None
    if claim.lower_is_better and step.depth * step.workers > 1:
        return None
    return interval([of_pass(claim, p) for p in r.passes])


def of_pass(claim: Claim, one: PassFigures) -> float:
    """Return a pass in the claim's unit. The block size converts IOPS and bytes a second.

    The mean access time of a pass at depth 1 is the time it took over the I/Os it made.
    """
    if claim.unit == "bytes/s":
        return one.rate_bytes_s
    return one.iops if claim.unit == "IOPS" else 1e9 / one.iops if one.iops else math.inf


def trend_of(result: StepResult) -> Trend | None:
    """Return the trend of a result's passes, or None if they have none.

    Passes of several runs differ from run to run, which is no trend.
    """
    if len(result.from_runs) > 1:
        return None
    return trend([p.rate_bytes_s for p in result.passes])


def trend_words(found: Trend) -> str:
    """For a reader."""
    word = "faster" if found.per_pass > 0 else "slower"
    return f"each pass was {100 * abs(found.per_pass):.1f} % {word} than the one before"


def _lasted(step: IoStep, written: LongWrite) -> bool:
    """Return True if a long write fell, or was long enough to show that it does not."""
    fell = written.cliff is not None or written.slope is not None
    return fell or _long_enough(step, written.total_bytes)


LONG_ENOUGH_BYTES, LONG_ENOUGH_PERCENT = 200 * 10**9, 25
"""A write without a cliff shows a sustained rate only from this length on, bytes or % of free."""


def _long_enough(step: IoStep, written_bytes: int) -> bool:
    return (
        written_bytes >= LONG_ENOUGH_BYTES or (step.amount_free_percent or 0) >= LONG_ENOUGH_PERCENT
    )


def drawback_words(result: StepResult, drawback: Drawback) -> str:
    """Return where a result was measured and why it does not represent the drive."""
    c = result.conditions
    link = f"on {c.link}" if c.link else f"on rig '{c.rig}'"
    words = {
        Drawback.NO_FIGURE: "without a steady figure",
        Drawback.SUSPECT: f"of {c.sample}, which is suspect",
        Drawback.BUFFERED: "through the page cache",
        Drawback.LINK: f"of {c.sample} {link}, which carries no more",
        Drawback.CONTROL_GROUP: "which a control group held back",
        Drawback.RIG: f"on rig '{c.rig}', where the same sample did less",
        Drawback.FIRMWARE: f"with firmware {c.firmware}",
        Drawback.CACHE: "with the write cache partly full",
        Drawback.DISTURBED: "while something else used the drive or the machine",
        Drawback.DRIFT: "with passes that drift",
        Drawback.ONE_PASS: "by one pass",
        Drawback.OLDER: "earlier",
    }
    return f"{words[drawback]} (run {result.run})"


def suggested_phrase(claim: Claim) -> str:
    """Return a phrase that would test a claim, in quotes."""
    return f'"{suggested_step(claim).canonical}"'


def suggested_step(claim: Claim) -> IoStep:
    """Return a step with the claim's conditions, and usual values for those it leaves open."""
    block = claim.block_bytes or (
        USUAL_RANDOM_BLOCK if claim.random or claim.unit != "bytes/s" else STREAM_BLOCK
    )
    usual_depth = 1 if claim.lower_is_better else USUAL_RANDOM_DEPTH if claim.random else 4
    depth = claim.depth or usual_depth
    step = IoStep(
        claim.random,
        claim.read_percent,
        block,
        depth,
        claim.workers or 1,
        span_bytes=claim.span_bytes,
        compressible_percent=claim.compressible_percent or 0,
    )
    if claim.sustained and claim.random:
        return replace(step, time_ns=SUSTAINED_TIME_NS)
    if claim.sustained:
        return replace(step, amount_free_percent=SUSTAINED_PERCENT)
    if claim.steady:
        return replace(step, steady="rate", span_free_percent=90)
    return step


SUSTAINED_TIME_NS = 20 * 60 * 10**9
"""A random write is sustained in minutes: its amount may be small for its time."""
SUSTAINED_PERCENT = 60
"""Percentage of the free space that a long write for a sustained claim takes."""
