"""Data that a drive did not discard: how much, and how much it really holds."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.step_result import StepResult
from jovik.base.findings import LostData
from jovik.base.quantities import show_size
from jovik.base.trace import StampFaults

STAMP_BYTES = 4096
FAKE_SHARE = 0.01
FAKE_BYTES = 10**9
"""From this share and amount on of blocks that hold other blocks' data, a drive is no faulty one.

It holds less than it says.
"""


def lost_data(stamps: StampFaults) -> LostData | None:
    """Return the result of reading the stamps back, or None if all are intact.

    On a drive that holds less than it says, what was written last lies where the first was, so
    that as many blocks are right as it really has.
    """
    if not stamps.bad:
        return None
    lost = stamps.bad * STAMP_BYTES
    fake = stamps.wrong >= FAKE_SHARE * stamps.checked and stamps.wrong * STAMP_BYTES >= FAKE_BYTES
    holds = (stamps.checked - stamps.bad) * STAMP_BYTES if fake else None
    return LostData(stamps.checked * STAMP_BYTES, lost, holds)


def lost_by(results: Sequence[StepResult]) -> LostData | None:
    """Return the worst loss among the results of a drive."""
    losses = [r.findings.lost for r in results if r.findings.lost is not None]
    return max(losses, key=lambda x: (x.holds_bytes is not None, x.lost_bytes), default=None)


def lost_words(found: LostData, capacity_bytes: int | None) -> str:
    """Return the headline for a drive that lost data."""
    if found.holds_bytes is not None:
        says = f", not {show_size(capacity_bytes)}" if capacity_bytes else ""
        return f"holds about {show_size(found.holds_bytes)}{says}; data written beyond is lost"
    return (
        f"lost data: {show_size(found.lost_bytes)} of {show_size(found.written_bytes)} did not "
        "come back as it was written"
    )
