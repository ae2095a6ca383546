"""The context of a run, shared by every sort of step."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Protocol

import numpy as np
import numpy.typing as npt

from jovik.analysis.step_result import Conditions, StepResult
from jovik.analysis.temperature import (
    TemperatureSeries,
    TemperatureSummary,
    assess_sensors,
    stuck_sensors,
    summarise_temperatures,
)
from jovik.base.findings import Wear
from jovik.base.io_session import Progress, Session, WearCounters
from jovik.base.quantities import show_size, show_time
from jovik.base.trace import Trace
from jovik.hardware.temperature import Sensor
from jovik.runs.pass_store import PassStore
from jovik.runs.write_cache import WriteCacheWatch
from jovik.shelf.writer import RunWriter
from jovik.steps import Step

MOST_READINGS = 600
"""A sensor is judged by its latest readings: ten minutes at one reading a second."""
KEPT_READINGS = 4_000
"""Readings of the sensors that are remembered of a run, fewer the longer ago they were."""
FELT_BYTES = 10 * 10**9
"""Bytes that a step must write for the next one's notes to mention it.

As much as a short test of a fast drive writes.
"""


PassReadings = tuple[TemperatureSeries, npt.NDArray[np.int64]]
"""Temperatures and slices of a pass."""


@dataclass(frozen=True)
class RunConditions:
    """Known conditions of a run, which become the conditions of its results.

    `device` is the drive's kernel name, whose counters and `sensors` are watched; `heat_limit_c`
    its own limit. `group_limits` are those of control groups: direction, unit, and how many a
    second.
    """

    rig: str | None = None
    sample: str | None = None
    firmware: str | None = None
    link: str | None = None
    link_rate_bytes_s: float | None = None
    device: str | None = None
    sensors: tuple[Sensor, ...] = ()
    heat_limit_c: float | None = None
    group_limits: tuple[tuple[str, str, int], ...] = ()


@dataclass(frozen=True)
class RunOptions:
    """How a plan is run.

    The seed of everything random, the reaction to an error, the time for all of it, and whether a
    write rests first that would begin with a partly full write cache.
    """

    seed: int = 1
    stop_on_error: bool = True
    budget_ns: int | None = None
    rest: bool = True


@dataclass(frozen=True)
class ResumedStep:
    """The part of a step that an earlier process has finished.

    Its passes, and whether that was all of it.
    """

    traces: PassStore
    finished: bool


class Observer(Protocol):
    """An observer of a run, called from the main thread and never from the measuring loop."""

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Progress], None]:
        """Return the callback for a test file that is about to be laid out."""

    def passing(self, position: int, step: Step, number: int) -> Callable[[Progress], None]:
        """Return the callback for a pass that is about to start."""

    def finished(self, position: int, result: StepResult) -> None:
        """Report a finished step."""


@dataclass
class RunContext:
    """One run under way.

    The session, what is known of its surroundings, where things go, and what ran last.

    `earlier` holds the newest results of the same drive on the shelf, `cache` what was written
    since its last rest. `device_wear` reads the counters of a real drive, and `worn` is what each
    step wrote by them, by its position. `first_rate_bytes_s` is of a short write before anything
    else, `room_pause_ns` how long the drive took, when a rest last had to wait, to make room for
    one.
    """

    session: Session
    run_conditions: RunConditions
    options: RunOptions
    recorder: RunWriter
    observer: Observer
    earlier: Sequence[StepResult] = ()
    cache: WriteCacheWatch = field(default_factory=WriteCacheWatch)
    filled_percent: int | None = None
    first_rate_bytes_s: float = 0.0
    room_pause_ns: int = 0
    device_wear: Callable[[], WearCounters | None] = lambda: None
    worn: dict[int, Wear] = field(default_factory=dict)
    warmed: list[tuple[int, StepResult, PassStore, TemperatureSummary]] = field(
        default_factory=list
    )
    _last: tuple[str, int, int] | None = field(default=None, repr=False)
    _seen: list[tuple[float, dict[str, float]]] = field(default_factory=list, repr=False)

    @cached_property
    def stuck(self) -> frozenset[str]:
        """Return the sensors of this sample that never moved in an earlier run."""
        return stuck_sensors(self.earlier, self.run_conditions.sample)

    def wear(self) -> WearCounters | None:
        """Return the drive's counters of written bytes: the model's own, or from its log."""
        return self.session.wear_bytes() or self.device_wear()

    def wore(self, position: int, before: WearCounters | None) -> None:
        """Count the bytes of a step since `before`, by the drive's counters."""
        after = self.wear() if before is not None else None
        if before is None or after is None:
            return
        wear = self.worn.get(position, Wear(0, 0))
        medium = wear.medium_bytes
        if medium is None or before.medium_bytes is None or after.medium_bytes is None:
            medium = None
        else:
            medium += after.medium_bytes - before.medium_bytes
        self.worn[position] = Wear(wear.host_bytes + after.host_bytes - before.host_bytes, medium)

    def conditions(self, engine: str, span_bytes: int) -> Conditions:
        """Return the conditions a step meets at this moment."""
        run_conditions, session = self.run_conditions, self.session
        temperatures = self.temperatures_c()
        return Conditions(
            engine=engine,
            direct=session.direct,
            span_bytes=span_bytes,
            fill_percent=session.fill_percent(),
            link=run_conditions.link,
            link_bytes_s=run_conditions.link_rate_bytes_s,
            rig=run_conditions.rig,
            sample=run_conditions.sample,
            firmware=run_conditions.firmware,
            start_temperature_c=max(temperatures.values()) if temperatures else None,
            filled_percent=self.filled_percent,
            after=self._last[0] if self._last else None,
            idle_ns=session.now_ns() - self._last[1] if self._last else None,
        )

    def temperatures_c(self) -> dict[str, float]:
        """Return every sensor that answers and whose values in this run are credible."""
        read = {
            s.name: v for s in self.run_conditions.sensors if (v := s.read_c()) is not None
        } or self.session.temperatures_c()
        if read:
            self._saw([(self.session.now_ns() / 1e9, read)])
        set_aside = {
            r.name for r in assess_sensors(self._seen[-MOST_READINGS:], self.stuck) if r.set_aside
        }
        return {n: v for n, v in read.items() if n not in set_aside}

    def temperature_summary(self, passes: Iterable[PassReadings]) -> TemperatureSummary:
        """Return how warm these passes were, by the sensors as the run has shown them so far."""
        return summarise_temperatures(
            passes, assess_sensors(self._seen, self.stuck), self.run_conditions.heat_limit_c
        )

    def ran(self, step: Step, traces: Sequence[Trace]) -> None:
        """Remember the step for the next one's conditions, and its temperatures."""
        ended = self.session.now_ns() / 1e9
        for trace in traces:
            if trace.environment is not None:
                began = ended - trace.elapsed_ns / 1e9
                self._saw([(began + at, c) for at, c in trace.environment.temperatures])
        written = sum(t.written_bytes for t in traces)
        if len(traces) == 1:
            self.cache.learn_from(step, traces[0])
        self.cache.wrote(written)
        if self._last is not None and self._last[0] == step.canonical:
            # The same step's passes are felt together.
            written += self._last[2]
        self._last = (step.canonical, self.session.now_ns(), written)

    def _saw(self, readings: TemperatureSeries) -> None:
        """Remember the readings of the sensors, and every second one of older readings."""
        self._seen += readings
        if len(self._seen) > KEPT_READINGS:
            old = self._seen[:-MOST_READINGS]
            self._seen = old[::2] + self._seen[-MOST_READINGS:]

    def order_note(self) -> str:
        """Return a note on earlier writes that may still slow this step down."""
        if self._last is None or self._last[2] < FELT_BYTES:
            return ""
        phrase, ended, written = self._last
        idle = self.session.now_ns() - ended
        return (
            f"began {'right' if idle < 10**9 else show_time(idle)} after '{phrase}', which "
            f"wrote {show_size(written)}"
        )
