"""A rest: idle for a time, until the drive is cool, or until its write cache has recovered."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.io_session import Progress, ProgressCallback, Workload, no_progress
from jovik.base.quantities import parse_time, show_rate, show_time, spell_time
from jovik.steps.io_step import DEFAULT_SPAN_BYTES, IoStep
from jovik.steps.step import PreparingStep
from jovik.steps.tokens import Cursor, above_zero, in_range, whole

if TYPE_CHECKING:
    from jovik.base.io_session import Session
    from jovik.runs.running_step import RunningStep

LIMIT_NS = 10 * 60 * 10**9
"""Maximum duration of a conditional rest, unless the phrase sets it."""
DEGREE_RANGE = (1, 120)
PROBE_BYTES, PROBE_NS = 8 * 10**9, 2 * 10**9
"""The short write that shows whether the cache has recovered: as much as a short test writes.

Less would fit into a cache that has hardly begun to drain.
"""
RECOVERED_FRACTION = 0.9
"""The share of its first rate at which a drive counts as recovered."""
FIRST_PAUSE_NS, LONGEST_PAUSE_NS = 5 * 10**9, 180 * 10**9
LOOK_NS = 10**9
GLANCE_NS = 5 * 10**8
EXPECTED_SHARE = 0.05
"""The expected share of its limit that a conditional rest takes: most drives recover soon."""


@dataclass(frozen=True)
class RestStep(PreparingStep):
    """Stay idle for a time, until cool enough, or until writes are fast again.

    `time_ns` is the time, or with a condition the longest that is waited for it.
    """

    word: ClassVar[str] = "rest"

    time_ns: int
    cool_c: int | None = None
    recovered: bool = False

    felt = False

    @property
    def waits(self) -> bool:
        """Return True if it waits for something else than time."""
        return self.cool_c is not None or self.recovered

    @property
    @override
    def restores_cache(self) -> bool:
        # A rest by time alone may have been too short.
        return self.recovered

    @property
    def writes(self) -> bool:
        """Return True if the drive has recovered is found out by short writes."""
        return self.recovered

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        if not self.waits:
            return [f"rest {spell_time(self.time_ns)}"]
        limit = [] if self.time_ns == LIMIT_NS else [f"for at most {spell_time(self.time_ns)}"]
        return [f"rest until {'recovered' if self.recovered else f'{self.cool_c}C'}", *limit]

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> RestStep:
        # What follows ``rest``.
        if not cursor.accept("until"):
            step = cls(
                cursor.read(parse_time, "a time such as 60s, or 'until'", above_zero("a time"))
            )
        else:
            recovered = cursor.accept("recovered")
            cool = (
                None
                if recovered
                else cursor.read(
                    _degrees,
                    "'recovered' or a temperature such as 45C",
                    in_range(DEGREE_RANGE, "degrees"),
                )
            )
            limit = LIMIT_NS
            if cursor.accept("for", "at", "most"):
                limit = cursor.read(parse_time, "a time such as 10min", above_zero("a time"))
            step = cls(limit, cool, recovered)
        if cursor.next is not None:
            raise cursor.wrong(
                "'for at most TIME' or nothing more" if step.waits else "nothing more"
            )
        return step

    @property
    @override
    def needs_first_rate(self) -> bool:
        return self.recovered

    @override
    def check(self, session: Session) -> None:
        if self.recovered:
            session.check(probe_workload(0))

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        return self.time_ns * (EXPECTED_SHARE if self.waits else 1)

    @override
    def prepare(self, run: RunningStep, watch: ProgressCallback) -> tuple[str, None]:
        # It waits for no more of the time budget than this step may take.
        began = run.session.now_ns()
        allowed = self.time_ns if run.share_ns is None else max(min(self.time_ns, run.share_ns), 1)
        waited = replace(self, time_ns=allowed)
        if self.recovered:
            rate = run.context.first_rate_bytes_s
            drain(run, allowed, began, watch)
            wanted = sum(s.room_bytes(rate) * n for s, n in run.ahead())
            return until_recovered(run, allowed, wanted, began, watch), None
        if self.cool_c is not None:
            return waited._until_cool(run, began, watch), None
        pause(run, allowed, began, watch)
        return f"rested {show_time(allowed)}", None

    def _until_cool(self, run: RunningStep, began: int, watch: ProgressCallback) -> str:
        if not run.temperatures_c():
            return "no sensor answers here, so that there was no temperature to wait for"
        while True:
            spent = run.session.now_ns() - began
            now = max(run.temperatures_c().values(), default=0.0)
            if self.cool_c is not None and now <= self.cool_c:
                return f"down to {self.cool_c} °C {_when(spent)}: {now:.0f} °C"
            if spent >= self.time_ns:
                return (
                    f"not down to {self.cool_c} °C within {show_time(self.time_ns)}: {now:.0f} °C"
                )
            pause(run, min(LOOK_NS, max(self.time_ns - spent, 1)), began, watch)


DRAIN_FRACTION = 0.03
"""An idle drive is taken to empty its write cache at this fraction of the rate it fills at.

