"""A step: one line of a plan, with its phrase, its cost and how it runs."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

if TYPE_CHECKING:
    from typing import Self

    from jovik.analysis.step_result import StepResult
    from jovik.base.io_session import ProgressCallback, Session
    from jovik.base.trace import Trace
    from jovik.runs.running_step import RunningStep
    from jovik.steps.cost import PlanCost
    from jovik.steps.tokens import Cursor


class Step(ABC):
    """The step of one phrase.

    A sort of step is a subclass in a file of its own and a row in `jovik.steps.registry`. It
    spells itself (`parts`), reads itself (`read`), says what it costs and runs on a session.
    """

    word: ClassVar[str]
    """The first word of its phrase."""
    measures: ClassVar[bool] = True
    """Whether its result is a figure. A rest or a fill only prepares the next step."""
    ranked: ClassVar[bool] = True
    """Whether its result is a figure of the drive, which may be judged and ranked."""

    @property
    def reads(self) -> bool:
        """Return True if it reads from the target."""
        return False

    @property
    def writes(self) -> bool:
        """Return True if it writes to the target."""
        return False

    @property
    def once(self) -> bool:
        """Return True if it has a single pass unless the user asks for more."""
        return False

    @property
    def own_passes(self) -> int | None:
        """Return how many passes it always has, or None if the plan and the user choose."""
        return None

    @property
    def fill_level(self) -> int | None:
        """Return the fill level that it leaves, percent, or None if it leaves the level alone."""
        return None

    @property
    def restores_cache(self) -> bool:
        """Return True if the drive's write cache has room again after it."""
        return False

    @property
    def needs_first_rate(self) -> bool:
        """Return True if it compares with a short write made before the run."""
        return False

    @abstractmethod
    def parts(self, *, timed: bool = True) -> list[str]:
        """Return the phrase in parts, in canonical order. `timed` keeps the `for` part."""

    @classmethod
    @abstractmethod
    def read(cls, cursor: Cursor) -> Self:
        """Read the rest of the phrase after the first word.

        Raises
        ------
        PhraseError
            With the word at fault.
        """

    @property
    def canonical(self) -> str:
        """Return the one spelling: units normalised, parts in one order, defaults left out."""
        return " ".join(self.parts())

    @property
    def kind(self) -> str:
        """Return the canonical spelling without its time: results of one kind may be compared."""
        return " ".join(self.parts(timed=False))

    @property
    def label(self) -> str:
        """For tables and pictures: ``random read, 4 KiB, depth 32``."""
        spaced = [
            p if '"' in p else re.sub(r"(\d)([A-Za-z])", r"\1 \2", p)
            for p in self.parts(timed=False)
        ]
        return ", ".join(spaced)

    def pinned(self) -> Step:
        """Return the same step with its external input named, so that it cannot be confused.

        Raises
        ------
        UsageError
            What it needs is not there.
        """
        return self

    def resolve(self, session: Session, taken_bytes: int = 0) -> Step:
        """Return the same step with the facts that only the target knows.

        Raises
        ------
        TargetError
            The target cannot tell.
        """
        return self

    def check(self, session: Session) -> None:  # noqa: B027
        """Refuse a step that the target cannot take, before anything is written.

        Raises
        ------
        TargetError
            With the limit.
        """

    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        """Return the expected time of one pass without prefilling, in nanoseconds."""
        return 0.0

    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:  # noqa: B027
        """Add the bytes and the space of this step to the cost of its plan."""

    def room_bytes(self, rate_bytes_s: float) -> float:
        """Return the bytes that a pass writes into a write cache."""
        return 0.0

    def bring_back(self, session: Session, seed: int, watch: ProgressCallback) -> int:
        """Recreate the state this step left behind, so that another process can resume the run.

        Returns
        -------
        int
            Bytes written.
        """
        return 0

    @abstractmethod
    def run(self, run: RunningStep) -> StepResult:
        """Run it.

        Raises
        ------
        TargetError
            The target cannot take it.
        DriveError
            The drive failed and errors stop the run; the pass is recorded.
        """


class PreparingStep(Step):
    """A step without a figure, which only prepares the next step.

    Its phrase is its word, unless a subclass reads more.
    """

    measures = ranked = False
    once = True
    felt: ClassVar[bool] = True
    """Whether it works the drive, so that the next step's conditions mention it."""

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        return [self.word]

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> Self:
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return cls()

    @override
    def run(self, run: RunningStep) -> StepResult:
        from jovik.base.trace import Trace

        session = run.session
        run.begin(self, session.engine, 0)
        began = session.now_ns()
        note, trace = self.prepare(run, run.progress(1))
        if trace is None:
            trace = Trace.empty(session.engine, session.direct, session.now_ns() - began)
        run.record(trace, felt=self.felt)
        return run.finish([trace], [note])

    def prepare(self, run: RunningStep, watch: ProgressCallback) -> tuple[str, Trace | None]:
        """Carry it out as one pass.

        Returns
        -------
        note : str
            What it did, for the result.
        trace : Trace or None
            What it moved, or None if nothing was counted.
        """
        raise NotImplementedError


class FreshStart(PreparingStep):
    """A step that removes everything that Jovik wrote to the target."""

    @property
    @override
    def fill_level(self) -> int:
        return 0

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        cost.laid_out_bytes = cost.filled_bytes = 0
