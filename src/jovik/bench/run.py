"""Running a plan: step by step, pass by pass, each finished pass handed over before the next begins."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

from jovik.analysis.heat import assess, heat_limit, seconds_above
from jovik.analysis.latency import merge
from jovik.analysis.limits import disturbance_notes, link_limit, tester_limits
from jovik.bench.repeat import Repeat
from jovik.bench.work import pass_seed, workload
from jovik.errors import DriveFailed
from jovik.phrase import Step
from jovik.protocol import Live, Session, Watch, Workload
from jovik.results import Conditions, Environment, Limit, PassFigures, StepResult, Trace
from jovik.sense.hostload import between, counters
from jovik.sense.temperature import Sensor, Watcher
from jovik.units import show_rate

UNLIKE_PASSES = 1.5
"""Fastest over slowest pass from which on it is said that they differ."""


@dataclass(frozen=True)
class Setting:
    """What is known of the surroundings of a run and goes into the conditions of its results.

    `device` is the drive's kernel name, whose counters and `sensors` are watched; `heat_limit_c` its own limit.
    """

    rig: str | None = None
    unit: str | None = None
    firmware: str | None = None
    link: str | None = None
    link_rate_bytes_s: float | None = None
    device: str | None = None
    sensors: tuple[Sensor, ...] = ()
    heat_limit_c: float | None = None


@dataclass(frozen=True)
class RunOptions:
    """How a plan is run: repetitions, the seed that everything random comes from, and what an error does."""

    repeat: Repeat = field(default_factory=Repeat)
    seed: int = 1
    stop_on_error: bool = True


class Sink(Protocol):
    """Where finished work goes; each call returns only when what it was given is safe."""

    def step_begun(self, position: int, step: Step, conditions: Conditions) -> None:
        """A step's first pass is about to start."""

    def pass_done(self, position: int, number: int, trace: Trace) -> None:
        """A pass is finished."""

    def step_done(self, position: int, result: StepResult) -> None:
        """A step is finished."""

    def laid_out(self, written_bytes: int) -> None:
        """The test file was laid out."""


class Observer(Protocol):
    """Who watches; called from the main thread, never from the measuring loop."""

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Live], None]:
        """The test file is about to be laid out."""

    def passing(self, position: int, step: Step, number: int) -> Callable[[Live], None]:
        """A pass is about to start."""

    def finished(self, position: int, result: StepResult) -> None:
        """A step is finished."""


def run_plan(
    steps: Sequence[Step],
    session: Session,
    setting: Setting,
    options: RunOptions,
    sink: Sink,
    observer: Observer,
    clock_ns: Callable[[], int] = time.monotonic_ns,
) -> list[StepResult]:
    """Run all steps.

    Parameters
    ----------
    clock_ns : callable
        What the budget is counted in: the session's own clock on a model drive.

    Raises
    ------
    TargetRefused
        A step asks what the target cannot take; nothing has been written then.
    DriveFailed
        An I/O failed and `options.stop_on_error` is set; the pass is with the sink.
    KeyboardInterrupt
        A person stopped it; finished passes are with the sink.
    """
    for step in steps:
        session.check(workload(step, 0))
    began = clock_ns()
    results = []
    for position, step in enumerate(steps):
        allowed = None
        if options.repeat.budget_ns is not None:
            allowed = max(options.repeat.budget_ns - (clock_ns() - began), 0) // (len(steps) - position)
        result = _run_step(position, step, session, setting, options, sink, observer, allowed, clock_ns)
        results.append(result)
        observer.finished(position, result)
    return results


def _run_step(
    position: int,
    step: Step,
    session: Session,
    setting: Setting,
    options: RunOptions,
    sink: Sink,
    observer: Observer,
    allowed_ns: int | None,
    clock_ns: Callable[[], int],
) -> StepResult:
    first = workload(step, 0)
    conditions = Conditions(
        engine=session.engine_for(first),
        direct=session.direct,
        span_bytes=step.span,
        fill_percent=session.fill_percent(),
        link=setting.link,
        rig=setting.rig,
        unit=setting.unit,
        firmware=setting.firmware,
        start_temperature_c=_start_temperature(setting),
    )
    sink.step_begun(position, step, conditions)
    began = clock_ns()
    traces: list[Trace] = []
    ceiling = session.ceiling_iops(first)
    while True:
        number = len(traces) + 1
        work = workload(step, pass_seed(options.seed, position, number), stop_on_error=options.stop_on_error)
        missing = session.to_lay_out_bytes(work)
        written = session.prepare(work, observer.preparing(position, step, missing) if missing else _ignore)
        if written:
            sink.laid_out(written)
        trace = _watched(session, work, setting, observer.passing(position, step, number))
        traces.append(trace)
        sink.pass_done(position, number, trace)
        broken = trace.first_fault is not None or (trace.stamps is not None and trace.stamps.bad > 0)
        if broken and (options.stop_on_error or trace.stopped):
            sink.step_done(position, summarise(step, traces, conditions))
            raise failure(trace)
        rates = [t.rate_bytes_s for t in traces]
        spent = clock_ns() - began
        reason = options.repeat.verdict(rates, spent, allowed_ns)
        if reason is not None:
            break
    limits = tester_limits([figures_of(t) for t in traces], ceiling, step.block_bytes, session.threads(first))
    notes, more = surroundings(step, traces, setting)
    result = summarise(step, traces, conditions, [*notes, *([reason] if reason else [])], [*limits, *more])
    sink.step_done(position, result)
    return result


