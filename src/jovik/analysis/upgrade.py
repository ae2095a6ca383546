"""The gain from replacing one drive with another.

Times faster, seconds for everyday jobs, and a plain conclusion.
"""

from __future__ import annotations

import math
import statistics
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Literal

from jovik.analysis.comparability import (
    differences,
    is_plain,
    long_write_of,
    rate_of,
    settled,
)
from jovik.analysis.drive_class import ClassFigure
from jovik.analysis.lost_data import lost_by, lost_words
from jovik.analysis.on_link import on_link
from jovik.analysis.program_time import How, ProgramTime
from jovik.analysis.run_effect import PRIOR_ALONE, RunEffect, ratio_across, weighted
from jovik.analysis.statistics import LogFigure, ratio_interval
from jovik.analysis.step_result import StepResult
from jovik.base.findings import LostData
from jovik.base.interval import Interval
from jovik.steps import CopyStep, IoStep, parse

NOTICEABLE_RATIO = 1.25
"""From this ratio on a user notices the difference while waiting."""
SMALL_RATIO = 1.05
SERVER_DEPTH = 8
"""This many requests in flight are a server's load."""
UPGRADE_CLASSES = (
    ("sequential read", False, 100),
    ("sequential write", False, 0),
    ("random read", True, 100),
    ("random write", True, 0),
)
LARGE_WRITES, LONG = "sequential write", "long write"
WRITE_CACHE_ONLY = " as far as the write cache reaches (no sustained rate of both is known)"
MOST_PRICES = 10
"""A halving of time that costs more times the drive's price is not reckoned up."""
CLASS_WORDS = {
    "sequential read": "reading large files",
    "sequential write": "writing large files",
    "random read": "starting programs and systems",
    "random write": "small writes, such as a mail server's or a database's",
    "deep random": "many small requests at once, such as a server's",
    "long write": "long writes, beyond the write cache",
    "program": "recorded programs, as they wait for the drive",
}


class Change(StrEnum):
    """What the interval of a step's ratio allows to say."""

    ONE_PASS = "one pass is not enough"
    FASTER = "faster"
    SLOWER = "slower"
    NO_GAIN = "no gain"
    OPEN = "too close to call"


@dataclass(frozen=True)
class StepGain:
    """One kind of step that both drives have, and how many times faster the new one is."""

    kind: str
    old: Interval
    new: Interval
    times: Interval

    @property
    def verdict(self) -> Change:
        """Return the verdict that the interval allows."""
        if not self.times.known:
            return Change.ONE_PASS
        if self.times.above(SMALL_RATIO):
            return Change.FASTER
        if self.times.below(1 / SMALL_RATIO):
            return Change.SLOWER
        return Change.NO_GAIN if _unnoticed(self.times) else Change.OPEN


End = Literal["low", "median", "high"]
"""Which end of every rate's interval, or its middle, a job is computed with."""
Compute = Callable[[Sequence[StepResult], End], tuple[float | None, str]]


@dataclass(frozen=True)
class Job:
    """An everyday job and the rule by which its seconds are computed.

    `seconds` takes the results of a drive and an `End`, and gives the seconds, or None and the
    phrase whose result is missing (empty if only the interval is). Without it, the job is a
    recorded program, which is not computed from rates.
    """

    name: str
    rule: str
    seconds: Compute | None = None


COPY_LARGE_BYTES, COPY_SMALL_BYTES = 20 * 10**9, 5 * 10**9
PROJECT_BYTES = 8 * 10**9
SMALL_READS = 200_000


@dataclass(frozen=True)
class JobTime:
    """Seconds that a job takes on each drive: computed, or a program's, measured or predicted.

    None if a figure is missing, which `missing` names. The ends are with every rate at the end
    of its own interval, which is wider than 95 % asks where a job has several. `kind` is that of a
    recorded program's replay.
    """

    job: Job
    old: Interval | None
    new: Interval | None
    missing: str = ""
    how: tuple[How, How] = (How.COMPUTED, How.COMPUTED)
    kind: str | None = None

    @property
    def program(self) -> bool:
        """Return True if it is a recorded program, instead of computed from rates."""
        return self.job.seconds is None

    @property
    def predicted(self) -> bool:
        """Return True if a twin predicts one of the times."""
        return How.PREDICTED in self.how

    @property
    def title(self) -> str:
        """Return its name, with a mark if a time is predicted."""
        return f"{self.job.name} (predicted)" if self.predicted else self.job.name

    @property
    def apart(self) -> bool:
        """Return True if the intervals leave no doubt that one takes longer."""
        return self.old is not None and self.new is not None and self.old.apart(self.new)


class Felt(StrEnum):
    """What a user feels of a difference."""

    WORTH = "worth it"
    SLOWER = "slower"
    NO_GAIN = "no gain"
    OPEN = "too close to call"


