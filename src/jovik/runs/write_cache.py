"""The bytes written since the drive last rested, compared with its write cache.

A write test that begins with the cache full measures what lies behind it, and looks like a slow
drive.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.comparability import long_write_of
from jovik.analysis.step_result import StepResult
from jovik.base.quantities import show_size

USUAL_SHARE = 0.01
"""A write cache of so much of the capacity is taken to be usual for a solid-state drive.

An assumption, on the small side, that decides about a mark and nothing else: caches that are taken
from free space hold far more (docs/numbers.md).
"""


@dataclass
class WriteCacheWatch:
    """Bytes written since the drive could catch its breath.

    `known_bytes` is where a long write of this drive fell, None if none was made; `usual_bytes`
    what is usual for its capacity, None if it is no solid-state drive.
    """

    known_bytes: int | None = None
    usual_bytes: int | None = None
    written_bytes: int = 0

    def wrote(self, amount_bytes: int) -> None:
        """Count the bytes of a pass or of laying out a test file."""
        self.written_bytes += amount_bytes

    def rested(self) -> None:
        """Take note that the drive recovered, or that its space was discarded."""
        self.written_bytes = 0

    def learn(self, result: StepResult) -> None:
        """Learn the size of the cache from a long write."""
        written = long_write_of(result)
        if written is not None and written.cliff is not None:
            self.known_bytes = written.cliff.at_bytes

    @property
    def full(self) -> bool:
        """Return whether more was written than the cache probably holds."""
        size = self.known_bytes or self.usual_bytes
        return size is not None and self.written_bytes > size

    @property
    def note(self) -> str:
        """For a reader."""
        size = self.known_bytes or self.usual_bytes or 0
        of = "known" if self.known_bytes else "usual"
        return (
            f"the write cache was probably full: more than its {of} size of {show_size(size)} had "
            "been written without a rest"
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
