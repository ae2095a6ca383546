"""A purge: the drive as new, by the best that it offers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from jovik.base.quantities import show_time
from jovik.base.trace import Trace
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor

if TYPE_CHECKING:
    from jovik.base.session import ProgressCallback, Session
    from jovik.base.step_result import StepResult
    from jovik.steps.cost import PlanCost
    from jovik.steps.running import StepRun

NOMINAL_NS = 30 * 10**9
"""What a purge is taken to last beforehand; drives differ from a second to hours."""


@dataclass(frozen=True)
class PurgeStep(Step):
    """Erase everything and make the drive as new; in a folder, give back and discard."""

    word: ClassVar[str] = "purge"

    measures = False
    restores_cache = True
    once = True
    writes = True
    """It is refused where nothing may be written."""

    def parts(self, *, timed: bool = True) -> list[str]:
        """See `Step.parts`."""
        return ["purge"]

    @classmethod
    def read(cls, cursor: Cursor) -> PurgeStep:
        """See `Step.read`: nothing follows."""
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return cls()

    @property
    def fill_level(self) -> int:
        """See `Step.fill_level`."""
        return 0

    def check(self, session: Session) -> None:
        """See `Step.check`."""
        session.check_purge()

    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        """See `Step.pass_time_ns`."""
        return float(NOMINAL_NS)

    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        """See `Step.add_cost`: what comes next begins anew."""
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
        said = f"purged by {done.method} in {show_time(lasted)}: {done.answer}"
        if done.unreached:
            said += f"; it did not reach {done.unreached}"
        return run.finish([trace], [said])

    def bring_back(self, session: Session, seed: int, watch: ProgressCallback) -> int:
        """See `Step.bring_back`."""
        session.purge()
        return 0
