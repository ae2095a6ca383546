"""What is seen while a run goes on: one live line in a terminal, a plain line for each step in a pipe; on standard error."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

from jovik.cli.output import console
from jovik.phrase import Step
from jovik.protocol import Live
from jovik.results import StepResult
from jovik.units import show_rate, show_size


class Progress:
    """Watches a run (`jovik.bench.Observer`); a context manager, so that the live line is always taken away."""

    def __init__(self, steps: int, passes: int) -> None:
        self._steps, self._passes = steps, passes
        self._live = sys.stderr.isatty()
        self._console = console(err=True)
        self._shown = False
        self._last = 0.0

    def __enter__(self) -> Progress:
        return self

    def __exit__(self, *exc: object) -> None:
        self._clear()

    def say(self, line: str) -> None:
        """One lasting line."""
        self._clear()
        self._console.print(line, soft_wrap=True)

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
        sys.stderr.write("\r\x1b[2K" + text[: max(self._console.width - 1, 20)])
        sys.stderr.flush()
        self._shown = True

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Live], None]:
        """The test file is being laid out."""
        if not self._live:
            self.say(f"[{position + 1}/{self._steps}] laying out {show_size(size_bytes)} of test file")
        head = f"[{position + 1}/{self._steps}] laying out the test file"
        return lambda live: self._line(f"{head}: {show_size(live.done_bytes)} of {show_size(size_bytes)}, {show_rate(live.rate_bytes_s)}")

    def passing(self, position: int, step: Step, number: int) -> Callable[[Live], None]:
        """A pass is going on."""
        head = f"[{position + 1}/{self._steps}] {step.label}: pass {number} of {self._passes}"
        self._line(head)

        def show(live: Live) -> None:
            errors = f", {live.errors} errors" if live.errors else ""
            self._line(f"{head}, {live.elapsed_ns / 1e9:.1f} s, {show_rate(live.rate_bytes_s)}{errors}")

        return show

    def finished(self, position: int, result: StepResult) -> None:
        """A step is done."""
        from jovik.analysis.statistics import interval

        rate = interval([p.rate_bytes_s for p in result.passes])
        spread = f", 95 % interval {show_rate(rate.low)} to {show_rate(rate.high)}" if rate.low is not None and rate.high is not None else ""
        self.say(f"[{position + 1}/{self._steps}] {result.phrase}: {show_rate(rate.median)}{spread}")
