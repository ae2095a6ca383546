"""One step within a run: its passes, its records, and its findings."""

from __future__ import annotations

import logging
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

from jovik.analysis.disconnection import disconnection
from jovik.analysis.steady_state import steady_notes
from jovik.analysis.step_result import Conditions, StepResult
from jovik.base.errors import DriveError, TargetError
from jovik.base.findings import SteadyState
from jovik.base.interruption import check, held_back
from jovik.base.io_session import ProgressCallback, Session, WearCounters, Workload, no_progress
from jovik.base.trace import PassSurroundings, Trace
from jovik.hardware.device import is_attached
from jovik.hardware.host_load import between, counters
from jovik.hardware.standstill import StandstillWatch
from jovik.hardware.temperature import TemperatureSampler
from jovik.runs.context import ResumedStep, RunContext
from jovik.runs.findings import findings_of, findings_of_failure, readings_of
from jovik.runs.pass_store import PassStore
from jovik.runs.repetition import TimeAllowance
from jovik.runs.step_result import failure, summarise
from jovik.runs.task import Task
from jovik.steps import Step
from jovik.steps.rest import LIMIT_NS, drain, until_recovered
from jovik.steps.seed import pass_seed

log = logging.getLogger(__name__)

UNKNOWN_CACHE_LIMIT_NS = 60 * 10**9
"""The longest rest before a pass if only a usual size of the write cache is known."""
MOST_STANDSTILLS = 3
"""Passes in a row in which the process did not run, after which the run ends."""


