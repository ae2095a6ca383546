"""What a plan will cost, known before it starts: seconds, bytes written, space."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.bench.work import workload
from jovik.phrase import Step
from jovik.protocol import Session


@dataclass(frozen=True)
class Cost:
    """The cost of a plan.

    `certain_bytes` is laid out or asked for by amount; `writing_ns` is time in which as much is written as the drive
    takes, which nobody knows beforehand. `space_bytes` is what the test file grows to.
    """

    time_ns: int
    certain_bytes: int
    writing_ns: int
    space_bytes: int


def cost_of(steps: Sequence[Step], passes: int, session: Session) -> Cost:
    """The cost of `passes` passes of each step; what has to be laid out is asked of the session."""
    time_ns = certain = writing_ns = 0
    laid_out = 0
    for step in steps:
        work = workload(step, 0)
        if step.fresh:
            laid_out = 0
        else:
            missing = session.to_lay_out_bytes(work)
            certain += max(missing - laid_out, 0)
            laid_out = max(laid_out, missing)
        share = 1 - step.read_percent / 100
        if step.amount_bytes is not None:
            certain += round(step.amount_bytes * share) * passes
        elif step.time is not None and step.writes:
            writing_ns += round(step.time * share) * passes
        time_ns += (step.time or 0) * passes
    return Cost(time_ns, certain, writing_ns, max((s.span for s in steps if s.writes or s.reads), default=0))
