"""A fill: write until the target is this full."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.quantities import show_size, show_time
from jovik.steps.cost import PlanCost
from jovik.steps.step import PreparingStep
from jovik.steps.tokens import Cursor, in_range, percentage

if TYPE_CHECKING:
    from jovik.base.io_session import ProgressCallback, Session
    from jovik.base.trace import Trace
    from jovik.runs.running_step import RunningStep

PERCENT = (1, 99)


@dataclass(frozen=True)
class FillStep(PreparingStep):
    """Write until the target is this full."""

    word: ClassVar[str] = "fill"

    percent: int

    writes = True

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        return [f"fill to {self.percent}%"]

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> FillStep:
        # What follows ``fill``.
        cursor.choice("'to N%'", "to")
        step = cls(
            cursor.read(percentage, "a fill level such as 90%", in_range(PERCENT, "a percentage"))
        )
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return step

    @property
    @override
    def fill_level(self) -> int:
        return self.percent

    @override
    def check(self, session: Session) -> None:
        session.to_fill_bytes(self.percent)

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        return session.to_fill_bytes(self.percent) / rate_bytes_s * 1e9

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        more = max(session.to_fill_bytes(self.percent) - cost.held_bytes, 0)
        cost.certain_bytes += more
        cost.filled_bytes += more
        cost.take_space()

    @override
    def prepare(self, run: RunningStep, watch: ProgressCallback) -> tuple[str, Trace | None]:
        trace = run.session.fill(self.percent, run.seed(1), watch)
        run.context.filled_percent = self.percent
        if trace is None:
            return "it was as full already", None
        return f"wrote {show_size(trace.written_bytes)} in {show_time(trace.elapsed_ns)}", trace
