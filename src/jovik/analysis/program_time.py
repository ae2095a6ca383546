"""What a recorded program takes on a drive: measured there, or predicted by its twin."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from jovik.base.interval import Interval


class How(StrEnum):
    """Where a time comes from."""

    MEASURED = "measured"
    PREDICTED = "predicted"
    COMPUTED = "computed"


@dataclass(frozen=True)
class ProgramTime:
    """The seconds of a program on a drive: measured, with a 95 % interval, or predicted, with 90 %.

    `typical_error` is the median share by which the drive's twin mispredicts a step from the
    others, and None if the program was replayed on the drive.
    """

    drive: str
    elapsed_s: Interval
    typical_error: float | None = None

    @property
    def predicted(self) -> bool:
        """Return True if the drive did not replay it."""
        return self.typical_error is not None

    @property
    def how(self) -> How:
        """Return whether it is measured or predicted."""
        return How.PREDICTED if self.predicted else How.MEASURED


@dataclass(frozen=True)
class ProgramTimes:
    """A recorded program on drives, the least time first, and when it was recorded.

    `recorded_s` is what it took then, `recorded_on` the drive, empty if that was not recorded.
    """

    name: str
    recorded_s: float
    recorded_on: str
    times: tuple[ProgramTime, ...]
