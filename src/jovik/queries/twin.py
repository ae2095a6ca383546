"""The twin of a drive on the shelf, and what it predicts of recorded programs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from jovik.analysis.drive_faults import DriveFault, faults_of
from jovik.analysis.program_time import ProgramTime
from jovik.analysis.step_result import LimitSource, StepResult
from jovik.base.errors import UsageError
from jovik.base.long_work import tracked
from jovik.base.recording import Recording
from jovik.base.trace import SLICE_NS
from jovik.queries.drive_class import class_of
from jovik.queries.evidence import evidence
from jovik.queries.temperature import warm_passes
from jovik.sheets.drive_class import DriveClass, read_class
from jovik.sheets.sheet import Drive
from jovik.shelf.store import Shelf
from jovik.simulator.parameters import Behaviour
from jovik.simulator.replay import elapsed_s
from jovik.simulator.twin import LEAST_STEPS, Predictor, Twin, fitted, observations_of, predicted_s
from jovik.simulator.twin_file import Origin
from jovik.simulator.twin_heat import WarmTrace, fitted_heat
from jovik.steps import IoStep

WANTED: dict[str, Callable[[IoStep], bool]] = {
    "random read 4KiB": lambda s: s.random and s.read_percent == 100 and s.depth * s.workers == 1,
    "random read 4KiB depth 32": lambda s: s.random and s.read_percent == 100 and s.depth > 8,
    "sequential read 512KiB depth 4": lambda s: not s.random and s.read_percent == 100,
    "random write 4KiB": lambda s: s.random and s.read_percent == 0 and s.depth * s.workers == 1,
    "random write 4KiB durable": lambda s: s.random and s.read_percent == 0 and s.durable,
    "sequential write 512KiB depth 4": lambda s: not s.random and not s.read_percent,
}
"""Steps that a twin is best fitted to, and what may take the place of each."""


@dataclass(frozen=True)
class TwinReport:
    """A drive's twin with its origin, and the steps that would determine more of it.

    `usual` is the class that its other parameters are of, `own_class` whether it is the drive's,
    and `faults` what makes the drive known for its faults.
    """

    twin: Twin
    origin: Origin
    missing: tuple[str, ...]
    usual: DriveClass
    own_class: bool
    faults: tuple[DriveFault, ...]


def twin_of(shelf: Shelf, name: str) -> TwinReport:
    """Return the twin of a drive.

    Raises
    ------
    UnknownNameError
        There is no such drive.
    UsageError
        It has too few results, with the steps that are missing.
    """
    drive = shelf.sheets.get(name).drive
    found = evidence(shelf, drive.name, filled=True, with_latencies=True)
    chosen = found.results
    missing = _missing(chosen)
    twin = _with_heat(shelf, refuse_without_twin(drive, chosen), chosen)
    own = class_of(drive) is not None
    faults = faults_of(found.candidates)
    return TwinReport(twin, _origin(chosen), missing, _usual(drive), own, faults)


def refuse_without_twin(drive: Drive, results: Sequence[StepResult]) -> Twin:
    """Return the twin that results of a drive determine.

    Raises
    ------
    UsageError
        They are too few, with the steps that are missing.
    """
    twin = _fit(drive, results)
    if twin is None:
        raise UsageError(
            f"{drive.name} has too few results for a twin, which takes {LEAST_STEPS} steps; "
            f"missing: {', '.join(_missing(results))}",
            "jovik measure TARGET --plan second-look has them all, in a quarter of an hour; "
            "'jovik plan show second-look --target TARGET' tells what it writes",
        )
    return twin


def twins_of(drives: Sequence[tuple[Drive, Sequence[StepResult]]]) -> list[Predictor]:
    """Return the twin of each drive whose results allow one."""
    twins = (_fit(drive, results) for drive, results in tracked(drives, "drives", len(drives)))
    return [x.predictor for x in twins if x is not None]


def predictions(
    recording: Recording, twins: Sequence[Predictor], link_bytes_s: float | None = None
) -> list[ProgramTime]:
    """Return what a recorded program would take on each drive that can hold its range.

    Parameters
    ----------
    link_bytes_s : float, optional
        The payload rate of a link that the drives will have.
    """
    twins = [x for x in twins if recording.span_bytes <= x.behaviour.capacity]

    def linked(behaviour: Behaviour) -> Behaviour:
        rates = [r for r in (behaviour.link_rate, link_bytes_s) if r is not None]
        return behaviour.model_copy(update={"link_rate": min(rates, default=None)})

    took = predicted_s(twins, lambda each: elapsed_s([linked(b) for b in each], recording))
    return [
        ProgramTime(twin.drive.name, s, twin.typical_error)
        for twin, s in zip(twins, took, strict=True)
    ]


def _with_heat(shelf: Shelf, twin: Twin, results: Sequence[StepResult]) -> Twin:
    """Return a twin with the heat of the run in which the drive warmed up the most."""
    rises = {
        r.run: r.findings.temperature.peak_c - r.findings.temperature.start_c
        for r in results
        if r.findings.temperature is not None
    }
    if not rises:
        return twin
    found = fitted_heat(_warm_traces(shelf, max(rises, key=rises.__getitem__)), twin.behaviour)
    if found is None:
        return twin
    heat, parameters = found

    def warm(behaviour: Behaviour) -> Behaviour:
        return behaviour.model_copy(update={"heat": heat})

    return replace(
        twin,
        behaviour=warm(twin.behaviour),
        parameters=(*twin.parameters, *parameters),
        fast=warm(twin.fast),
        slow=warm(twin.slow),
    )


def _warm_traces(shelf: Shelf, run: str) -> list[WarmTrace]:
    hot = {
        r.phrase
        for r in shelf.results.of_run(run)
        if any(x.what is LimitSource.HEAT for x in r.limits)
    }
    traces = []
    for made, warm in warm_passes(shelf, run):
        seconds, degrees = np.array(warm.temperatures).reshape(-1, 2).T
        rates = made.trace.slices[:, [0, 2]].sum(axis=1) / (SLICE_NS / 1e9)
        traces.append(
            WarmTrace(made.phrase, seconds - warm.start_s, degrees, rates, made.phrase in hot)
        )
    return traces


def _fit(drive: Drive, results: Sequence[StepResult]) -> Twin | None:
    return fitted(drive, results, _usual(drive))


def _usual(drive: Drive) -> DriveClass:
    """Return the class of a drive, or one for those of an unknown class."""
    return class_of(drive) or read_class("sata-ssd")


def _missing(results: Sequence[StepResult]) -> tuple[str, ...]:
    plain = [r for r in results if r.conditions.filled_percent is None]
    steps = [o.step for o in observations_of(plain)]
    return tuple(phrase for phrase, does in WANTED.items() if not any(does(s) for s in steps))


def _origin(results: Sequence[StepResult]) -> Origin:
    used = [r for r in results if isinstance(r.step, IoStep) or r.findings.copy is not None]
    return Origin(
        tuple(dict.fromkeys(r.conditions.sample for r in used if r.conditions.sample)),
        tuple(dict.fromkeys(r.conditions.firmware for r in used if r.conditions.firmware)),
        tuple(dict.fromkeys(r.run for r in used)),
        max(r.started for r in used)[:10],
    )
