"""Runs that nobody watches: events as JSON, silence, and a command at the end."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from jovik.analysis.step_result import StepResult
from jovik.base.io_session import Progress
from jovik.cli.echo import echo
from jovik.cli.run_clock import RunClock
from jovik.runs.task import Task
from jovik.steps import Step

EVERY_S = 1.0
"""How often a pass in progress is told."""


@dataclass(frozen=True)
class Unattended:
    """What is asked for a run that nobody watches.

    Attributes
    ----------
    quiet : bool
        Print only the answer and errors.
    progress : str or None
        ``json`` for a line of JSON on standard error for each event.
    on_end : str or None
        A command of the shell that gets the verdict as JSON on its standard input.
    """

    quiet: bool = False
    progress: str | None = None
    on_end: str | None = None


WATCHED = Unattended()
"""A run that somebody watches."""


class NoDisplay:
    """Shows nothing of a run in progress."""

    def __enter__(self) -> NoDisplay:
        return self

    def __exit__(self, *exc: object) -> None: ...

    def say(self, line: str) -> None:
        """Print nothing."""

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Progress], None]:
        """Report nothing."""
        return lambda _: None

    def passing(self, position: int, step: Step, number: int) -> Callable[[Progress], None]:
        """Report nothing."""
        return lambda _: None

    def finished(self, position: int, result: StepResult) -> None:
        """Report nothing."""


class JsonProgress(NoDisplay):
    """Writes a line of JSON for each event on standard error (docs/json.md)."""

    def __init__(
        self,
        tasks: Sequence[Task],
        times_ns: Sequence[int],
        budget_ns: int | None = None,
        expected_bytes: int | None = None,
    ) -> None:
        self._tasks, self._clock = tasks, RunClock(times_ns, budget_ns)
        self._expected, self._written, self._told = expected_bytes, 0, 0.0

    def say(self, line: str) -> None:
        """Write what a person would have read."""
        self._tell("message", text=line)

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Progress], None]:
        """Write that the test file is being laid out."""
        self._step("preparing", position, bytes=size_bytes)
        return lambda live: self._look("preparing", position, live)

    def passing(self, position: int, step: Step, number: int) -> Callable[[Progress], None]:
        """Write that a pass begins, and each second how far it is."""
        self._step("pass", position, number=number)
        return lambda live: self._look("progress", position, live, number=number)

    def finished(self, position: int, result: StepResult) -> None:
        """Write the figure of a finished step."""
        self._written += sum(p.written_bytes for p in result.passes)
        figure = {"rate_bytes_s": result.rate.median} if result.step.measures else {}
        self._clock.finished(position)
        self._step("finished", position, passes=len(result.passes), **figure)

    def _look(self, event: str, position: int, live: Progress, **more: Any) -> None:
        if time.monotonic() - self._told < EVERY_S:
            return
        self._step(
            event,
            position,
            **more,
            elapsed_s=live.elapsed_ns / 1e9,
            rate_bytes_s=live.rate_bytes_s,
            done_bytes=live.done_bytes,
            errors=live.errors,
            temperature_c=live.temperature_c,
            to_write_bytes=self._to_write(live.written_bytes),
        )

    def _to_write(self, of_pass: int) -> int | None:
        if self._expected is None:
            return None
        return max(self._expected - self._written - of_pass, 0)

    def _step(self, event: str, position: int, **more: Any) -> None:
        now = time.monotonic()
        self._told = now
        if event != "finished":
            self._clock.at(position)
        at = {"step": self._tasks[position].step.canonical, "position": position + 1}
        at |= {"of": len(self._tasks), "share": round(self._clock.share(now), 4)}
        self._tell(event, **at, remaining_s=round(self._clock.remaining_s(now), 1), **more)

    @staticmethod
    def _tell(event: str, **more: Any) -> None:
        sys.stderr.write(json.dumps({"event": event} | more, ensure_ascii=False) + "\n")
        sys.stderr.flush()


def tell_end(command: str, verdict: dict[str, Any]) -> None:
    """Run a command with the verdict of a run as JSON on its standard input.

    Its failure is told on standard error, and changes nothing about the run.
    """
    text = json.dumps(verdict, ensure_ascii=False) + "\n"
    try:
        done = subprocess.run(command, shell=True, input=text.encode(), check=False)
    except OSError as error:
        echo(f"the command at the end cannot be run: {error.strerror}", err=True)
        return
    if done.returncode:
        echo(f"the command at the end failed with status {done.returncode}: {command}", err=True)
