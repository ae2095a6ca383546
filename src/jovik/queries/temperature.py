"""How warm a drive was over a whole run, by the sensors that the whole run lets one believe."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.step_result import StepResult
from jovik.analysis.temperature import believed, trusted_temperatures
from jovik.base.errors import UsageError
from jovik.base.trace import Trace
from jovik.shelf.store import Shelf
from jovik.steps import IoStep, ScanStep, parse


@dataclass(frozen=True)
class WarmPass:
    """A pass of a run.

    Attributes
    ----------
    step : int
        Its step's place in the run, from 1.
    label : str
        Its step in words.
    start_s, end_s : float
        Since the run's first pass began: by the clock; of a model drive, whose clock is virtual,
        pass after pass.
    temperatures : tuple of (seconds since the first pass began, degrees Celsius)
        Of the warmest sensor that can be believed; empty if none was read.
    """

    step: int
    label: str
    start_s: float
    end_s: float
    temperatures: tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class RunTemperatures:
    """A run's passes in order, with its results for the small print."""

    drive: str
    run: str
    passes: tuple[WarmPass, ...]
    results: tuple[StepResult, ...]


def run_temperatures(shelf: Shelf, drive: str, run: str | None = None) -> RunTemperatures:
    """Return the temperatures of a run, by default the drive's last that has any.

    Raises
    ------
    UnknownNameError
        There is no such drive or run.
    UsageError
        The run is another drive's, or no temperature was read.
    """
    name = shelf.sheets.get(drive).drive.name
    if run is not None and (owner := shelf.runs.get(run).drive) != name:
        raise UsageError(f"run {run} is of {owner}, not of {name}")
    counting = [r.id for r in reversed(shelf.runs.every(name)) if r.excluded is None]
    keys = [run] if run is not None else counting
    for key in keys:
        passes = tuple(warm for _, warm in warm_passes(shelf, key))
        if any(len(p.temperatures) > 1 for p in passes):
            return RunTemperatures(name, key, passes, tuple(shelf.results.of_run(key)))
    raise UsageError(
        f"no temperature of {name} was read in {'that run' if run is not None else 'any run'}",
        "jovik scout TARGET shows whether its sensors can be read here",
    )


@dataclass(frozen=True)
class RunPass:
    """A pass in its place in time, seconds since the run's first pass began.

    `order` is ``at random`` or ``in order``, or empty for a step that has neither.
    """

    step: int
    phrase: str
    label: str
    start_s: float
    end_s: float
    trace: Trace
    order: str = ""


def run_passes(shelf: Shelf, key: str) -> tuple[RunPass, ...]:
    """Return the passes of a run in the order in which they were made."""
    about = {(p["position"], p["number"]): p for p in shelf.results.passes(key=key)}
    # In the order in which they were made, which is not that of the steps where they take turns.
    traces = sorted(
        ((one.position, one.number, one.trace) for one in shelf.runs.passes(key)),
        key=lambda found: str(about[found[0], found[1]]["finished"]),
    )
    starts = _starts([t for *_, t in traces], [about[p, n]["finished"] for p, n, _ in traces])
    return tuple(
        RunPass(
            position + 1,
            str(about[position, number]["phrase"]),
            parse(str(about[position, number]["phrase"])).label,
            start,
            start + _lasted_s(trace),
            trace,
            _order(str(about[position, number]["phrase"])),
        )
        for (position, number, trace), start in zip(traces, starts, strict=True)
    )


def _order(phrase: str) -> str:
    step = parse(phrase)
    if isinstance(step, IoStep):
        return "at random" if step.random else "in order"
    return "in order" if isinstance(step, ScanStep) else ""


def run_begun(shelf: Shelf, key: str, passes: Sequence[RunPass]) -> float | None:
    """Return when the first pass began, in seconds of the clock, or None for a model drive."""
    if any(p.trace.engine == "model" for p in passes):
        return None
    row = min(shelf.results.passes(key=key), key=lambda p: str(p["finished"]))
    first = min(passes, key=lambda p: p.end_s)
    return datetime.datetime.fromisoformat(str(row["finished"])).timestamp() - first.end_s


def warm_passes(shelf: Shelf, key: str) -> list[tuple[RunPass, WarmPass]]:
    """Return the passes of a run with their temperatures, in the order of `run_passes`."""
    passes = run_passes(shelf, key)
    read = [_read(p.trace, p.start_s) for p in passes]
    good = believed([sample for samples in read for sample in samples])
    return [
        (
            p,
            WarmPass(
                p.step, p.label, p.start_s, p.end_s, tuple(trusted_temperatures(samples, good))
            ),
        )
        for p, samples in zip(passes, read, strict=True)
    ]


def _read(trace: Trace, start_s: float) -> list[tuple[float, dict[str, float]]]:
    """Return the readings of its sensors, in seconds since the run's first pass began."""
    if trace.environment is None:
        return []
    return [(start_s + t, values) for t, values in trace.environment.temperatures]


def _lasted_s(trace: Trace) -> float:
    return (trace.elapsed_ns + trace.flush_ns) / 1e9


def _starts(traces: Sequence[Trace], finished: Sequence[object]) -> list[float]:
    """Return seconds from the first pass's beginning to each one's."""
    starts: list[float] = []
    if any(t.engine == "model" for t in traces):
        at = 0.0
        for trace in traces:
            starts.append(at)
            at += _lasted_s(trace)
        return starts
    for trace, moment in zip(traces, finished, strict=True):
        ended = datetime.datetime.fromisoformat(str(moment)).timestamp()
        starts.append(ended - _lasted_s(trace))
    first = min(starts, default=0.0)
    return [s - first for s in starts]
