"""The claims of the drive's sheet, each as a step under its own conditions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.errors import UsageError
from jovik.base.quantities import parse_time, spell_time
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor, above_zero

if TYPE_CHECKING:
    from jovik.analysis.step_result import StepResult
    from jovik.runs.running_step import RunningStep

DEFAULT_TIME_NS = 2 * 10**9
READ, WRITE, SUSTAINED = "read", "write", "sustained"


@dataclass(frozen=True)
class ClaimsStep(Step):
    """``claims read|write|sustained [for TIME]``: a step for each such claim of the sheet.

    A run replaces it once the drive is known. Claims that another step of the plan tests are left
    to that step.
    """

    word: ClassVar[str] = "claims"

    which: str
    time_ns: int = DEFAULT_TIME_NS

    @property
    @override
    def reads(self) -> bool:
        return self.which == READ

    @property
    @override
    def writes(self) -> bool:
        return self.which != READ

    @property
    @override
    def once(self) -> bool:
        return self.which == SUSTAINED

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        time = timed and self.time_ns != DEFAULT_TIME_NS
        return [f"claims {self.which}", *([f"for {spell_time(self.time_ns)}"] if time else [])]

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> ClaimsStep:
        # What follows ``claims``.
        which = cursor.choice("'read', 'write' or 'sustained'", READ, WRITE, SUSTAINED)
        time_ns = DEFAULT_TIME_NS
        if which != SUSTAINED and cursor.accept("for"):
            time_ns = cursor.read(parse_time, "a time such as 2s", above_zero("a time"))
        if cursor.next is not None:
            raise cursor.wrong("'for TIME', once, or nothing more")
        return cls(which, time_ns)

    def run(self, run: RunningStep) -> StepResult:
        """Refuse to run: the drive's claims take its place before a run begins."""
        raise UsageError(f"'{self.canonical}' needs a drive whose sheet has claims")
