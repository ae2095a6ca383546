"""Steps that measure nothing: filling, giving back, resting.

They are on record all the same, since the next step feels them.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from jovik.base.quantities import show_rate, show_size, show_time
from jovik.base.session import Progress, ProgressCallback, Workload
from jovik.base.step_result import StepResult
from jovik.base.trace import SLICE_COLUMNS, Trace
from jovik.runs.context import RunContext, no_progress
from jovik.runs.repetition import TimeAllowance
from jovik.runs.step_result import failure, summarise
from jovik.runs.task import Task
from jovik.runs.workload import pass_seed, workload
from jovik.steps import CopyStep, DiscardStep, FillStep, IdleStep, IoStep, Step, parse_access
from jovik.steps.access import DEFAULT_SPAN_BYTES

PROBE = parse_access("sequential write 1MiB depth 8 over 8GB for 2s")
"""The short write that tells whether a drive has recovered.

As much as a short test writes, since less would fit into a cache that has hardly begun to drain.
"""
RECOVERED = 0.9
"""The share of its first rate at which a drive counts as recovered."""
FIRST_PAUSE_NS, LONGEST_PAUSE_NS = 5 * 10**9, 180 * 10**9
LOOK_NS = 10**9
GLANCE_NS = 5 * 10**8


def run_chore(
    position: int,
    step: FillStep | DiscardStep | IdleStep,
    bench: RunContext,
    ahead: Sequence[Task] = (),
    allowed: TimeAllowance | None = None,
) -> StepResult:
    """Do it, and put it on record.

    Parameters
    ----------
    ahead : sequence of Task
        What comes next: a rest leaves room for what that writes.
    allowed : Allowed, optional
        The time it may take; a rest is shortened to it.

    Raises
    ------
    TargetError
        The target must not be filled so far.
    DriveError
        Filling it failed, and errors stop the run.
    """
    conditions = bench.conditions(bench.session.engine, 0)
    bench.sink.step_begun(position, step, conditions)
    watch = bench.observer.passing(position, step, 1)
    began = bench.session.now_ns()
    trace: Trace | None = None
    if isinstance(step, FillStep):
        trace = bench.session.fill(step.percent, pass_seed(bench.options.seed, position, 1), watch)
        bench.filled_percent = step.percent
        note = (
            f"wrote {show_size(trace.written_bytes)} in {show_time(trace.elapsed_ns)}"
            if trace
            else "it was as full already"
        )
    elif isinstance(step, DiscardStep):
        given = bench.session.empty()
        bench.filled_percent = None
        note = f"gave back {show_size(given.freed_bytes)}" + (
            f"; {given.note}" if given.note else ""
        )
    else:
        shortened = (
            step
            if allowed is None
            else replace(step, time_ns=max(min(step.time_ns, allowed.share_ns), 1))
        )
        note = _rest(shortened, bench, position, ahead, watch)
    trace = trace or empty_trace(bench, bench.session.now_ns() - began)
    bench.sink.pass_done(position, 1, trace)
    if not isinstance(step, IdleStep):
        bench.ran(step, [trace])
    result = summarise(step, [replace(trace, notes=())], conditions, [note])
    bench.sink.step_done(position, result)
    if trace.first_fault is not None and bench.options.stop_on_error:
        raise failure(trace)
    return result


def empty_trace(bench: RunContext, elapsed_ns: int) -> Trace:
    """The trace of a step that did no I/O that counts."""
    return Trace(
        bench.session.engine,
        bench.session.direct,
        0,
        elapsed_ns,
        0,
        0,
        np.zeros((1, len(SLICE_COLUMNS)), np.int64),
        {},
    )


def probe_work(seed: int) -> Workload:
    """The short write: within the usual test file, so that it takes no space of its own."""
    return replace(workload(PROBE, seed), fresh=False, span_bytes=DEFAULT_SPAN_BYTES)


def measure_probe_write(bench: RunContext, position: int, step: Step) -> float:
    """The rate of a short write just now, bytes a second."""
    work = probe_work(pass_seed(bench.options.seed, position, bench.session.now_ns() % 2**31))
    bench.prepare(position, step, work)
    trace = bench.session.run(work, no_progress)
    bench.sink.laid_out(trace.written_bytes)
    return trace.rate_bytes_s


def _rest(
    step: IdleStep, bench: RunContext, position: int, ahead: Sequence[Task], watch: ProgressCallback
) -> str:
    session = bench.session
    began = session.now_ns()
    if not step.waits:
        _pause(bench, step.time_ns, began, watch)
        return f"rested {show_time(step.time_ns)}"
    if step.cool_c is not None and not bench.temperatures_c():
        return "no sensor answers here, so there was nothing to wait for"
    pause = FIRST_PAUSE_NS if step.recovered else LOOK_NS
    last_pause = 0
    while True:
        spent = session.now_ns() - began
        if step.cool_c is not None:
            now = max(bench.temperatures_c().values(), default=0.0)
            reached, said = now <= step.cool_c, f"{now:.0f} C"
        else:
            first = bench.first_rate_bytes_s or 0.0
            rate = measure_probe_write(bench, position, step)
            reached, said = (
                rate >= RECOVERED * first,
                f"a short write at {show_rate(rate)}, {show_rate(first)} at first",
            )
        if reached:
            when = f"after {show_time(spent)}" if spent > LOOK_NS else "at once"
            if step.recovered and last_pause:
                bench.room_pause_ns = last_pause
            more = (
                _make_room(step, bench, ahead, bench.room_pause_ns, began, watch)
                if step.recovered
                else ""
            )
            return (
                f"{'recovered' if step.recovered else f'down to {step.cool_c} C'} {when}: "
                f"{said}{more}"
            )
        if spent >= step.time_ns:
            return (
                f"not {'recovered' if step.recovered else f'down to {step.cool_c} C'} within "
                f"{show_time(step.time_ns)}: {said}"
            )
        last_pause = min(pause, max(step.time_ns - spent, 1))
        _pause(bench, last_pause, began, watch)
        if step.recovered:
            pause = min(pause * 3 // 2, LONGEST_PAUSE_NS)


def _pause(bench: RunContext, time_ns: int, began_ns: int, watch: ProgressCallback) -> None:
    """Leave the drive alone for so long, and let whoever watches see that time goes on."""
    left = time_ns
    while left > 0:
        bench.session.wait(min(left, GLANCE_NS))
        left -= GLANCE_NS
        warm = max(bench.temperatures_c().values(), default=None) if bench.setting.sensors else None
        watch(Progress(bench.session.now_ns() - began_ns, 0, 0.0, temperature_c=warm))


def _make_room(
    step: IdleStep,
    bench: RunContext,
    ahead: Sequence[Task],
    pause_ns: int,
    began_ns: int,
    watch: ProgressCallback,
) -> str:
    """Leave the drive alone for longer.

    The short write took the room that it found, and the next steps are to find some too.

    The last pause, of this rest or of an earlier one of the run, made room for one short write; as
    much more of it is waited as the next steps, up to the next chore, write more. That a short
    write is fast at once only says that there is room for it.
    """
    if not pause_ns:
        return ""
    wanted = 0.0
    for task in ahead:
        if not task.step.measures:
            break
        if (
            isinstance(task.step, IoStep)
            and task.step.writes
            and task.step.time is not None
            and not task.step.once
        ):
            rate = min(bench.first_rate_bytes_s or 0.0, task.step.rate_bytes_s or math.inf)
            wanted += (
                (1 - task.step.read_percent / 100) * rate * task.step.time / 1e9 * task.repeat.most
            )
        elif isinstance(task.step, CopyStep) and task.step.inward:
            wanted += task.step.files * task.step.file_bytes * task.repeat.most
    assert PROBE.amount_bytes is not None
    spent_ns = bench.session.now_ns() - began_ns
    longer = min(
        round(pause_ns * max(wanted / PROBE.amount_bytes, 1.0)), max(step.time_ns - spent_ns, 0)
    )
    _pause(bench, longer, began_ns, watch)
    return (
        f"; then left alone for {show_time(longer)} more, so that what comes next finds room"
        if longer
        else ""
    )
