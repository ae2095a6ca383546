"""What a recorded program would take on a drive that did not replay it."""

from __future__ import annotations

from dataclasses import dataclass

from jovik.base.interval import Interval


@dataclass(frozen=True)
class Prediction:
    """The seconds of a program by a drive's twin, with a 90 % interval.

    `typical_error` is the median share by which the twin mispredicts a step from the others.
    """

    drive: str
    elapsed_s: Interval
    typical_error: float
