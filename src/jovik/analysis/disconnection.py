"""Whether a drive disappeared during a pass, and how far its writes were confirmed."""

from __future__ import annotations

import errno
from collections.abc import Sequence

from jovik.analysis.step_result import StepResult
from jovik.base.findings import Disconnection
from jovik.base.trace import Trace

GONE = frozenset((errno.ENODEV, errno.ENXIO, errno.ENOLINK, errno.ESHUTDOWN))
"""Answers of the system that only a device that is no longer there gets."""


def disconnection(trace: Trace, *, detached: bool = False) -> Disconnection | None:
    """Return how a pass ended if the drive disappeared, or None.

    Parameters
    ----------
    detached : bool
        True if the system no longer has the device: an I/O error alone does not tell.
    """
    fault = trace.first_fault
    if fault is None or not (detached or fault.errno in GONE):
        return None
    return Disconnection(fault.after_ns / 1e9, fault.confirmed_bytes)


def disconnected_by(results: Sequence[StepResult]) -> Disconnection | None:
    """Return the first disconnection among the results of a drive."""
    disconnections = (r.findings.disconnected for r in results)
    return next((x for x in disconnections if x is not None), None)


def disconnection_words(found: Disconnection) -> str:
    """Return a sentence without its subject, the drive."""
    confirmed = (
        f"the last write that it confirmed ended at byte {found.confirmed_bytes:,}"
        if found.confirmed_bytes is not None
        else "it had confirmed no write in this pass"
    )
    return f"disappeared {found.after_s:.2f} s into the pass: {confirmed}"
