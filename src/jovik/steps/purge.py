"""A purge: the drive as new, by the best method that it offers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.quantities import show_time
from jovik.steps.step import FreshStart

if TYPE_CHECKING:
    from jovik.base.io_session import ProgressCallback, Session
    from jovik.runs.running_step import RunningStep

NOMINAL_NS = 30 * 10**9
"""Expected time of a purge. Drives differ from a second to hours."""


@dataclass(frozen=True)
class PurgeStep(FreshStart):
    """Erase everything and make the drive as new. In a folder, discard its free space."""

    word: ClassVar[str] = "purge"

    @property
    @override
    def restores_cache(self) -> bool:
        return True

    writes = True
    """It is refused if nothing may be written."""

    @override
    def check(self, session: Session) -> None:
        session.check_purge()

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        return float(NOMINAL_NS)

    @override
    def prepare(self, run: RunningStep, watch: ProgressCallback) -> tuple[str, None]:
        began = run.session.now_ns()
        done = run.session.purge()
        run.context.filled_percent = None
        lasted = show_time(run.session.now_ns() - began)
        note = f"purged by {done.method} in {lasted}: {done.answer}"
        return f"{note}; it did not reach {done.unreached}" if done.unreached else note, None

    @override
    def bring_back(self, session: Session, seed: int, watch: ProgressCallback) -> int:
        session.purge()
        return 0