An assumption on the slow side; a short write then checks it.
"""


def drain(run: RunningStep, limit_ns: int, began: int, watch: ProgressCallback) -> None:
    """Leave the drive alone for as long as it may need for what was written since it last could."""
    cache = run.context.cache
    if cache.size_bytes is None or not run.context.first_rate_bytes_s:
        return
    # A usual size may be far too small for this drive.
    held = min(cache.written_bytes, cache.known_bytes or cache.written_bytes)
    wanted = round(held / (DRAIN_FRACTION * run.context.first_rate_bytes_s) * 1e9)
    pause(run, min(wanted, limit_ns), began, watch)


def until_recovered(
    run: RunningStep,
    limit_ns: int,
    wanted_bytes: float,
    began: int,
    watch: ProgressCallback,
    probe_bytes: int = PROBE_BYTES,
) -> str:
    """Wait until short writes are as fast as the first one was, and return the outcome in words.

    Parameters
    ----------
    limit_ns : int
        The longest that is waited.
    wanted_bytes : float
        What the next steps write, for which there has to be room.
    probe_bytes : int
        What each short write takes.
    """
    wait, last = FIRST_PAUSE_NS, 0
    while True:
        spent = run.session.now_ns() - began
        first, rate = run.context.first_rate_bytes_s, probe_write(run, probe_bytes)
        evidence = f"a short write at {show_rate(rate)}, {show_rate(first)} at first"
        if rate >= RECOVERED_FRACTION * first:
            if last:
                run.context.room_pause_ns = last
            room = _make_room(run, limit_ns, wanted_bytes / probe_bytes, began, watch)
            # The short write itself lies in the cache now.
            run.context.cache.rested()
            run.context.cache.wrote(probe_bytes)
            drain(run, limit_ns, run.session.now_ns(), watch)
            return f"recovered {_when(spent)}: {evidence}{room}"
        if spent >= limit_ns:
            return f"not recovered within {show_time(limit_ns)}: {evidence}"
        last = min(wait, max(limit_ns - spent, 1))
        pause(run, last, began, watch)
        wait = min(wait * 3 // 2, LONGEST_PAUSE_NS)


def _make_room(
    run: RunningStep, limit_ns: int, probes: float, began: int, watch: ProgressCallback
) -> str:
    """Wait longer: the short write took the room it found, and the next steps need some too.

    The last pause, of this rest or of an earlier one of the run, made room for one short
    write; the wait is as much longer as the next steps write more, in short writes. That a short
    write is fast at once only shows that there is room for it.
    """
    if not run.context.room_pause_ns:
        return ""
    spent = run.session.now_ns() - began
    longer = min(
        round(run.context.room_pause_ns * max(probes, 1.0)),
        max(limit_ns - spent, 0),
    )
    pause(run, longer, began, watch)
    if not longer:
        return ""
    return f"; then idle for {show_time(longer)} more, so that the next steps find space"


def _degrees(text: str) -> int:
    if not text.endswith(("C", "c")):
        raise ValueError("not a temperature")
    return whole(text[:-1].strip())


def _when(spent_ns: int) -> str:
    return f"after {show_time(spent_ns)}" if spent_ns > LOOK_NS else "at once"


def probe_workload(seed: int, amount_bytes: int = PROBE_BYTES) -> Workload:
    """Return the short write, within the usual test file, so that it takes no space of its own."""
    step = IoStep(
        random=False,
        read_percent=0,
        block_bytes=2**20,
        depth=8,
        time_ns=PROBE_NS,
        amount_bytes=amount_bytes,
    )
    return replace(step.workload(seed), fresh=False, span_bytes=DEFAULT_SPAN_BYTES)


def probe_write(run: RunningStep, amount_bytes: int = PROBE_BYTES) -> float:
    """Return the rate of a short write now, bytes a second."""
    work = probe_workload(run.seed(run.session.now_ns() % 2**31), amount_bytes)
    run.lay_out(work)
    trace = run.unbroken(lambda: run.session.run(work, no_progress))
    run.laid_out(trace.written_bytes)
    return trace.rate_bytes_s


def pause(run: RunningStep, time_ns: int, began_ns: int, watch: ProgressCallback) -> None:
    """Leave the drive alone, and show the passing time."""
    remaining_ns = time_ns
    while remaining_ns > 0:
        run.session.wait(min(remaining_ns, GLANCE_NS))
        remaining_ns -= GLANCE_NS
        warm = run.watched_temperature_c()
        watch(Progress(run.session.now_ns() - began_ns, 0, 0.0, temperature_c=warm))
