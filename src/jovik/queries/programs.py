"""How long a recorded program takes on drives of the shelf."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import PurePath

from jovik.analysis.program_time import ProgramTime, ProgramTimes
from jovik.analysis.step_result import StepResult
from jovik.base.errors import UsageError
from jovik.base.quantities import show_size
from jovik.sheets.load import load_names
from jovik.sheets.sheet import Drive
from jovik.steps.replay import ReplayStep, is_recording


def program_called(load: str) -> ReplayStep | None:
    """Return the replay of a recorded program that a load's name stands for, if it does."""
    return ReplayStep(load) if load not in load_names() and is_recording(load) else None


def program_times(
    step: ReplayStep,
    results: Sequence[StepResult],
    drives: Mapping[str, Drive],
    link_bytes_s: float | None = None,
) -> ProgramTimes:
    """Return the time of a program on each drive that replayed it or has a twin.

    Parameters
    ----------
    results : sequence of StepResult
        Those that represent the drives.
    drives : mapping
        Drives by name. Others are left out.
    link_bytes_s : float, optional
        The payload rate of a link that the drives will have. What was measured without it does not
        count then.
    """
    # Only this needs model drives and a fit.
    from jovik.queries.twin import predictions, twins_of

    kind = step.pinned().kind
    times = {
        r.drive: ProgramTime(r.drive, r.findings.replay.elapsed_s)
        for r in results
        if link_bytes_s is None and r.kind == kind and r.findings.replay is not None
    }
    others: dict[str, list[StepResult]] = {}
    for r in results:
        if r.drive not in times and r.drive in drives:
            others.setdefault(r.drive, []).append(r)
    twins = twins_of([(drives[n], each) for n, each in others.items()])
    predicted = predictions(step.recording(), twins, link_bytes_s)
    return in_order(step, [*times.values(), *predicted])


def times_by_twins(
    step: ReplayStep, files: Mapping[str, str], keeps: Callable[[Drive], bool]
) -> tuple[ProgramTimes, dict[str, Drive]]:
    """Return the time of a program by each twin of an archive, and the drives by name.

    Parameters
    ----------
    files : mapping
        The files of twins by name.
    keeps : callable
        Whether a drive counts.

    Raises
    ------
    UsageError
        A file is not a twin, or no drive counts or can hold the recording's range.
    """
    from jovik.queries.twin import predictions
    from jovik.simulator.twin_file import read_twin

    twins = [read_twin(text, name) for name, text in files.items()]
    twins = [t for t in twins if keeps(t.drive)]
    if not twins:
        raise UsageError("no twin in this archive is like that", "omit a filter")
    times = predictions(step.recording(), twins)
    if not times:
        raise UsageError(
            "the recording reaches over more than any drive of this archive holds",
            "record the program on a smaller drive",
        )
    return in_order(step, times), {t.drive.name: t.drive for t in twins}


def in_order(step: ReplayStep, times: Sequence[ProgramTime]) -> ProgramTimes:
    """Return times of a program, the least first, with what it took when it was recorded."""
    recording = step.recording()
    return ProgramTimes(
        PurePath(step.path).stem,
        recording.elapsed_ns / 1e9,
        recording.drive,
        tuple(sorted(times, key=lambda t: t.elapsed_s.median)),
    )


def program_time(
    step: ReplayStep, drive: Drive, results: Sequence[StepResult], link_bytes_s: float | None = None
) -> ProgramTime:
    """Return the time of a program on one drive.

    Parameters
    ----------
    results, link_bytes_s
        See `program_times`.

    Raises
    ------
    UsageError
        It did not replay the program, and has too few results for a twin, or is too small for it.
    """
    times = program_times(step, results, {drive.name: drive}, link_bytes_s).times
    if not times:
        from jovik.queries.twin import refuse_without_twin

        refuse_without_twin(drive, results)
        raise UsageError(
            f"{drive.name} holds less than the {show_size(step.recording().span_bytes)} that the "
            "recording reaches over",
            "record the program on a smaller drive",
        )
    return times[0]