@dataclass(frozen=True)
class UseGain:
    """How many times faster the new drive is at a use, a key of `CLASS_WORDS`.

    `caveat` follows the words.
    """

    use: str
    times: Interval
    caveat: str = ""

    @property
    def felt(self) -> Felt:
        """Return the verdict that the interval allows.

        A difference inside the noise is neither gain nor loss.
        """
        if self.times.above(1) and self.times.median >= NOTICEABLE_RATIO:
            return Felt.WORTH
        if self.times.below(1) and self.times.median < 1 / SMALL_RATIO:
            return Felt.SLOWER
        return Felt.NO_GAIN if _unnoticed(self.times) else Felt.OPEN

    @property
    def turned(self) -> UseGain:
        """Return the gain in the other direction."""
        return replace(self, times=self.times.inverse())

    @property
    def words(self) -> str:
        """Return the use, with its factor if that matters."""
        factor = {Felt.WORTH: self.times.median, Felt.SLOWER: 1 / self.times.median}
        times = factor.get(self.felt)
        shown = f" ({times:.1f} times)" if times is not None else ""
        return f"{CLASS_WORDS[self.use]}{shown}{self.caveat}"


@dataclass(frozen=True)
class Upgrade:
    """The comparison of two drives, by step and by use.

    `overall` is the geometric mean of the steps' ratios.
    """

    old: str
    new: str
    steps: tuple[StepGain, ...]
    jobs: tuple[JobTime, ...]
    overall: Interval | None
    uses: tuple[UseGain, ...]
    price_for_halving: float | None
    lost: LostData | None = None

    def felt(self, felt: Felt) -> tuple[str, ...]:
        """Return the uses with this verdict, in words."""
        return tuple(u.words for u in self.uses if u.felt is felt)

    @property
    def conclusion(self) -> str:
        """Return a sentence that claims no more than the figures."""
        if self.lost is not None:
            return f"worth it for no use: it {lost_words(self.lost, None)}"
        if not self.steps:
            return "no step was measured on both under the same conditions"
        worth = self.felt(Felt.WORTH)
        parts = [f"worth it for {_listed(worth)}"] if worth else ["not worth it for speed"]
        parts += [
            f"{words} {_listed(uses)}"
            for words, felt in (
                ("no gain for", Felt.NO_GAIN),
                ("slower at", Felt.SLOWER),
                ("too close to call for", Felt.OPEN),
            )
            if (uses := self.felt(felt))
        ]
        return "; ".join(parts)


def compare(
    old: str,
    new: str,
    old_results: Sequence[StepResult],
    new_results: Sequence[StepResult],
    *,
    link_bytes_s: float | None = None,
    new_price: float | None = None,
    effect: RunEffect = PRIOR_ALONE,
    program: JobTime | None = None,
) -> Upgrade:
    """Hold a drive against the one it would replace.

    Parameters
    ----------
    old_results, new_results : sequence of StepResult
        Of drives that were not filled on purpose, at most one of each kind.
    link_bytes_s : float, optional
        The payload rate of the link that the new drive will have. Every figure of it is limited to
        that.
    new_price : float, optional
        The price for halving a time.
    effect : RunEffect
        The differences between runs, which more steps of the same two runs do not reduce.
    program : JobTime, optional
        A recorded program on both, which comes first.
    """
    new_results = [r for each in new_results if (r := on_link(each, link_bytes_s)) is not None]
    steps = []
    pairs: list[Pair] = []
    by_class: dict[str, list[Pair]] = {}
    for result in new_results:
        other = next(
            (r for r in old_results if r.kind == result.kind and not differences(r, result)), None
        )
        if other is None or not all(_good(r) and settled(r) for r in (result, other)):
            continue
        own, theirs = rate_of(result), rate_of(other)
        times = ratio_interval(ratio_across(result, other, effect))
        steps.append(StepGain(result.kind, theirs, own, times))
        pair = (result, other)
        if times.known:
            pairs.append(pair)
        name = _class_of(result)
        if name is not None:
            by_class.setdefault(name, []).append(pair)
    overall = ratio_interval(_mean_of(pairs, effect)) if pairs else None
    unknown = WRITE_CACHE_ONLY if LARGE_WRITES in by_class and LONG not in by_class else ""
    uses = tuple(
        UseGain(
            use,
            ratio_interval(_mean_of(by_class[use], effect)),
            unknown if use == LARGE_WRITES else "",
        )
        for use in CLASS_WORDS
        if use in by_class
    )
    halving = None
    if new_price is not None and overall is not None and overall.median > 1:
        halving = new_price / math.log2(overall.median)
        # What hardly gains would cost any sum for twice the speed.
        halving = halving if halving <= MOST_PRICES * new_price else None
    asked = [program] if program is not None else []
    replays = _replays(old_results, new_results)
    jobs = (
        *asked,
        *(j for j in replays if program is None or j.kind != program.kind),
        *(_job(job, old_results, new_results) for job in DAILY_JOBS),
    )
    return Upgrade(
        old,
        new,
        tuple(steps),
        jobs,
        overall,
        uses,
        price_for_halving=halving,
        lost=lost_by(new_results),
    )


