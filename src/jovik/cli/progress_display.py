"""The display of a run in progress, and the words for a finished step."""

from __future__ import annotations

from typing import Protocol

from jovik.analysis.step_result import StepResult
from jovik.base.quantities import show_rate
from jovik.runs.context import Observer


class ProgressDisplay(Observer, Protocol):
    """An observer of a run that also prints permanent lines, as a context manager."""

    def say(self, line: str) -> None:
        """Print a permanent line."""

    def __enter__(self) -> ProgressDisplay: ...

    def __exit__(self, *exc: object) -> None: ...


def result_words(result: StepResult) -> str:
    """Return a finished step in a few words: its rate, or its note."""

    if not result.step.measures:
        return result.notes[-1] if result.notes else "done"
    rate = result.rate
    spread = (
        f", 95 % interval {show_rate(rate.low)} to {show_rate(rate.high)}"
        if rate.low is not None and rate.high is not None
        else ""
    )
    return f"{show_rate(rate.median)}{spread}"
