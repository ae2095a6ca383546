"""Whether this process did not run: stopped, suspended with its machine, or starved.

A thread looks at the clocks ten times a second. `CLOCK_MONOTONIC` goes on while a process is
stopped, `CLOCK_BOOTTIME` also while the machine sleeps (clock_gettime(2)); a tick that comes much
too late says that nothing here ran meanwhile.
"""

from __future__ import annotations

import threading
import time

TICK_S = 0.1
GAP_S = 1.0
"""A tick that is so late is no matter of scheduling."""
CLOCKS = tuple(
    getattr(time, name) for name in ("CLOCK_MONOTONIC", "CLOCK_BOOTTIME") if hasattr(time, name)
)


class StandstillWatch:
    """A watch that is active while it is entered, as a context manager.

    Attributes
    ----------
    longest_s : float
        The longest time in which nothing ran, 0 if no gap was worth a word.
    """

    def __init__(self) -> None:
        self.longest_s = 0.0
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._tick, daemon=True)
        self._seen: list[float] = []

    def __enter__(self) -> StandstillWatch:
        self._seen = _now()
        self._thread.start()
        return self

    def __exit__(self, *exc: object) -> None:
        self._ended.set()
        self._thread.join()
        self._look()

    def _tick(self) -> None:
        while not self._ended.wait(TICK_S):
            self._look()

    def _look(self) -> None:
        now = _now()
        gap = max(after - before for before, after in zip(self._seen, now, strict=True)) - TICK_S
        self._seen = now
        if gap > GAP_S:
            self.longest_s = max(self.longest_s, gap)


def _now() -> list[float]:
    return [time.clock_gettime(clock) for clock in CLOCKS]
