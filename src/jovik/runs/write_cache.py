"""The bytes written since the drive last rested, compared with its write cache.

A write test that begins with the cache full measures what lies behind it, and looks like a slow
drive.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.comparability import series_to_show
from jovik.analysis.long_write import write_series
from jovik.analysis.step_result import StepResult
from jovik.base.quantities import show_size
from jovik.base.trace import Trace
from jovik.steps import CopyStep, IoStep, Step

USUAL_SHARE = 0.01
"""A write cache of so much of the capacity is taken to be usual for a solid-state drive.

An assumption, on the small side, that decides about a mark and nothing else: caches that are taken
from free space hold far more (docs/numbers.md).
"""


PROBE_FRACTION, LEAST_PROBE_BYTES = 0.02, 64 * 2**20
NOTICEABLE_FRACTION = 0.1
"""Of a cache that a step fills anyway, this much may be full before it."""


@dataclass
class WriteCacheWatch:
    """Bytes written since the drive last recovered, compared with its write cache.

    `known_bytes` is where a write of this drive fell, None if none was made; `usual_bytes` a usual
    size for drives of its capacity, None if its medium has no such cache.
    """

    known_bytes: int | None = None
    usual_bytes: int | None = None
    written_bytes: int = 0

    @property
    def size_bytes(self) -> int | None:
        """Return the size that is reckoned with, or None if there is none."""
        return self.known_bytes or self.usual_bytes

    @property
    def probe_bytes(self) -> int:
        """Return how much a short write may take to look whether the drive has recovered."""
        return max(round(PROBE_FRACTION * (self.size_bytes or 0)), LEAST_PROBE_BYTES)

    def wrote(self, amount_bytes: int) -> None:
        """Count the bytes of a pass or of laying out a test file."""
        self.written_bytes += amount_bytes

    def rested(self) -> None:
        """Take note that the drive recovered, or that its space was discarded."""
        self.written_bytes = 0

    def learn(self, result: StepResult) -> None:
        """Learn the size of the cache from a long write or a copy."""
        written = series_to_show(result)
        if written is not None and written.cliff is not None:
            self.known_bytes = written.cliff.at_bytes

    def learn_from(self, step: Step, trace: Trace) -> None:
        """Learn the same from a pass in order that began with the cache empty."""
        in_order = isinstance(step, CopyStep) or (isinstance(step, IoStep) and not step.random)
        if self.written_bytes or not in_order or trace.read_bytes or not trace.written_bytes:
            return
        written = write_series(trace)
        if written is not None and written.cliff is not None:
            self.known_bytes = written.cliff.at_bytes

    def too_full_for(self, coming_bytes: float) -> bool:
        """Return True if a write of so much would meet the end of the cache earlier than alone.

        A write that fits into the empty cache, but not into what is left of it; or one that does
        not fit, and the cache is already noticeably full.
        """
        size = self.size_bytes
        if size is None or not self.written_bytes:
            return False
        if coming_bytes > size:
            return self.written_bytes > NOTICEABLE_FRACTION * size
        return self.written_bytes + coming_bytes > size

    @property
    def note(self) -> str:
        """Return why the figure of a step is not used, for a reader."""
        written = f"{show_size(self.written_bytes)} had been written without a rest"
        if self.known_bytes is not None:
            return (
                f"began with the write cache partly full: {written}, and a write of this drive "
                f"fell after {show_size(self.known_bytes)}"
            )
        return (
            f"the write cache may have been partly full: {written}; a usual size for such drives "
            f"is {show_size(self.usual_bytes or 0)}"
        )


def watch_for(
    earlier: Sequence[StepResult], capacity_bytes: int | None, medium: str
) -> WriteCacheWatch:
    """Return a watch for a drive with these results on the shelf."""
    solid = "solid" in medium.casefold()
    watch = WriteCacheWatch(
        usual_bytes=round(USUAL_SHARE * capacity_bytes) if capacity_bytes and solid else None
    )
    for result in earlier:
        watch.learn(result)
    return watch
