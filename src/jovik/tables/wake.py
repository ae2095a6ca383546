"""The cost of power saving: the extra wait of an I/O after a pause."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jovik.analysis.step_result import StepResult
from jovik.analysis.wake import WakeCost, wake_costs
from jovik.base.quantities import show_time
from jovik.steps import IoStep
from jovik.tables.table import interval_json


def wake_lines(results: Sequence[StepResult]) -> list[str]:
    """Return the extra wait of a read after a pause, for steps that were made both ways."""
    lines = []
    for cost in wake_costs(results):
        low, high = cost.longer_ns.low, cost.longer_ns.high
        assert low is not None and high is not None
        after = f"after a pause of {show_time(cost.pause_s * 1e9)} a {_what(cost.paced)}"
        if cost.sure:
            lines.append(
                f"{after} waits {show_time(cost.longer_ns.median)} longer ({show_time(low)} to "
                f"{show_time(high)}): the link or the drive saves power meanwhile"
            )
        elif high > 0:
            lines.append(f"{after} has no measurable extra wait: {show_time(high)} at most")
        else:
            lines.append(f"{after} waits no longer")
    return lines


def _what(r: StepResult) -> str:
    step = r.step
    return "write" if isinstance(step, IoStep) and step.read_percent == 0 else "read"


def wake_json(cost: WakeCost) -> dict[str, Any]:
    """Return one of them as documented."""
    return {
        "kind": cost.paced.kind,
        "pause_ns": cost.pause_s * 1e9,
        "longer_ns": interval_json(cost.longer_ns),
        "sure": cost.sure,
    }