@dataclass
class RunningStep:
    """One step within a run: the session, its place in the plan, and where its passes go.

    A step sees nothing else of its run. `earlier` are the results of this run so far. In rounds,
    `round` is the last pass of this round, `spent_ns` the time that earlier rounds took, `more`
    whether another round follows, `steady` the verdict on rounds until steady, and `made` all
    passes so far.
    """

    position: int
    tasks: Sequence[Task]
    context: RunContext
    earlier: Sequence[StepResult] = ()
    allowance: TimeAllowance | None = None
    resumed: ResumedStep | None = None
    round: int | None = None
    spent_ns: int = 0
    more: bool = False
    steady: SteadyState | None = None
    made: PassStore = field(default_factory=PassStore)
    _step: Step | None = field(default=None, repr=False)
    _conditions: Conditions | None = field(default=None, repr=False)
    _work: Workload | None = field(default=None, repr=False)
    _ceiling_iops: float | None = field(default=None, repr=False)
    _order_note: str = ""
    _felt: bool = False
    _cache_full: bool = False
    _rest_notes: list[str] = field(default_factory=list, repr=False)
    _cache_note: str = ""
    _standstill_notes: list[str] = field(default_factory=list, repr=False)
    _stop_reason: str = ""
    _began_ns: int = 0
    _worn_before: WearCounters | None = field(default=None, repr=False)

    @property
    def task(self) -> Task:
        """Return the step with its repetitions."""
        return self.tasks[self.position]

    @property
    def session(self) -> Session:
        """Return where the I/O goes."""
        return self.context.session

    @property
    def share_ns(self) -> int | None:
        """Return the time this step may take."""
        return self.allowance.share_ns if self.allowance is not None else None

    def seed(self, number: int) -> int:
        """Return the seed of pass `number`, counted from 1. 0 is the step's own."""
        return pass_seed(self.context.options.seed, self.position, number)

    def begin(
        self,
        step: Step,
        engine: str,
        span_bytes: int,
        work: Workload | None = None,
        *,
        direct: bool | None = None,
    ) -> None:
        """Record that the step starts now, under these conditions.

        Parameters
        ----------
        work : Workload, optional
            Of an I/O step, whose rate the tester and the link may limit.
        direct : bool, optional
            Whether the page cache is bypassed. Default: as the session says.
        """
        conditions = self.context.conditions(engine, span_bytes)
        if direct is not None:
            conditions = replace(conditions, direct=direct)
        self._step, self._conditions, self._work = step, conditions, work
        log.debug("step %d: %s, %s", self.position + 1, step.kind, engine)
        # What is to be steady has left behind whatever ran before it.
        felt = step.measures and not self.task.tracked and self.task.rounds is None
        self._order_note = self.context.order_note() if felt else ""
        self._felt = felt
        self.context.recorder.step_begun(self.position, step, conditions)
        self._began_ns = self.session.now_ns()
        # Asking a drive for its log takes it a moment: not in short tests.
        long = not step.measures or self.task.tracked or self.task.rounds is not None or step.once
        self._worn_before = self.context.wear() if step.writes and long else None
        self._ceiling_iops = self.session.ceiling_iops(work) if work is not None else None

    def prepare(self, work: Workload) -> None:
        """Prefill the test file if needed, and let the write cache recover if it is too full."""
        self.lay_out(work)
        if work.writes:
            self.find_room(self._coming_bytes(work))

    def _coming_bytes(self, work: Workload) -> float:
        """Return how much a pass is expected to write."""
        if self.made:
            return float(self.made[-1].written_bytes)
        if work.amount_bytes is not None:
            return work.amount_bytes * (1 - work.read_percent / 100)
        rate = min(work.rate_limit_bytes_s or math.inf, self.context.first_rate_bytes_s)
        return (1 - work.read_percent / 100) * rate * (work.time_ns or 0) / 1e9

    def find_room(self, coming_bytes: float) -> None:
        """Rest if an earlier write left too little of the write cache, or mark the step."""
        cache = self.context.cache
        if not self._felt or not cache.too_full_for(coming_bytes):
            return
        note = cache.note
        if self.context.options.rest and self.context.first_rate_bytes_s:
            limit = LIMIT_NS if cache.known_bytes is not None else UNKNOWN_CACHE_LIMIT_NS
            if self.share_ns is not None:
                limit = max(min(limit, self.share_ns), 1)
            watch, began = self.progress(len(self.made) + 1), self.session.now_ns()
            drain(self, limit, began, watch)
            words = until_recovered(self, limit, 0.0, began, watch, cache.probe_bytes)
            cache.rested()
            if words.startswith("recovered"):
                self._rest_notes.append(f"rested before a pass: {words}")
                return
            note = f"{note}; {words}"
        self._cache_full, self._cache_note = True, self._cache_note or note

    def lay_out(self, work: Workload) -> None:
        """Prefill the test file if needed. The display shows it and the run counts it."""
        context = self.context
        missing = context.session.to_lay_out_bytes(work)
        watch: ProgressCallback = no_progress
        if missing:
            watch = context.observer.preparing(self.position, self._shown(), missing)
        written = context.session.prepare(work, watch)
        if written:
            context.recorder.laid_out(written)
            context.cache.wrote(written)

    def progress(self, number: int) -> ProgressCallback:
        """Return the callback that shows how pass `number` goes."""
        return self.context.observer.passing(self.position, self._shown(), number)

    def measure(self, work: Workload, number: int) -> Trace:
        """Return one watched pass: with the host's load and the temperatures around it."""
        session, run_conditions = self.session, self.context.run_conditions
        watch = self.progress(number)
        if run_conditions.device is None:
            return session.run(work, watch)
        before = counters(run_conditions.device)
        with TemperatureSampler(list(run_conditions.sensors)) as sampler:
            trace = session.run(
                work, lambda live: watch(replace(live, temperature_c=sampler.latest_c))
            )
        moved = trace.read_bytes + trace.written_bytes + trace.late_written_bytes
        load = between(before, counters(run_conditions.device), moved)
        samples = tuple(sampler.samples)
        if load is None:
            return replace(trace, environment=PassSurroundings(temperatures=samples))
        # Read back to verify, the pass has moved its data twice; through the page cache it is
        # moved at some other time.
        other = None if work.verify or not session.direct else load.other_bytes
        around = PassSurroundings(load.busy, load.own, load.stolen, other, samples)
        return replace(trace, environment=around)

    def unbroken(self, make: Callable[[], Trace]) -> Trace:
        """Return the result of `make`, and repeat it if this process did not run meanwhile.

        Raises
        ------
        TargetError
            The process was suspended three times in a row.
        """
        if self.session.engine == "model":
            return make()
        for _ in range(MOST_STANDSTILLS):
            with StandstillWatch() as watched:
                trace = make()
            if not watched.longest_s:
                return trace
            log.debug("did not run for %.1f s", watched.longest_s)
            # What it wrote was written all the same.
            self.context.recorder.laid_out(trace.written_bytes + trace.late_written_bytes)
            self._standstill_notes.append(
                f"discarded and repeated one pass: the Jovik process did not run for "
                f"{watched.longest_s:.1f} s (stopped, suspended, or starved of the processor)"
            )
        raise TargetError(
            f"the Jovik process did not run during {MOST_STANDSTILLS} passes in a row, for "
            f"{watched.longest_s:.1f} s in the last, so that a measurement is impossible",
            "keep the machine from sleeping, then jovik resume",
        )

    def repeat(self, one_pass: Callable[[int], Trace]) -> Sequence[Trace]:
        """Make and record passes until they are enough, and count those of an interrupted run.

        Raises
        ------
        DriveError
            A pass failed and errors stop the run.
        """
        traces = self.resumed.traces if self.resumed else self.made
        self.made = traces
        reason = self._enough(traces, self.spent_ns) if traces else None
        while reason is None and (self.round is None or len(traces) < self.round):
            check()
            number = len(traces) + 1
            trace = self.unbroken(partial(one_pass, number))
            # Halfway through, a pass would be on the shelf and not among these, or the reverse.
            with held_back():
                traces.append(trace)
                self.context.recorder.pass_done(self.position, number, trace)
            log.debug("pass %d: %.4g B/s, %d errors", number, trace.rate_bytes_s, trace.errors)
            self.context.ran(self._shown(), [trace])
            if trace.broken and (self.context.options.stop_on_error or trace.stopped):
                raise self._failed(traces)
            reason = self._enough(traces, self.spent_ns + self.session.now_ns() - self._began_ns)
        self._stop_reason = reason or ""
        return traces

    def _failed(self, traces: Sequence[Trace]) -> DriveError | TargetError:
        """Store the findings of a step that a fault ended, and return the error to raise."""
        findings = findings_of_failure(
            traces, detached=not self.is_attached(), ladder=self.task.ladder
        )
        result = summarise(
            self._shown(), traces, self._met(), findings.notes, findings=findings.findings
        )
        self.context.recorder.step_done(self.position, result)
        return failure(traces[-1], findings.findings.disconnected)

    def is_attached(self) -> bool:
        """Return False if the system no longer has the device of a real drive."""
        device = self.context.run_conditions.device
        return device is None or is_attached(device)

    def record(self, trace: Trace, *, felt: bool = True) -> None:
        """Record the only pass of a step. `felt` unless it leaves the drive alone."""
        self._order_note = ""
        self.context.recorder.pass_done(self.position, 1, trace)
        if felt:
            self.context.ran(self._shown(), [trace])

    def laid_out(self, written_bytes: int) -> None:
        """Count bytes written beside the passes."""
        self.context.recorder.laid_out(written_bytes)
        self.context.cache.wrote(written_bytes)

    def finish(self, traces: Sequence[Trace], notes: Sequence[str] = ()) -> StepResult:
        """Draw the findings and hand the result over.

        Raises
        ------
        DriveError
            The last pass failed and errors stop the run.
        """
        shown = self._shown()
        self.context.wore(self.position, self._worn_before)
        if self.more:
            # The other steps of the round come first, and the findings once there are no more.
            return summarise(shown, traces[-1:], self._met())
        if not shown.measures:
            # What the filling itself says belongs to no figure.
            traces = PassStore(replace(t, notes=()) for t in traces)
        drawn = findings_of(
            self.context,
            self.earlier,
            self.span_bytes,
            traces,
            self._work,
            self._ceiling_iops,
        )
        lines = [*drawn.notes, *notes, *self._standstill_notes]
        if self._rest_notes:
            count = len(self._rest_notes)
            more = f"; {count} such rests" if count > 1 else ""
            lines.append(self._rest_notes[-1] + more)
        order_note = "" if self._rest_notes else self._order_note
        lines += filter(None, [self._cache_note or order_note, self._stop_reason])
        findings = replace(
            drawn.findings,
            ladder=self.task.ladder,
            write_cache_full=self._cache_full,
            steady=self.steady,
            wear=self.context.worn.get(self.position),
        )
        if self.steady is not None:
            lines += steady_notes(self.steady)
        result = summarise(shown, traces, self._met(), lines, drawn.limits, findings)
        self.context.recorder.step_done(self.position, result)
        self.context.cache.learn(result)
        if self._work is not None and any(True for _ in readings_of(traces)):
            temperature_summary = self.context.temperature_summary(readings_of(traces))
            # Temperatures and slices are asked for again, the histograms are not.
            shown_passes = PassStore(replace(t, latencies={}) for t in traces)
            self.context.warmed.append((self.position, result, shown_passes, temperature_summary))
        if shown.restores_cache:
            self.context.cache.rested()
        last = traces[-1]
        if last.broken and self.context.options.stop_on_error:
            raise failure(last, disconnection(last, detached=not self.is_attached()))
        return result

    def temperatures_c(self) -> dict[str, float]:
        """Return the temperatures of the trusted sensors, degrees Celsius."""
        return self.context.temperatures_c()

    def watched_temperature_c(self) -> float | None:
        """Return the warmest trusted sensor if the kernel's are watched, for the live view."""
        if not self.context.run_conditions.sensors:
            return None
        return max(self.temperatures_c().values(), default=None)

    def ahead(self) -> Sequence[tuple[Step, int]]:
        """Return the steps that follow and their maximum passes, up to the next preparing step."""
        steps: list[tuple[Step, int]] = []
        for task in self.tasks[self.position + 1 :]:
            if not task.step.measures:
                break
            steps.append((task.step, task.repeat.most))
        return steps

    @property
    def span_bytes(self) -> int:
        """Return the area that the step covers."""
        return self._met().span_bytes

    def _enough(self, traces: PassStore, spent_ns: int) -> str | None:
        return self.task.repeat.verdict(traces.rates_bytes_s, spent_ns, self.allowance)

    def _shown(self) -> Step:
        return self._step if self._step is not None else self.task.step

    def _met(self) -> Conditions:
        if self._conditions is None:
            raise DriveError("a step finished before it began")
        return self._conditions
