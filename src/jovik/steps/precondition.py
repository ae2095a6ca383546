"""A precondition: the active range written so many times, as a drive in use would be."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.io_session import Workload
from jovik.base.quantities import parse_size, show_size, spell_size
from jovik.steps.cost import PlanCost
from jovik.steps.io_clauses import read_share_of_free
from jovik.steps.io_step import DEFAULT_SPAN_BYTES, span_of_free
from jovik.steps.step import PreparingStep
from jovik.steps.tokens import Cursor, above_zero, in_range, whole

if TYPE_CHECKING:
    from jovik.analysis.step_result import StepResult
    from jovik.base.io_session import ProgressCallback, Session
    from jovik.base.trace import Trace
    from jovik.runs.running_step import RunningStep

IN_ORDER_BLOCK, AT_RANDOM_BLOCK = 128 * 2**10, 4 * 2**10
"""Blocks of the SNIA specification's preconditioning, before and for the workload."""
DEPTH = 32
TIMES_RANGE = (1, 20)


@dataclass(frozen=True)
class PreconditionStep(PreparingStep):
    """``precondition N times [in order|at random] [within SPAN]``."""

    word: ClassVar[str] = "precondition"

    times: int
    random: bool = False
    span_bytes: int | None = None
    span_free_percent: int | None = None

    writes = True
    once = False

    @property
    @override
    def own_passes(self) -> int:
        # Each round is a pass of its own, so that a run can be resumed.
        return self.times

    @property
    def span(self) -> int:
        """Return bytes of the range, whole blocks."""
        given = self.span_bytes or DEFAULT_SPAN_BYTES
        return max(given // self.block_bytes, 1) * self.block_bytes

    @property
    def block_bytes(self) -> int:
        """Return bytes of an I/O."""
        return AT_RANDOM_BLOCK if self.random else IN_ORDER_BLOCK

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        head = [f"precondition {self.times} time{'s' if self.times > 1 else ''}"]
        if self.random:
            head.append("at random")
        if self.span_free_percent is not None:
            head.append(f"within {self.span_free_percent}% of free")
        elif self.span_bytes is not None:
            head.append(f"within {spell_size(self.span_bytes)}")
        return head

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> PreconditionStep:
        # What follows ``precondition``.
        times = cursor.read(
            whole, "how often, such as 2", in_range(TIMES_RANGE, "a number of times")
        )
        cursor.choice("'times'", "times", "time")
        random = cursor.accept("at", "random")
        if not random:
            cursor.accept("in", "order")
        span = percent = None
        if cursor.accept("within"):
            percent = read_share_of_free(cursor, "a span such as 8GB or 90% of free")
            if percent is None:
                span = cursor.read(
                    parse_size, "a span such as 8GB or 90% of free", above_zero("a span")
                )
        if cursor.next is not None:
            raise cursor.wrong("'in order' or 'at random', then 'within SPAN', or nothing more")
        return cls(times, random, span, percent)

    @override
    def resolve(self, session: Session, taken_bytes: int = 0) -> PreconditionStep:
        if self.span_free_percent is None:
            return self
        span = span_of_free(self.span_free_percent, session, IN_ORDER_BLOCK)
        return replace(self, span_bytes=span)

    def workload(self, seed: int) -> Workload:
        """Return the range once, as a session takes it."""
        return Workload(
            random=self.random,
            read_percent=0,
            block_bytes=self.block_bytes,
            depth=DEPTH,
            span_bytes=self.span,
            amount_bytes=self.span,
            seed=seed,
        )

    @override
    def check(self, session: Session) -> None:
        session.check(self.workload(0))

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        return self.span / rate_bytes_s * 1e9

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        work = self.workload(0)
        missing = session.to_lay_out_bytes(work)
        written = self.span * self.times
        if self.random or missing < self.span:
            # Where nothing is laid out, the first time in order does it.
            written += max(missing - cost.laid_out_bytes, 0)
        cost.certain_bytes += written
        cost.laid_out_bytes = max(cost.laid_out_bytes, missing)
        cost.take_space(self.span)

    @override
    def run(self, run: RunningStep) -> StepResult:
        first = self.workload(0)
        run.begin(self, run.session.engine_for(first), self.span)

        def one_time(number: int) -> Trace:
            work = self._ready(run.session, run.seed(number))
            run.prepare(work)
            return run.measure(work, number)

        traces = run.repeat(one_time)
        how = "at random" if self.random else "in order"
        often = "once" if self.times == 1 else f"{self.times} times"
        return run.finish(traces, [f"wrote {show_size(self.span)} {how}, {often}"])

    @override
    def bring_back(self, session: Session, seed: int, watch: ProgressCallback) -> int:
        written = 0
        for number in range(1, self.times + 1):
            work = self._ready(session, seed + number)
            written += session.prepare(work, watch)
            written += session.run(work, watch).written_bytes
        return written

    def _ready(self, session: Session, seed: int) -> Workload:
        """Fresh if nothing is laid out: the first time in order lays it out."""
        work = self.workload(seed)
        new = not self.random and session.to_lay_out_bytes(work) >= self.span
        return replace(work, fresh=new)
