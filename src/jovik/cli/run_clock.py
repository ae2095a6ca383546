"""How far a run is, by the time that each step is expected to take."""

from __future__ import annotations

import time
from collections.abc import Sequence


class RunClock:
    """Counts from when it is made.

    Parameters
    ----------
    times_ns : sequence of int
        How long each step is expected to take.
    budget_ns : int, optional
        Time for all of them.
    """

    def __init__(self, times_ns: Sequence[int], budget_ns: int | None = None) -> None:
        self._times, self._budget = times_ns, budget_ns
        self.began = self._step_began = time.monotonic()
        self._position = 0

    def at(self, position: int) -> None:
        """Note which step is under way."""
        if position != self._position:
            self._position, self._step_began = position, time.monotonic()

    def finished(self, position: int) -> None:
        """Note that a step is done, however long it was expected to take."""
        self._position, self._step_began = position + 1, time.monotonic()

    def share(self, now: float) -> float:
        """Return the fraction of the expected time that has passed, from 0 to 1."""
        whole = max(sum(self._times), 1)
        if self._position >= len(self._times):
            return 1.0
        here = min((now - self._step_began) * 1e9, self._times[self._position])
        return min((sum(self._times[: self._position]) + here) / whole, 1.0)

    def remaining_s(self, now: float) -> float:
        """Return what is left of it, seconds."""
        here, *later = self._times[self._position :] or [0]
        left = max(here / 1e9 - (now - self._step_began), 0.0) + sum(later) / 1e9
        if self._budget is None:
            return left
        return min(left, max(self._budget / 1e9 - (now - self.began), 0.0))