def _start_temperature(setting: Setting) -> float | None:
    now = [v for s in setting.sensors if (v := s.read_c()) is not None]
    return max(now) if now else None


def _watched(session: Session, work: Workload, setting: Setting, watch: Watch) -> Trace:
    """One pass, with what went on around it."""
    if setting.device is None:
        return session.run(work, watch)
    before = counters(setting.device)
    with Watcher(list(setting.sensors)) as watcher:
        trace = session.run(work, watch)
    load = between(before, counters(setting.device), trace.read_bytes + trace.written_bytes + trace.late_written_bytes)
    if load is None:
        return replace(trace, environment=Environment(temperatures=tuple(watcher.samples)))
    # Read back to verify, the pass has moved its data twice; through the cache it is moved at some other time.
    other = None if work.verify or not session.direct else load.other_bytes
    return replace(trace, environment=Environment(load.busy, load.own, load.stolen, other, tuple(watcher.samples)))


def surroundings(step: Step, traces: Sequence[Trace], setting: Setting) -> tuple[list[str], list[Limit]]:
    """Notes and limits that come from what went on around the passes."""
    figures = [figures_of(t) for t in traces]
    limits = list(link_limit(figures, setting.link, setting.link_rate_bytes_s))
    notes = disturbance_notes([t.environment for t in traces], [f.read_bytes + f.written_bytes for f in figures])
    samples = [(t.environment.temperatures, t.slices) for t in traces if t.environment is not None and t.environment.temperatures]
    for temperatures, slices in samples:
        limit = heat_limit(slices, temperatures, setting.heat_limit_c)
        if limit is not None:
            limits.append(limit)
            break
    if samples:
        whole = [one for temperatures, _ in samples for one in temperatures]
        good = [r for r in assess(whole) if not r.set_aside]
        if good:
            notes.append(f"temperature {good[0].start_c:.0f} C at the start, {max(r.peak_c for r in good):.0f} C at most")
        if setting.heat_limit_c is not None:
            above = sum(seconds_above(t, setting.heat_limit_c) for t, _ in samples)
            notes += [f"{above:.0f} s at or above its limit of {setting.heat_limit_c:.0f} C"] if above else []
        notes += [f"sensor '{r.name}' ({r.peak_c:.0f} C) is set aside: {r.set_aside}" for r in assess(whole) if r.set_aside]
    return notes, limits


def _ignore(_: Live) -> None:
    return None


def failure(trace: Trace) -> DriveFailed:
    """The error to show for a pass that ended in a fault."""
    fault = trace.first_fault
    if fault is None:
        return DriveFailed(
            f"the drive did not give back what was written: {stamp_note(trace)}", "the pass is on the shelf; copy what matters off this drive"
        )
    return DriveFailed(
        f"the drive failed a {fault.direction} at byte {fault.offset_bytes}, {fault.after_ns / 1e9:.2f} s into the pass: {fault.what}",
        "what was measured before is on the shelf; --on-error continue counts errors and goes on",
    )


def figures_of(trace: Trace) -> PassFigures:
    """A pass's figures without its series."""
    return PassFigures(
        rate_bytes_s=trace.rate_bytes_s,
        flushed_rate_bytes_s=trace.flushed_rate_bytes_s,
        iops=trace.iops,
        read_bytes=trace.read_bytes,
        written_bytes=trace.written_bytes + trace.late_written_bytes,
        elapsed_ns=trace.elapsed_ns,
        errors=trace.errors,
        cpu_ns=trace.cpu_ns,
    )


def summarise(step: Step, traces: Sequence[Trace], conditions: Conditions, notes: Sequence[str] = (), limits: Sequence[Limit] = ()) -> StepResult:
    """A step's result from its passes."""
    latencies = {}
    for direction in ("read", "write"):
        whole = merge(t.latencies[direction] for t in traces if direction in t.latencies)
        if whole is not None:
            latencies[direction] = whole
    said = [n for t in traces for n in t.notes]
    said += [stamp_note(t) for t in traces if t.stamps is not None]
    said += [f"the first error: {t.first_fault.what} at byte {t.first_fault.offset_bytes}" for t in traces if t.first_fault][:1]
    said += [x for x in (spread_note([t.rate_bytes_s for t in traces]),) if x]
    return StepResult(
        phrase=step.canonical,
        kind=step.kind,
        passes=tuple(figures_of(t) for t in traces),
        latencies=latencies,
        conditions=conditions,
        limits=tuple(limits),
        notes=tuple(dict.fromkeys([*said, *notes])),
    )


def spread_note(rates: Sequence[float]) -> str:
    """A word of warning where passes differ by more than noise does."""
    if len(rates) < 2 or min(rates) <= 0 or max(rates) / min(rates) < UNLIKE_PASSES:
        return ""
    return (
        f"passes differ by a factor of {max(rates) / min(rates):.1f} (first {show_rate(rates[0])}, last {show_rate(rates[-1])}): "
        "something changed between them, such as a full write cache, heat, or other work on the machine"
    )


def stamp_note(trace: Trace) -> str:
    """What reading the stamps back found, in words."""
    stamps = trace.stamps
    assert stamps is not None
    if not stamps.bad:
        return "every stamp came back as it was written"
    where = ", ".join(str(n) for n in stamps.first_offsets_bytes)
    return f"of {stamps.checked} stamps {stamps.wrong} came back wrong and {stamps.stale} stale, {stamps.unreadable} blocks could not be read" + (
        f"; first at byte {where}" if where else ""
    )
