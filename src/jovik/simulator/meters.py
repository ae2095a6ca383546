"""Simulated readings of a meter beside a model drive during the passes of a run.

So that everything that is made of an instrument's log can be tried without an instrument, and held
against known truth: docs/model-drives.md has the formulas.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from jovik.base.errors import UsageError
from jovik.base.trace import SLICE_NS, Trace
from jovik.simulator.parameters import AcousticNoise, Behaviour, Power

INTERVAL_S = SLICE_NS / 1e9
BEFORE_S = 20.0
"""So long before the first pass the meter is switched on, together with the drive."""
AFTER_S = 5.0
METER_SPREAD = 0.01
"""Relative standard deviation of a power meter's readings."""
LEVEL_SPREAD = 0.3
"""The same of a level meter, in dB."""
METER_UNITS = {"power": "W", "noise": "dB(A)"}
FLUSH_SHARE = 0.5
"""Fraction of the writing power beyond idling that a flush takes."""


@dataclass(frozen=True)
class MeteredPass:
    """A pass for a meter: its begin and end since the first began, and its bytes."""

    start_s: float
    trace: Trace
    random: bool


def metered(
    behaviour: Behaviour, quantity: str, passes: Sequence[MeteredPass], seed: int
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Return times, in seconds since the meter was switched on, and its readings.

    Parameters
    ----------
    quantity : str
        One of `METER_UNITS`.

    Raises
    ------
    UsageError
        The drive has no such model.
    """
    model = behaviour.power if quantity == "power" else behaviour.noise
    if model is None:
        raise UsageError(
            f"this model drive has no model of {quantity}",
            f"give it a [behaviour.{quantity}]: docs/model-drives.md",
        )
    ends = [p.start_s + (p.trace.elapsed_ns + p.trace.flush_ns) / 1e9 for p in passes]
    count = int(np.ceil((BEFORE_S + max(ends) + AFTER_S) / INTERVAL_S))
    shown = np.full(count, model.idle)
    spun = int((behaviour.power.spin_up_time if behaviour.power else 0) / SLICE_NS)
    if model.spin_up:
        shown[:spun] = model.spin_up
    for p in passes:
        _lay_pass(shown, behaviour, model, p)
    rng = np.random.default_rng(seed)
    if isinstance(model, Power):
        shown *= 1 + METER_SPREAD * rng.standard_normal(count)
    else:
        shown += LEVEL_SPREAD * rng.standard_normal(count)
    # The middle of what each value was taken over.
    return ((np.arange(count) + 0.5) * INTERVAL_S).astype(np.float64), shown


def _lay_pass(
    shown: npt.NDArray[np.float64],
    behaviour: Behaviour,
    model: Power | AcousticNoise,
    p: MeteredPass,
) -> None:
    slices = p.trace.slices
    first = round((BEFORE_S + p.start_s) / INTERVAL_S)
    lasted = p.trace.elapsed_ns / SLICE_NS
    rows = min(len(slices), max(round(lasted), 1), len(shown) - first)
    moved = slices[:rows].astype(float) / INTERVAL_S
    if isinstance(model, Power):
        read = _load(moved[:, 0] / behaviour.read_rate, moved[:, 1] / behaviour.read_iops)
        write = _load(moved[:, 2] / behaviour.write_rate, moved[:, 3] / behaviour.write_iops)
        more = (model.read - model.idle) * read + (model.write - model.idle) * write
        shown[first : first + rows] = model.idle + more
        flush = FLUSH_SHARE * (model.write - model.idle)
        end = first + rows + round(p.trace.flush_ns / SLICE_NS)
        shown[first + rows : end] = model.idle + flush
    else:
        busy = moved[:, 1] + moved[:, 3] > 0
        shown[first : first + rows] = np.where(
            busy, model.seek if p.random else model.stream, model.idle
        )


def _load(
    by_bytes: npt.NDArray[np.float64], by_ios: npt.NDArray[np.float64]
) -> npt.NDArray[np.float64]:
    """Return the drive's load as a fraction of its maximum, in bytes or I/Os."""
    return np.minimum(np.maximum(by_bytes, by_ios), 1.0)
