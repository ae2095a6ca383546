"""Each step on several targets at the same moment, after it was measured on each alone.

The runs made together are on the shelf as runs of their own, excluded: what was measured while
others were at work is no figure of a drive.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from jovik.analysis.step_result import StepResult
from jovik.base.errors import JovikError, UsageError
from jovik.base.interruption import check, take_notice
from jovik.base.io_session import Progress, ProgressCallback
from jovik.hardware.target import ModelTarget
from jovik.runs.prepare import PreparedRun
from jovik.runs.repetition import RepetitionPolicy
from jovik.runs.request import RunRequest
from jovik.runs.run_lifecycle import RunOutcome, StartedRun, execute
from jovik.steps import IoStep, Step

TOGETHER_PASSES = 5
"""Of each step made together: as many on every target, or they would not be at the same moment."""
WAIT_S = 600.0
"""How long one target waits for the others to be ready for a pass: laying out may take so long."""


def together_request(request: RunRequest, others: Sequence[str]) -> RunRequest:
    """Return the steps of an order that can be made at the same moment as those of other targets.

    Raises
    ------
    UsageError
        It is a model drive, whose clock is its own, or no step of it lasts for a given time.
    """
    if isinstance(request.target, ModelTarget):
        raise UsageError(
            "--together is for real targets",
            "model drives share no link, and each has its own clock",
        )
    tasks = tuple(
        replace(t, repeat=RepetitionPolicy(TOGETHER_PASSES, TOGETHER_PASSES), rounds=None)
        for t in request.tasks
        if isinstance(t.step, IoStep) and t.step.time_ns and not t.step.has_amount
    )
    if not tasks:
        raise UsageError(
            "no step of this lasts for a given time",
            'steps made together end together: write one such as "sequential read 1MiB for 5s"',
        )
    return replace(
        request,
        tasks=tasks,
        plan=f"{request.plan}, together",
        budget_ns=None,
        excluded=f"measured together with {' and '.join(others)}",
    )


class Together:
    """Synchronisation of several runs, which can also stop all of them.

    Parameters
    ----------
    count : int
        How many runs there are.
    """

    def __init__(self, count: int) -> None:
        self._barrier = threading.Barrier(count)
        self._stop = threading.Event()
        self.apart = False

    def stop(self) -> None:
        """End every run: its pass is ended as by an interrupt."""
        self._stop.set()
        self._barrier.abort()

    def leave(self) -> None:
        """Let the others continue without one that has ended early."""
        self.apart = True
        self._barrier.abort()

    def wait(self) -> None:
        """Wait until every run is about to start its pass.

        Raises
        ------
        KeyboardInterrupt
            All are to end.
        """
        try:
            self._barrier.wait(WAIT_S)
        except threading.BrokenBarrierError:
            self.apart = True
        self.look()

    def look(self) -> None:
        """Raise KeyboardInterrupt where all are to end."""
        if self._stop.is_set():
            raise KeyboardInterrupt


@dataclass
class _InStep:
    """An observer that starts each pass with those of the others."""

    together: Together
    on_result: Callable[[StepResult], None]

    def preparing(self, position: int, step: Step, size_bytes: int) -> ProgressCallback:
        return self._look

    def passing(self, position: int, step: Step, number: int) -> ProgressCallback:
        self.together.wait()
        return self._look

    def finished(self, position: int, result: StepResult) -> None:
        self.on_result(result)

    def _look(self, _: Progress) -> None:
        self.together.look()


def execute_together(
    runs: Sequence[tuple[PreparedRun, StartedRun]], on_result: Callable[[StepResult], None]
) -> tuple[list[RunOutcome], bool]:
    """Execute runs at the same moment, each in a thread of its own.

    Parameters
    ----------
    on_result : callable
        Called with each result as soon as its step is finished, from any thread.

    Returns
    -------
    tuple
        The outcome of each, and whether all passes were made at the same moment.
    """
    together = Together(len(runs))
    outcomes: list[RunOutcome | None] = [None] * len(runs)
    faults: list[BaseException] = []

    def one(at: int) -> None:
        ready, begun = runs[at]
        try:
            outcomes[at] = execute(ready, begun, _InStep(together, on_result))
        except JovikError as error:
            outcomes[at] = RunOutcome(begun.writer.id, error)
        except BaseException as error:
            faults.append(error)
        finally:
            outcome = outcomes[at]
            if outcome is None or outcome.failure is not None:
                together.leave()

    threads = [threading.Thread(target=one, args=(n,)) for n in range(len(runs))]
    for thread in threads:
        thread.start()
    try:
        for thread in threads:
            while thread.is_alive():
                thread.join(0.2)
                check()
    except KeyboardInterrupt:
        take_notice()
        together.stop()
        for thread in threads:
            thread.join()
    if faults:
        raise faults[0]
    return [o for o in outcomes if o is not None], not together.apart
