"""An I/O step: sequential or random, every number resolved, one canonical spelling.

A new part of an I/O phrase is a field of `IoStep` and a row in `jovik.steps.io_clauses.CLAUSES`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.errors import TargetError
from jovik.base.io_session import Workload
from jovik.base.quantities import (
    show_size,
)
from jovik.steps.cost import PlanCost
from jovik.steps.io_clauses import CLAUSES, Clause, read_access, spell_head
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor

if TYPE_CHECKING:
    from jovik.analysis.step_result import StepResult
    from jovik.base.io_session import Session
    from jovik.base.trace import Trace
    from jovik.runs.running_step import RunningStep

DEFAULT_TIME_NS = 10 * 10**9
"""Duration of a pass if the phrase has neither `for` nor `over`."""
LONG_WRITE_NS = 120 * 10**9
"""From this time on, a timed write is a long write: most write caches end within it."""
DEFAULT_SPAN_BYTES = 3 * 2**28
"""The area of a pass if neither `within` nor a sequential `over` sets it."""
ROUND_NS = 60 * 10**9
"""Default duration of a round of a step that is repeated until steady."""
MOST_ROUNDS = 25
"""Rounds after which a step is called not steady, as the SNIA specification has it."""
STEADY = ("rate", "latency")
"""Figures that can be steady: a rate (and so IOPS), or the mean latency."""
LONGEST_PASS_NS = 24 * 3600 * 10**9
"""Assumed duration of a pass that only the user ends: a day."""


@dataclass(frozen=True)
class IoStep(Step):
    """One I/O phrase.

    `read_percent` is 100 for ``read``, 0 for ``write``, between for ``mixed``. `time_ns`,
    `amount_bytes` and `span_bytes` are None if the default applies; `time` and `span` say what
    that is. `amount_free_percent` is an amount as a share of what is free on the target, and
    `span_free_percent` such a span, which only the target can turn into bytes; `amount_spans` is an
    amount as so many times the span. `until_stopped` is a pass that a person ends. Of
    `rate_bytes_s` and `rate_iops` at most one is set. `pause_ns` is how long the drive is left
    alone before each pass. `steady` is one of `STEADY` where passes are rounds that are repeated
    until that figure is steady, for at most `at_most_ns`; a round then lasts `time_ns`.
    """

    word: ClassVar[str] = ""

    random: bool
    read_percent: int
    block_bytes: int
    depth: int = 1
    workers: int = 1
    time_ns: int | None = None
    amount_bytes: int | None = None
    amount_free_percent: int | None = None
    amount_spans: int | None = None
    until_stopped: bool = False
    steady: str = ""
    at_most_ns: int | None = None
    span_bytes: int | None = None
    span_free_percent: int | None = None
    rate_bytes_s: int | None = None
    rate_iops: int | None = None
    durable: bool = False
    compressible_percent: int = 0
    verify: bool = False
    pause_ns: int | None = None

    def __post_init__(self) -> None:
        # Two steps that do the same must be equal, so what only repeats a default is dropped.
        if self.span_bytes == self._default_span():
            object.__setattr__(self, "span_bytes", None)
        usual = ROUND_NS if self.steady else DEFAULT_TIME_NS
        if self.time_ns == usual and not self.has_amount and not self.until_stopped:
            object.__setattr__(self, "time_ns", None)
        if self.at_most_ns == MOST_ROUNDS * (self.time_ns or ROUND_NS):
            object.__setattr__(self, "at_most_ns", None)
        if self.read_percent == 100:
            object.__setattr__(self, "compressible_percent", 0)

    def _default_span(self) -> int:
        # A sequential pass over an amount goes through that amount once.
        if self.amount_bytes is not None and not self.random and self.amount_spans is None:
            return self.amount_bytes
        return max(DEFAULT_SPAN_BYTES, self.block_bytes * self.workers)

    @property
    def span(self) -> int:
        """Return bytes of the area the I/O falls in, a multiple of the block for each worker."""
        share = self.block_bytes * self.workers
        return max((self.span_bytes or self._default_span()) // share, 1) * share

    @property
    def time(self) -> int | None:
        """Return nanoseconds after which a pass ends, or None if only the amount ends it."""
        if self.time_ns is None and not self.has_amount and not self.until_stopped:
            return ROUND_NS if self.steady else DEFAULT_TIME_NS
        return self.time_ns

    @property
    def most_rounds(self) -> int:
        """Rounds after which it is called not steady."""
        if self.at_most_ns is None:
            return MOST_ROUNDS
        return max(self.at_most_ns // (self.time or ROUND_NS), 1)

    @property
    def has_amount(self) -> bool:
        """Return True if it ends after an amount, in bytes or as a percentage of the free space."""
        given = (self.amount_bytes, self.amount_free_percent, self.amount_spans)
        return any(amount is not None for amount in given)

    @property
    def sized_by_target(self) -> bool:
        """Return True if its span or amount is a percentage of the free space."""
        return self.amount_free_percent is not None or self.span_free_percent is not None

    @property
    def fresh(self) -> bool:
        """Return True if it writes space that nothing was laid out in.

        A sequential write over an amount.
        """
        return not (self.random or self.read_percent) and self._once_through

    @property
    def _once_through(self) -> bool:
        return self.has_amount and self.amount_spans is None and self.span_free_percent is None

    @property
    def once(self) -> bool:
        """Return True if it runs a single pass: a long write changes the drive.

        A person stops one pass.
        """
        several = self.amount_spans is not None
        return self.fresh or self.until_stopped or several or self.long_timed

    @property
    def reads(self) -> bool:
        """Return True if any of it reads."""
        return self.read_percent > 0

    @property
    def writes(self) -> bool:
        """Return True if any of it writes."""
        return self.read_percent < 100

    def parts(self, *, timed: bool = True) -> list[str]:
        """Return the phrase in parts, in canonical order. `timed` keeps the `for` part."""
        spelled = [c.spell(self) for c in CLAUSES if timed or c.counts or self._counts(c)]
        return spell_head(self) + [s for s in spelled if s]

    def _counts(self, clause: Clause) -> bool:
        """Return True if its time is part of its kind: a long write is another test."""
        return clause.keywords == ("for",) and self.long_timed

    @property
    def long_timed(self) -> bool:
        """Return True if it writes for so long that its figure depends on the time."""
        rounds = bool(self.steady) or self.has_amount or self.until_stopped
        return self.writes and not rounds and (self.time_ns or 0) >= LONG_WRITE_NS

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> IoStep:
        # An I/O phrase has no word of its own and begins with the order.
        return cls(**read_access(cursor))

    @property
    def plain(self) -> bool:
        """Return whether nothing but order, block, depth and workers bears on its rate.

        A pace, a pause, several spans, durable writes, compressible data, reading back and rounds
        until steady each make it another test.
        """
        return self.bare and not self.steady

    @property
    def bare(self) -> bool:
        """Return the same, whether or not it is repeated until steady."""
        special = (self.rate_bytes_s, self.rate_iops, self.pause_ns, self.amount_spans)
        other = any(x is not None for x in special)
        return not (other or self.durable or self.compressible_percent or self.verify)

    def workload(self, seed: int, *, stop_on_error: bool = True) -> Workload:
        """Return one pass, as a session takes it."""
        rate = float(self.rate_bytes_s) if self.rate_bytes_s is not None else None
        if self.rate_iops is not None:
            rate = float(self.rate_iops * self.block_bytes)
        return Workload(
            random=self.random,
            read_percent=self.read_percent,
            block_bytes=self.block_bytes,
            depth=self.depth,
            workers=self.workers,
            span_bytes=self.span,
            seed=seed,
            time_ns=self.time,
            amount_bytes=self.amount_bytes,
            fresh=self.fresh,
            rate_limit_bytes_s=rate,
            durable=self.durable,
            compressible_percent=self.compressible_percent,
            verify=self.verify,
            stop_on_error=stop_on_error,
        )

    @override
    def resolve(self, session: Session, taken_bytes: int = 0) -> IoStep:
        # Amounts and spans that only the target knows become bytes.
        if self.span_free_percent is not None:
            span = span_of_free(self.span_free_percent, session, self.block_bytes)
            return replace(self, span_bytes=span)._counted()
        if self.amount_free_percent is None:
            return self._counted()
        free = session.free_bytes()
        if free is None:
            raise TargetError(
                "the free space of this target is unknown",
                "write the amount in bytes, such as 'over 100GB'",
            )
        free = max(free - taken_bytes, 0)
        amount = free * self.amount_free_percent // 100 // self.block_bytes * self.block_bytes
        if amount < self.block_bytes:
            raise TargetError(
                f"{self.amount_free_percent} % of {show_size(free)} free is less than one block"
            )
        return replace(self, amount_bytes=amount)

    def _counted(self) -> IoStep:
        """With an amount of so many spans in bytes."""
        if self.amount_spans is None:
            return self
        return replace(self, amount_bytes=self.amount_spans * self.span)

    @override
    def check(self, session: Session) -> None:
        session.check(self.workload(0))

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        return self._io_time_ns(rate_bytes_s) + (self.pause_ns or 0)

    def _io_time_ns(self, rate_bytes_s: float) -> float:
        limits: list[float | None] = [self.time, LONGEST_PASS_NS]
        if self.amount_bytes is not None:
            rate = min(rate_bytes_s, self.rate_bytes_s or rate_bytes_s)
            limits.append(self.amount_bytes / rate * 1e9)
        return min(x for x in limits if x is not None)

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        work = self.workload(0)
        cost.endless = cost.endless or work.endless
        if self.fresh:
            cost.laid_out_bytes = 0
        else:
            missing = session.to_lay_out_bytes(work)
            more = max(missing - cost.laid_out_bytes, 0)
            cost.certain_bytes += more
            cost.time_ns += round(more / cost.rate_bytes_s * 1e9)
            cost.laid_out_bytes = max(cost.laid_out_bytes, missing)
        share = 1 - self.read_percent / 100
        if self.amount_bytes is not None:
            cost.certain_bytes += round(self.amount_bytes * share) * passes
        elif self.time is not None and self.writes:
            cost.writing_ns += round(self.time * share) * passes
        cost.take_space(self.span)

    @override
    def room_bytes(self, rate_bytes_s: float) -> float:
        if not self.writes or self.time is None or self.once:
            return 0.0
        rate = min(rate_bytes_s, self.rate_bytes_s or math.inf)
        return (1 - self.read_percent / 100) * rate * self.time / 1e9

    def run(self, run: RunningStep) -> StepResult:
        """Repeat the pass until the passes are enough."""
        first = self.workload(0)
        run.begin(self, run.session.engine_for(first), self.span, first)
        return run.finish(run.repeat(lambda number: self._pass(run, number)))

    def _pass(self, run: RunningStep, number: int) -> Trace:
        work = self.workload(run.seed(number), stop_on_error=run.context.options.stop_on_error)
        if self.once and run.share_ns is not None:
            allowed = max(run.share_ns, 10**9)
            work = replace(work, time_ns=min(work.time_ns or run.share_ns, allowed))
        run.prepare(work)
        if self.pause_ns:
            run.session.wait(self.pause_ns)
        return run.measure(work, number)


def span_of_free(percent: int, session: Session, block_bytes: int) -> int:
    """Return a percentage of a target's free space, in whole blocks.

    Raises
    ------
    TargetError
        The target cannot tell, or has no room for a block.
    """
    room = session.room_bytes()
    if room is None:
        raise TargetError(
            "the free space of this target is unknown", "write a span, such as 'within 8GB'"
        )
    # Whole mebibytes, so that steps of different blocks have the same area.
    unit = max(block_bytes, 2**20)
    span = room * percent // 100 // unit * unit
    if span < unit:
        raise TargetError(f"{percent} % of {show_size(room)} free is less than one block")
    return span
