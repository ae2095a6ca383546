"""A line on the terminal for work that takes more than two seconds, with the time that is left."""

from __future__ import annotations

import sys
import time
from dataclasses import dataclass

import click

from jovik.base.long_work import listen
from jovik.base.quantities import show_time

PATIENCE_S = 2.0
"""Work that ends sooner shows no line."""
EACH_S = 0.2
"""Time between two changes of the line."""


@dataclass
class _Line:
    """The line: when the work began, when the line was changed, and whether it is shown."""

    began_s: float = 0.0
    changed_s: float = 0.0
    shown: bool = False

    def update(self, what: str, done: int, count: int) -> None:
        now = time.monotonic()
        took_s = now - self.began_s
        if done >= count:
            self.clear()
        elif not done:
            self.began_s = now
        elif took_s >= PATIENCE_S and now - self.changed_s >= EACH_S:
            left_s = took_s * (count - done) / done
            line = f"{done:,} of {count:,} {what}, about {show_time(max(left_s, 1.0) * 1e9)} left"
            click.echo(f"\r\x1b[K{line}", err=True, nl=False)
            self.changed_s, self.shown = now, True

    def clear(self) -> None:
        if self.shown:
            self.shown = False
            click.echo("\r\x1b[K", err=True, nl=False)


_line = _Line()


def show_waiting() -> None:
    """Show a line for long work from now on, if standard error is a terminal."""
    if sys.stderr.isatty():
        listen(_line.update)


def clear() -> None:
    """Remove the line, because something else is printed."""
    _line.clear()
