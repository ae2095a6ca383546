"""An empty: discard all space that Jovik took, and tell the drive so by TRIM."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.quantities import show_size
from jovik.base.trace import Trace
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor

if TYPE_CHECKING:
    from jovik.base.io_session import Session
    from jovik.base.step_result import StepResult
    from jovik.steps.cost import PlanCost
    from jovik.steps.running import StepRun


@dataclass(frozen=True)
class EmptyStep(Step):
    """Give all space back that Jovik took, and tell the drive so where the file system can."""

    word: ClassVar[str] = "empty"

    measures = False
    restores_cache = True
    once = True

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        return ["empty"]

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> EmptyStep:
        # Nothing follows.
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return cls()

    @property
    @override
    def fill_level(self) -> int:
        return 0

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        # What comes next begins anew.
        cost.laid_out_bytes = cost.filled_bytes = 0

    def run(self, run: StepRun) -> StepResult:
        """Discard."""
        session = run.session
        run.begin(self, session.engine, 0)
        run.progress(1)
        began = session.now_ns()
        given = session.empty()
        run.filled_percent = None
        trace = Trace.empty(session.engine, session.direct, session.now_ns() - began)
        run.record(trace)
        more = f"; {given.note}" if given.note else ""
        return run.finish([trace], [f"discarded {show_size(given.freed_bytes)}{more}"])
