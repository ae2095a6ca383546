"""Firmware that changed between runs: a condition, and a cause of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.step_result import StepResult


@dataclass(frozen=True)
class FirmwareChange:
    """A sample whose newest results were made with another firmware than earlier ones.

    `until` is the day of the last result with the firmware before.
    """

    sample: str
    before: str
    now: str
    until: str


def firmware_changes(
    newest: Sequence[StepResult], every: Sequence[StepResult]
) -> list[FirmwareChange]:
    """Return the changes that a reader of these newest results should know.

    Parameters
    ----------
    every : sequence of StepResult
        Of the same drive, oldest first.
    """
    now = {}
    for r in sorted(newest, key=lambda r: r.started):
        if r.conditions.sample is not None and r.conditions.firmware is not None:
            now[r.conditions.sample] = r.conditions.firmware
    changes = {}
    for r in every:
        sample, before = r.conditions.sample, r.conditions.firmware
        if sample in now and before is not None and before != now[sample]:
            changes[sample] = FirmwareChange(sample, before, now[sample], r.started[:10])
    return list(changes.values())