OF_ACCESS = {
    "sequential read": "sequential read",
    "sequential write": "sequential write",
    "sustained write": "long write",
    "random read 4KiB": "random read",
    "random read 4KiB depth 32": "deep random",
    "random write 4KiB": "random write",
    "random write 4KiB depth 32": "deep random",
}
"""Classes of step as classes of drives name them, and the uses that they stand for."""


def compare_with_class(old: str, title: str, figures: Sequence[ClassFigure]) -> Upgrade:
    """Compare a drive with the usual range of a class that would replace it.

    Parameters
    ----------
    title : str
        Of the class.
    figures : sequence of ClassFigure
        The drive's figures beside the class's ranges. A gain is as uncertain as both.
    """
    steps, uses = [], dict[str, Interval]()
    for f in figures:
        value, usual = f.value, f.usual
        times = Interval(
            usual.usual / value.median, usual.low / value.most, usual.high / value.least
        )
        scale = f.result.step.block_bytes if usual.is_iops else 1  # type: ignore[attr-defined]
        ranged = Interval(usual.usual, usual.low, usual.high).scaled(scale)
        steps.append(StepGain(f.result.kind, value.scaled(scale), ranged, times))
        uses.setdefault(OF_ACCESS[usual.what], times)
    overall = None
    if steps:
        ends = [[getattr(s.times, end) for s in steps] for end in ("median", "low", "high")]
        overall = Interval(*(statistics.geometric_mean(e) for e in ends))
    return Upgrade(
        old,
        title,
        tuple(steps),
        (),
        overall,
        tuple(UseGain(use, uses[use]) for use in CLASS_WORDS if use in uses),
        None,
    )


Pair = tuple[StepResult, StepResult]
"""A kind of step on the new drive and on the old one."""


def _mean_of(pairs: Sequence[Pair], effect: RunEffect) -> LogFigure:
    """Return the geometric mean of the new drive's ratios to the old one."""
    share = 1 / len(pairs)
    terms = [t for new, old in pairs for t in ((share, new), (-share, old))]
    return weighted(terms, effect)


def _unnoticed(times: Interval) -> bool:
    """Return True if nobody would notice the difference, in either direction."""
    return times.above(1 / NOTICEABLE_RATIO) and times.below(NOTICEABLE_RATIO)


def _class_of(result: StepResult) -> str | None:
    step = parse(result.kind)
    if result.findings.replay is not None:
        return "program"
    if not isinstance(step, IoStep) or not step.plain:
        return None
    if long_write_of(result) is not None:
        return "long write"
    if step.random and step.depth * step.workers >= SERVER_DEPTH:
        return "deep random"
    return next(
        (
            n
            for n, random, share in UPGRADE_CLASSES
            if (step.random, step.read_percent) == (random, share)
        ),
        None,
    )


def _replays(old: Sequence[StepResult], new: Sequence[StepResult]) -> list[JobTime]:
    """Compare recorded programs that both drives replayed: measured, not computed from rates."""
    replays = []
    for result in new:
        after = result.findings.replay
        other = next((r for r in old if r.kind == result.kind and r.findings.replay), None)
        before = other.findings.replay if other is not None else None
        if after is None or before is None:
            continue
        own = max(before.elapsed_s.median - before.waited_s.median, 0.0)
        rule = f"the recording replayed on both; {own:.2g} s of it are not the drive's"
        name = result.step.label.removeprefix("replay of ").replace("-", " ")
        times = before.elapsed_s, after.elapsed_s
        how = How.MEASURED, How.MEASURED
        replays.append(JobTime(Job(name, rule), *times, how=how, kind=result.kind))
    return replays


def program_job(name: str, kind: str, old: ProgramTime, new: ProgramTime) -> JobTime:
    """Return a recorded program on two drives.

    Parameters
    ----------
    name : str
        Of the recording.
    kind : str
        Of its replay.
    """
    twins = [t for t in (old, new) if t.predicted]
    rule = "the recording replayed"
    if twins:
        each = [f"{t.drive} (a step is off by {100 * (t.typical_error or 0):.1f} %)" for t in twins]
        rule = f"predicted, with a 90 % interval, by the twin of {' and of '.join(each)}"
    times = old.elapsed_s, new.elapsed_s
    how = old.how, new.how
    return JobTime(Job(name.replace("-", " "), rule), *times, how=how, kind=kind)


