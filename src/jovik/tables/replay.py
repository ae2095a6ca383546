"""Replays: the duration of a recorded program here and in the recording."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.program_time import ProgramTime, ProgramTimes
from jovik.analysis.step_result import StepResult
from jovik.base.findings import ReplayFinding
from jovik.base.interval import Interval
from jovik.base.quantities import show_time
from jovik.tables.table import Table
from jovik.tables.upgrade import seconds_words

PREDICTED = (
    "predicted: by the twin that a drive's other results determine (jovik twin DRIVE), with a 90 % "
    "interval instead of 95 %; in brackets, how far it is off in a typical step"
)


def how_words(time: ProgramTime) -> str:
    """Return ``measured``, or ``predicted`` with how far the twin is off."""
    off = time.typical_error
    return time.how if off is None else f"{time.how} ({100 * off:.1f} %)"


def program_times_table(found: ProgramTimes) -> Table:
    """Return what a recorded program takes on each drive, measured or predicted."""
    best, *others = found.times
    rows = [
        (t.drive, seconds_words(t.elapsed_s), saved_words(t, found.recorded_s), how_words(t))
        for t in found.times
    ]
    line = (
        f"{found.name} takes {seconds_words(best.elapsed_s)} on {best.drive} ({best.how}), the "
        f"least of {len(rows)} drives"
    )
    close = [t.drive for t in others if not t.elapsed_s.apart(best.elapsed_s)]
    if close:
        line += f"; not surely less than on {', '.join(close[:3])}"
        line += f" and {len(close) - 3} more" if len(close) > 3 else ""
    on = f" ({found.recorded_on})" if found.recorded_on else ""
    then = f"when it was recorded{on}, it took {seconds_words(Interval(found.recorded_s))}"
    return Table(
        found.name,
        ["drive", "takes", "than recorded", "how"],
        rows,
        right=(1, 2),
        verdict=[line, then],
        notes=[PREDICTED] if any(t.predicted for t in found.times) else [],
    )


def saved_words(time: ProgramTime, recorded_s: float) -> str:
    """Return ``1.2 s less``, ``0.3 s more`` or ``as long``, which its interval decides."""
    off = time.elapsed_s.median - recorded_s
    if time.elapsed_s.below(recorded_s):
        return f"{show_time(-off * 1e9, 2)} less"
    return f"{show_time(off * 1e9, 2)} more" if time.elapsed_s.above(recorded_s) else "as long"


def program_words(found: ReplayFinding) -> str:
    """``2.90 s (2.88 to 2.92), of it 2.61 s not the drive's``."""
    own = max(found.elapsed_s.median - found.waited_s.median, 0.0)
    return f"{seconds_words(found.elapsed_s)}, of it {own:.3g} s not the drive's"


def replay_lines(results: Sequence[StepResult]) -> list[str]:
    """Return a line for each replay: how long the program took, takes here, and waited."""
    lines = []
    for r in results:
        record = r.findings.replay
        if record is not None:
            name = r.step.label.removeprefix("replay of ")
            waited, before = record.waited_s.median, record.recorded_waited_s
            lines.append(
                f"{name}: the program {show_time(record.recorded_s * 1e9)}, here "
                f"{seconds_words(record.elapsed_s)}, waiting {show_time(waited * 1e9)} instead of "
                f"{show_time(before * 1e9)}"
            )
    return lines


def programs_table(drive: str, results: Sequence[StepResult]) -> Table:
    """Return the replayed programs of a drive, with the time that is not the drive's."""
    rows = []
    for r in results:
        record = r.findings.replay
        if record is not None:
            own = max(record.elapsed_s.median - record.waited_s.median, 0.0)
            name = r.step.label.removeprefix("replay of ").replace("-", " ")
            took, waited = seconds_words(record.elapsed_s), seconds_words(record.waited_s)
            rows.append((name, took, waited, f"{own:.3g} s"))
    return Table(
        f"{drive}: recorded programs",
        ["program", "takes", "waits for the drive", "not the drive's"],
        rows,
        right=(1, 2, 3),
    )


def replays_table(results: Sequence[StepResult]) -> Table:
    """Return a row for each replay. Without replays there are no rows."""
    rows = []
    late = 0.0
    for number, r in enumerate(results, 1):
        record = r.findings.replay
        if record is None:
            continue
        late = max(late, record.late)
        rows.append(
            (
                str(number),
                r.step.label,
                seconds_words(record.elapsed_s),
                seconds_words(record.waited_s),
                f"{record.recorded_s:.3g} s",
                f"{record.recorded_waited_s:.3g} s",
            )
        )
    notes = ["waited: time with at least one request in flight"]
    if late:
        share = f"{100 * late:.1f} %"
        notes.append(f"up to {share} of the requests came more than 1 ms after their time")
    return Table(
        "Recorded programs",
        ["", "what", "here", "waited here", "when recorded", "waited then"],
        rows,
        right=(0, 2, 3, 4, 5),
        notes=notes if rows else [],
    )
