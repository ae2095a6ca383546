"""The cost of a plan in bytes, time and space, added up step by step."""

from __future__ import annotations

from dataclasses import dataclass

ASSUMED_BYTES_S = 300e6
"""Assumed rate of a drive whose sheet claims no sequential rate."""


@dataclass
class PlanCost:
    """The sum of the steps of a plan.

    `rate_bytes_s` is the assumed rate of the drive. `certain_bytes` are written whatever the drive
    does; `writing_ns` is time spent writing as fast as it can. `laid_out_bytes` is the test file
    at that point of the plan, `filled_bytes` the filling, `space_bytes` the most that is taken.
    """

    rate_bytes_s: float = ASSUMED_BYTES_S
    time_ns: int = 0
    certain_bytes: int = 0
    writing_ns: int = 0
    space_bytes: int = 0
    laid_out_bytes: int = 0
    filled_bytes: int = 0
    endless: bool = False

    @property
    def held_bytes(self) -> int:
        """Return the space of the test file and the filling at this point of the plan."""
        return self.laid_out_bytes + self.filled_bytes

    def take_space(self, test_file_bytes: int = 0, more_bytes: int = 0) -> None:
        """Count the space that a step takes: a test file of at least this size, and more."""
        held = max(self.laid_out_bytes, test_file_bytes) + self.filled_bytes + more_bytes
        self.space_bytes = max(self.space_bytes, held)

    def written_bytes(self, rate_bytes_s: float) -> int:
        """Return all bytes written, if the drive writes at this rate."""
        return round(self.certain_bytes + self.writing_ns / 1e9 * rate_bytes_s)
