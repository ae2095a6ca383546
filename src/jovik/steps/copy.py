"""A copy: real files onto the drive or off it, as a desktop copies them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import PurePath
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.base.io_session import CopyJob
from jovik.base.quantities import parse_size, spell_size
from jovik.steps.cost import PlanCost
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor, above_zero, in_range, whole

if TYPE_CHECKING:
    from jovik.analysis.step_result import StepResult
    from jovik.base.io_session import Session
    from jovik.base.trace import Trace
    from jovik.runs.running_step import RunningStep

FILES = (1, 1_000_000)
MAKING_NS = 100_000
"""Expected time to create one file."""


@dataclass(frozen=True)
class CopyStep(Step):
    """Real files copied onto the drive or off it, as a desktop copies them.

    Either `folder` (a person's own) or `files` made-up ones of `file_bytes` each.
    """

    word: ClassVar[str] = "copy"

    inward: bool
    folder: str | None = None
    files: int = 0
    file_bytes: int = 0

    @property
    def reads(self) -> bool:
        """Copying out reads the drive."""
        return not self.inward

    @property
    def writes(self) -> bool:
        """Even copying out has to put the files there first."""
        return True

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        head = f"copy {'in' if self.inward else 'out'}"
        if self.folder is not None:
            return [head, f'"{self.folder}"']
        return [
            head,
            f"{self.files} file{'s' if self.files > 1 else ''}",
            f"of {spell_size(self.file_bytes)}",
        ]

    @property
    def label(self) -> str:
        """Return ``copy in, 4000 files of 2.5 MB``, or of a folder its last name only."""
        if self.folder is not None:
            return f'copy {"in" if self.inward else "out"}, "{PurePath(self.folder).name}"'
        head, *rest = super().label.split(", ")
        return f"{head}, {' '.join(rest)}"

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> CopyStep:
        # What follows ``copy``.
        inward = cursor.choice("'in' or 'out'", "in", "out") == "in"
        word = cursor.next
        if word is not None and len(word.text) > 2 and word.text[0] == word.text[-1] == '"':
            cursor.at += 1
            step = cls(inward, folder=word.text[1:-1])
        else:
            files = cursor.read(
                whole,
                "a folder in quotes, or a number of files",
                in_range(FILES, "a number of files"),
            )
            cursor.choice("'files of SIZE'", "file", "files")
            cursor.choice("'of SIZE'", "of")
            step = cls(
                inward,
                files=files,
                file_bytes=cursor.read(parse_size, "a size such as 2.5MB", above_zero("a size")),
            )
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return step

    def job(self, seed: int) -> CopyJob:
        """Return the files, as a session takes them."""
        return CopyJob(self.inward, (self.file_bytes,) * self.files, self.folder, seed)

    @override
    def check(self, session: Session) -> None:
        session.copy_size(self.job(0))

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        files, total = session.copy_size(self.job(0))
        return total / rate_bytes_s * 1e9 + files * MAKING_NS

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        # What is copied out has to be put there once.
        _, total = session.copy_size(self.job(0))
        cost.certain_bytes += total * (passes if self.inward else 1)
        cost.take_space(more_bytes=total)

    @override
    def room_bytes(self, rate_bytes_s: float) -> float:
        return float(self.files * self.file_bytes) if self.inward else 0.0

    def run(self, run: RunningStep) -> StepResult:
        """Copy the same files in each pass until the passes are enough."""
        session = run.session
        job = self.job(run.seed(0))
        _, total = session.copy_size(job)
        # A desktop's copy goes through the page cache, whatever the session can do.
        engine = "buffered calls" if session.engine != "model" else "model"
        run.begin(self, engine, total, direct=False)

        def one_pass(number: int) -> Trace:
            if self.inward:
                run.find_room(total)
            trace = session.copy(job, run.progress(number))
            if trace.copy is not None and trace.copy.laid_out_bytes:
                run.laid_out(trace.copy.laid_out_bytes)
            return trace

        return run.finish(run.repeat(one_pass))