def _job(job: Job, old: Sequence[StepResult], new: Sequence[StepResult]) -> JobTime:
    before, missing_old = _spread(job, old)
    after, missing_new = _spread(job, new)
    return JobTime(job, before, after, missing_old or missing_new)


def _spread(job: Job, results: Sequence[StepResult]) -> tuple[Interval | None, str]:
    """Return a job's seconds with the ends that its rates leave it."""
    assert job.seconds is not None
    middle, missing = job.seconds(results, "median")
    if middle is None:
        return None, missing
    low, high = (job.seconds(results, end)[0] for end in ("high", "low"))
    return Interval(middle, low, high) if None not in (low, high) else Interval(middle), ""


def _copy_s(results: Sequence[StepResult], end: End) -> tuple[float | None, str]:
    rate = _rate(results, random=False, share=0, depth=8)
    if rate is None:
        return None, "sequential write 512KiB depth 4"
    small = max(
        (r.rate for r in results if _small_copy(r)),
        key=lambda i: i.median,
        default=None,
    )
    if small is None:
        return None, "copy in 9000 files of 40kB"
    parts = [(COPY_LARGE_BYTES, rate), (COPY_SMALL_BYTES, small)]
    beyond = _beyond_cliff(results)
    if beyond and beyond[0][0] < COPY_LARGE_BYTES:
        starts = [start for start, _ in beyond]
        parts[0] = starts[0], rate
        for (start, after), end_at in zip(beyond, [*starts[1:], COPY_LARGE_BYTES], strict=True):
            parts.append((max(min(end_at, COPY_LARGE_BYTES) - start, 0), after))
    seconds = [_seconds_at(size, value, end) for size, value in parts]
    known = [s for s in seconds if s is not None]
    return (sum(known) if len(known) == len(seconds) else None), ""


def _beyond_cliff(results: Sequence[StepResult]) -> list[tuple[int, Interval]]:
    """Return each level of a long write from the cliff on: where it begins, and its rate.

    A drive that recovers after a while is not slow for good.
    """
    for r in results:
        written = long_write_of(r) if is_plain(r) else None
        if written is None or written.cliff is None:
            continue
        at = written.cliff.at_bytes
        levels = [
            (max(p.start_bytes, at), p.rate_bytes_s) for p in written.parts if p.end_bytes > at
        ]
        first = Interval(written.cliff.after_bytes_s, levels[0][1].low, levels[0][1].high)
        return [(at, first), *levels[1:]]
    return []


def _seconds_at(size: float, rate: Interval, end: End) -> float | None:
    value = getattr(rate, end)
    return size / value if value else None


def _small_copy(result: StepResult) -> bool:
    step = result.step
    return (
        isinstance(step, CopyStep)
        and step.inward
        and 0 < step.file_bytes <= 10**7
        and bool(result.passes)
    )


def _project_s(results: Sequence[StepResult], end: End) -> tuple[float | None, str]:
    rate = _rate(results, random=False, share=100, depth=1)
    if rate is None:
        return None, "sequential read 512KiB"
    return _seconds_at(PROJECT_BYTES, rate, end), ""


def _small_s(results: Sequence[StepResult], end: End) -> tuple[float | None, str]:
    result = next((r for r in results if r.kind == "random read 4KiB" and r.passes), None)
    if result is None:
        return None, "random read 4KiB"
    return _seconds_at(SMALL_READS, result.iops, end), ""


def _rate(
    results: Sequence[StepResult], *, random: bool, share: int, depth: int
) -> Interval | None:
    """Return the figure of the step whose depth is nearest, bytes a second."""
    rates: list[tuple[float, float, Interval]] = []
    for r in results:
        step = r.step
        if (
            not isinstance(step, IoStep)
            or (step.random, step.read_percent) != (random, share)
            or long_write_of(r) is not None
            or not _good(r)
        ):
            continue
        if not step.plain or step.block_bytes < 65536:
            continue
        rate = r.rate
        rates.append((abs(math.log2(step.depth * step.workers / depth)), -rate.median, rate))
    return min(rates, key=lambda f: f[:2])[2] if rates else None


def _good(result: StepResult) -> bool:
    return bool(result.passes) and all(p.rate_bytes_s > 0 for p in result.passes)


def _listed(names: Sequence[str]) -> str:
    return ", ".join(names[:-1]) + " and " + names[-1] if len(names) > 1 else names[0]


DAILY_JOBS = (
    Job(
        "copy 25 GB of mixed files",
        "20 GB at the sequential write rate, beyond the cliff at the rate after it; 5 GB "
        "at the rate of small files",
        _copy_s,
    ),
    Job(
        "load an 8 GB project",
        "8 GB at the sequential read rate of one request at a time, or the nearest there is",
        _project_s,
    ),
    Job(
        "200,000 small reads",
        "200,000 over the I/Os a second of random read 4 KiB, one at a time",
        _small_s,
    ),
)
