"""What a step may ask of the run that it is part of."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from jovik.base.io_session import Progress, ProgressCallback, Session, Workload
    from jovik.base.step_result import StepResult
    from jovik.base.trace import Trace
    from jovik.steps.step import Step


def pass_seed(run_seed: int, position: int, number: int) -> int:
    """Return the seed of one pass: reproducible, and unrelated to that of any other pass."""
    digest = hashlib.blake2b(f"{run_seed}/{position}/{number}".encode(), digest_size=6).digest()
    return int.from_bytes(digest, "big")


def no_progress(_: Progress) -> None:
    """Show nothing."""


class StepRun(Protocol):
    """One step within a run: the session, its place in the plan, and where its passes go.

    Attributes
    ----------
    earlier : sequence of StepResult
        Results of this run so far.
    filled_percent : int or None
        The level that the target is filled to on purpose.
    room_pause_ns : int
        How long the drive last took to make room for a short write, 0 if unknown.
    """

    earlier: Sequence[StepResult]
    filled_percent: int | None
    room_pause_ns: int

    @property
    def session(self) -> Session:
        """Return where the I/O goes."""

    @property
    def stop_on_error(self) -> bool:
        """Return True if the first error ends the run."""

    @property
    def share_ns(self) -> int | None:
        """Return the time this step may take, or None without a budget."""

    @property
    def first_rate_bytes_s(self) -> float:
        """Of a short write before the run, 0 if none was made."""

    def seed(self, number: int) -> int:
        """Return the seed of pass `number`, counted from 1; 0 is the step's own."""

    def begin(
        self,
        step: Step,
        engine: str,
        span_bytes: int,
        work: Workload | None = None,
        *,
        direct: bool | None = None,
    ) -> None:
        """Record that the step starts now, under these conditions.

        Parameters
        ----------
        work : Workload, optional
            Of an I/O step, whose rate the tester and the link may limit.
        direct : bool, optional
            Whether the page cache is bypassed; as the session says unless given.
        """

    def prepare(self, work: Workload) -> None:
        """Prefill the test file where that is needed, shown and counted."""

    def progress(self, number: int) -> ProgressCallback:
        """Whom to tell how pass `number` goes."""

    def measure(self, work: Workload, number: int) -> Trace:
        """Return one watched pass: with the host's load and the temperatures around it."""

    def unbroken(self, make: Callable[[], Trace]) -> Trace:
        """Return what `make` gives, repeated where this process did not run meanwhile.

        Raises
        ------
        TargetError
            It did not run three times in a row.
        """

    def repeat(self, one_pass: Callable[[int], Trace]) -> Sequence[Trace]:
        """Make and record passes until they are enough; those made before an interruption count.

        Raises
        ------
        DriveError
            A pass failed and errors stop the run.
        """

    def record(self, trace: Trace, *, felt: bool = True) -> None:
        """Record the only pass of a step; `felt` unless it leaves the drive alone."""

    def laid_out(self, written_bytes: int) -> None:
        """Count bytes written beside the passes."""

    def finish(self, traces: Sequence[Trace], notes: Sequence[str] = ()) -> StepResult:
        """Draw the findings and hand the result over.

        Raises
        ------
        DriveError
            The last pass failed and errors stop the run.
        """

    def temperatures_c(self) -> dict[str, float]:
        """Trusted sensors, degrees Celsius."""

    def ahead(self) -> Sequence[tuple[Step, int]]:
        """Return steps that follow with their passes at most, up to the next that only prepares."""

    def watched_temperature_c(self) -> float | None:
        """Return the warmest trusted sensor where the kernel's are watched, for the live view."""
