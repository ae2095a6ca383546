"""The display of a run in a pipe or a small terminal.

A line for each step, and in a terminal one that moves; on standard error.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Sequence

from jovik.analysis.step_result import StepResult
from jovik.base.io_session import Progress
from jovik.base.quantities import show_rate, show_size, show_time
from jovik.base.terminal_text import strip_control
from jovik.cli.echo import between_words
from jovik.cli.progress_display import result_words
from jovik.cli.terminal_table import console
from jovik.runs.task import Task
from jovik.steps import Step


class LineProgress:
    """Lines for each step, as a context manager that always removes the moving line."""

    def __init__(self, tasks: Sequence[Task]) -> None:
        self._tasks = tasks
        self._live = sys.stderr.isatty()
        self._console = console(err=True)
        self._shown = False
        self._last = 0.0

    def __enter__(self) -> LineProgress:
        return self

    def __exit__(self, *exc: object) -> None:
        self._clear()

    def say(self, line: str) -> None:
        """One lasting line."""
        self._clear()
        text = "\n".join(strip_control(x) for x in line.split("\n"))
        if self._console.is_terminal:
            text = between_words(text, self._console.width)
        self._console.print(text, soft_wrap=True)

    def _clear(self) -> None:
        if self._shown:
            sys.stderr.write("\r\x1b[2K")
            sys.stderr.flush()
            self._shown = False

    def _line(self, text: str) -> None:
        # Ten times a second is all an eye takes in; more would be work for nothing.
        if not self._live or time.monotonic() - self._last < 0.1:
            return
        self._last = time.monotonic()
        sys.stderr.write("\r\x1b[2K" + strip_control(text)[: max(self._console.width - 1, 20)])
        sys.stderr.flush()
        self._shown = True

    def _head(self, position: int) -> str:
        return f"[{position + 1}/{len(self._tasks)}]"

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Progress], None]:
        """Report that the test file is being laid out."""
        if not self._live:
            self.say(f"{self._head(position)} prefilling {show_size(size_bytes)} of test file")
        head = f"{self._head(position)} prefilling the test file"
        return lambda live: self._line(
            f"{head}: {show_size(live.done_bytes)} of {show_size(size_bytes)}, "
            f"{show_rate(live.rate_bytes_s)}"
        )

    def passing(self, position: int, step: Step, number: int) -> Callable[[Progress], None]:
        """Report the progress of a pass."""
        most = self._tasks[position].repeat.most
        head = f"{self._head(position)} {step.label}" + (
            f": pass {number} of {most}" if most > 1 else ""
        )
        self._line(head)

        def show(live: Progress) -> None:
            errors = f", {live.errors} errors" if live.errors else ""
            self._line(
                f"{head}, {show_time(live.elapsed_ns)}, {show_rate(live.rate_bytes_s)}{errors}"
            )

        return show

    def finished(self, position: int, result: StepResult) -> None:
        """Report a finished step."""
        self.say(f"{self._head(position)} {result.phrase}: {result_words(result)}")
