"""What shows a run while it goes on, and the words for a finished step."""

from __future__ import annotations

from typing import Protocol

from jovik.analysis.statistics import interval
from jovik.base.quantities import show_rate
from jovik.base.step_result import StepResult
from jovik.runs.context import Observer
from jovik.steps import parse


class ProgressDisplay(Observer, Protocol):
    """An observer of a run that prints permanent lines as well; a context manager."""

    def say(self, line: str) -> None:
        """Print a permanent line."""

    def __enter__(self) -> ProgressDisplay: ...

    def __exit__(self, *exc: object) -> None: ...


def result_words(result: StepResult) -> str:
    """Return a finished step in a few words: its rate, or what was done."""

    if not parse(result.phrase).measures:
        return result.notes[-1] if result.notes else "done"
    rate = interval([p.rate_bytes_s for p in result.passes])
    spread = (
        f", 95 % interval {show_rate(rate.low)} to {show_rate(rate.high)}"
        if rate.low is not None and rate.high is not None
        else ""
    )
    return f"{show_rate(rate.median)}{spread}"
