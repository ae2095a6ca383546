"""A purge: the drive as new, by the best that it offers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.quantities import show_time
from jovik.base.trace import Trace
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor

if TYPE_CHECKING:
    from jovik.base.io_session import ProgressCallback, Session
    from jovik.base.step_result import StepResult
    from jovik.steps.cost import PlanCost
    from jovik.steps.running import StepRun

NOMINAL_NS = 30 * 10**9
"""What a purge is taken to last beforehand; drives differ from a second to hours."""


@dataclass(frozen=True)
class PurgeStep(Step):
    """Erase everything and make the drive as new; in a folder, discard and discard."""

    word: ClassVar[str] = "purge"

    measures = False
    restores_cache = True
    once = True
    writes = True
    """It is refused if nothing may be written."""

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        return ["purge"]

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> PurgeStep:
        # Nothing follows.
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return cls()

    @property
    @override
    def fill_level(self) -> int:
        return 0

    @override
    def check(self, session: Session) -> None:
        session.check_purge()

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        return float(NOMINAL_NS)

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        # What comes next begins anew.
        cost.laid_out_bytes = cost.filled_bytes = 0

    def run(self, run: StepRun) -> StepResult:
        """Purge."""
        session = run.session
        run.begin(self, session.engine, 0)
        run.progress(1)
        began = session.now_ns()
        done = session.purge()
        run.filled_percent = None
        lasted = session.now_ns() - began
        trace = Trace.empty(session.engine, session.direct, lasted)
        run.record(trace)
        words = f"purged by {done.method} in {show_time(lasted)}: {done.answer}"
        if done.unreached:
            words += f"; it did not reach {done.unreached}"
        return run.finish([trace], [words])

    @override
    def bring_back(self, session: Session, seed: int, watch: ProgressCallback) -> int:
        session.purge()
        return 0
