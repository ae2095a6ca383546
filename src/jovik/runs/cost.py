"""What a plan will cost, known before it starts: seconds, bytes written, space."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.base.session import Session
from jovik.runs.scan import probe_bytes, span_of
from jovik.runs.task import Task
from jovik.runs.workload import copy_job, resolve_amount, workload
from jovik.steps import CopyStep, FillStep, IdleStep, IoStep, ScanStep, Step

ASSUMED_BYTES_S = 300e6
"""What a drive is taken to move where its sheet claims no sequential rate."""
MAKING_NS = 100_000
"""What making one file is taken to last."""
SETTLED_IN = 0.05
"""The share of its limit that a rest with a condition is taken to last.

Mostly the drive has recovered soon, and a budget ends it anyway.
"""


@dataclass(frozen=True)
class Cost:
    """The cost of a plan.

    `certain_bytes` is laid out or asked for by amount; `writing_ns` is time in which as much is
    written as the drive takes, which nobody knows beforehand. `space_bytes` is what the test file
    grows to. `time_ns` counts what is timed, and what is asked for by amount at the rate that was
    assumed.
    """

    time_ns: int
    certain_bytes: int
    writing_ns: int
    space_bytes: int
    endless: bool = False

    def written_bytes(self, rate_bytes_s: float) -> int:
        """All that will be written when the drive takes this rate."""
        return round(self.certain_bytes + self.writing_ns / 1e9 * rate_bytes_s)


def cost_of(tasks: Sequence[Task], session: Session, rate_bytes_s: float = ASSUMED_BYTES_S) -> Cost:
    """The cost of all tasks; what has to be laid out is asked of the session.

    Raises
    ------
    TargetError
        A step asks for a share of what is free, and that cannot be told.
    """
    time_ns = certain = writing_ns = space = laid_out = filled = 0
    endless = False
    for task in tasks:
        step, passes = resolve_amount(task.step, session), task.repeat.most
        if isinstance(step, IoStep):
            work = workload(step, 0)
            endless = endless or work.endless
            if step.fresh:
                laid_out = 0
            else:
                missing = session.to_lay_out_bytes(work)
                certain += max(missing - laid_out, 0)
                time_ns += round(max(missing - laid_out, 0) / rate_bytes_s * 1e9)
                laid_out = max(laid_out, missing)
            share = 1 - step.read_percent / 100
            if step.amount_bytes is not None:
                certain += round(step.amount_bytes * share) * passes
            elif step.time is not None and step.writes:
                writing_ns += round(step.time * share) * passes
            space = max(space, step.span)
        elif isinstance(step, FillStep):
            more = max(session.to_fill_bytes(step.percent) - filled, 0)
            certain += more
            space += more
            filled += more
        elif isinstance(step, CopyStep):
            _, total = session.copy_size(copy_job(step, 0))
            certain += total * (passes if step.inward else 1)
            space = max(space, total)
        elif isinstance(step, ScanStep) and session.capacity_bytes() is None:
            missing = max(span_of(step, session) - laid_out, 0)
            certain += missing
            laid_out += missing
            space = max(space, laid_out)
        time_ns += time_of(task, session, rate_bytes_s)
    return Cost(time_ns, certain, writing_ns, space, endless)


def time_of(task: Task, session: Session, rate_bytes_s: float = ASSUMED_BYTES_S) -> int:
    """The time a task is expected to take, laying out left aside, nanoseconds."""
    step: Step = resolve_amount(task.step, session)
    each = 0.0
    if isinstance(step, IoStep):
        by_amount = (
            step.amount_bytes / min(rate_bytes_s, step.rate_bytes_s or rate_bytes_s) * 1e9
            if step.amount_bytes is not None
            else None
        )
        each = min(x for x in (by_amount, step.time, 24 * 3600e9) if x is not None)
    elif isinstance(step, CopyStep):
        files, total = session.copy_size(copy_job(step, 0))
        each = total / rate_bytes_s * 1e9 + files * MAKING_NS
    elif isinstance(step, ScanStep):
        each = step.zones * (
            probe_bytes(span_of(step, session), step) / rate_bytes_s * 1e9 + 20_000_000
        )
    elif isinstance(step, FillStep):
        each = session.to_fill_bytes(step.percent) / rate_bytes_s * 1e9
    elif isinstance(step, IdleStep):
        each = step.time_ns * (SETTLED_IN if step.waits else 1)
    return round(each * task.repeat.most)
