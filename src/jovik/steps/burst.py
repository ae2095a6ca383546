"""A burst: the same few blocks again and again, so that link and drive cache are measured."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.io_session import Workload
from jovik.base.quantities import parse_size, parse_time, spell_size, spell_time
from jovik.steps.cost import PlanCost
from jovik.steps.io_clauses import block_fault
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor, above_zero

if TYPE_CHECKING:
    from jovik.analysis.step_result import StepResult
    from jovik.base.io_session import Session
    from jovik.base.trace import Trace
    from jovik.runs.running_step import RunningStep

BLOCKS, DEPTH = 8, 8
"""The blocks that are read or written again, all in flight at once: no drive cache is smaller."""
DEFAULT_TIME_NS = 2 * 10**9


@dataclass(frozen=True)
class BurstStep(Step):
    """``burst read|write BLOCK [for TIME]``: a figure of link and cache, not of the medium."""

    word: ClassVar[str] = "burst"

    writing: bool
    block_bytes: int
    time_ns: int = DEFAULT_TIME_NS

    ranked = False

    @property
    @override
    def reads(self) -> bool:
        return not self.writing

    @property
    @override
    def writes(self) -> bool:
        return self.writing

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        head = [f"burst {'write' if self.writing else 'read'}", spell_size(self.block_bytes)]
        if timed and self.time_ns != DEFAULT_TIME_NS:
            head.append(f"for {spell_time(self.time_ns)}")
        return head

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> BurstStep:
        # What follows ``burst``.
        writing = cursor.choice("'read' or 'write'", "read", "write") == "write"
        block = cursor.read(parse_size, "a block such as 64KiB", block_fault)
        time_ns = DEFAULT_TIME_NS
        if cursor.accept("for"):
            time_ns = cursor.read(parse_time, "a time such as 2s", above_zero("a time"))
        if cursor.next is not None:
            raise cursor.wrong("'for TIME', once, or nothing more")
        return cls(writing, block, time_ns)

    def workload(self, seed: int, *, stop_on_error: bool = True) -> Workload:
        """Return one pass, as a session takes it."""
        return Workload(
            random=False,
            read_percent=0 if self.writing else 100,
            block_bytes=self.block_bytes,
            depth=DEPTH,
            span_bytes=BLOCKS * self.block_bytes,
            seed=seed,
            time_ns=self.time_ns,
            stop_on_error=stop_on_error,
        )

    @override
    def check(self, session: Session) -> None:
        session.check(self.workload(0))

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        return float(self.time_ns)

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        span = BLOCKS * self.block_bytes
        if cost.laid_out_bytes < span:
            cost.certain_bytes += span - cost.laid_out_bytes
            cost.laid_out_bytes = span
        if self.writing:
            cost.writing_ns += self.time_ns * passes
        cost.take_space(span)

    @override
    def room_bytes(self, rate_bytes_s: float) -> float:
        return rate_bytes_s * self.time_ns / 1e9 if self.writing else 0.0

    def run(self, run: RunningStep) -> StepResult:
        """Repeat the pass until the passes are enough."""
        first = self.workload(0)
        run.begin(self, run.session.engine_for(first), first.span_bytes, first)

        def one_pass(number: int) -> Trace:
            work = self.workload(run.seed(number), stop_on_error=run.context.options.stop_on_error)
            run.prepare(work)
            return run.measure(work, number)

        note = "a figure of link and drive cache, not of the medium"
        return run.finish(run.repeat(one_pass), [note])
