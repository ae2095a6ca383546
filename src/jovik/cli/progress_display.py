"""What shows a run while it goes on, and the words for a finished step."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from jovik.analysis.statistics import interval
from jovik.base.quantities import show_rate
from jovik.base.session import Progress
from jovik.base.step_result import StepResult
from jovik.steps import Step, parse


class ProgressDisplay(Protocol):
    """What shows a run (`jovik.runs.context.Observer`), and takes lasting lines besides.

    A context manager.
    """

    def say(self, line: str) -> None:
        """One lasting line."""

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Progress], None]:
        """See `jovik.runs.context.Observer`."""

    def passing(self, position: int, step: Step, number: int) -> Callable[[Progress], None]:
        """See `jovik.runs.context.Observer`."""

    def finished(self, position: int, result: StepResult) -> None:
        """See `jovik.runs.context.Observer`."""

    def __enter__(self) -> ProgressDisplay: ...

    def __exit__(self, *exc: object) -> None: ...


def result_words(result: StepResult) -> str:
    """A finished step in a few words: its rate, or what was done."""

    if not parse(result.phrase).measures:
        return result.notes[-1] if result.notes else "done"
    rate = interval([p.rate_bytes_s for p in result.passes])
    spread = (
        f", 95 % interval {show_rate(rate.low)} to {show_rate(rate.high)}"
        if rate.low is not None and rate.high is not None
        else ""
    )
    return f"{show_rate(rate.median)}{spread}"
