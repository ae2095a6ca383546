"""The series of a run: the I/O in every tenth of a second of every pass, and the temperature.

Latencies are recorded for a whole pass. The mean of a slice is computed by Little's law (Little,
Operations Research 9, 1961): requests in flight over requests a second, which holds while a step
keeps its depth.
"""

from __future__ import annotations

import datetime
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from jovik.analysis.temperature import trusted_temperatures
from jovik.base.errors import UsageError
from jovik.base.trace import SLICE_NS, Trace
from jovik.shelf.store import Shelf
from jovik.steps import IoStep, parse


@dataclass(frozen=True)
class Slice:
    """A tenth of a second of a pass.

    Attributes
    ----------
    step, number : int
        The step's place in the run and the pass in it, both from 1.
    second : float
        When it began, from the beginning of its pass.
    time : str or None
        The same as ISO 8601 UTC; None of a model drive, whose clock is virtual.
    read_bytes, read_ios, written_bytes, write_ios, errors : int
        The I/O in it.
    latency_mean_ns : float or None
        By Little's law, or None if nothing was done or the step has no depth.
    temperature_c : float or None
        The latest reading of a trusted sensor.
    """

    step: int
    phrase: str
    number: int
    second: float
    time: str | None
    read_bytes: int
    read_ios: int
    written_bytes: int
    write_ios: int
    errors: int
    latency_mean_ns: float | None
    temperature_c: float | None


def series_of(shelf: Shelf, run: str, number: int | None = None) -> Iterator[Slice]:
    """Return the slices of a run in order, of one step where its `number` is given (from 1).

    Raises
    ------
    UnknownNameError
        There is no such run.
    UsageError
        It has no such step, or not one pass of it.
    """
    record = shelf.runs.get(run)
    about = {(p["position"], p["number"]): p for p in shelf.results.passes(key=record.id)}
    steps = sorted({position + 1 for position, _ in about})
    if number is not None and number not in steps:
        numbers = ", ".join(map(str, steps)) or "none"
        raise UsageError(f"step {number} of this run has no series", f"it has steps: {numbers}")
    return _slices(shelf, record.id, about, number)


def _slices(
    shelf: Shelf, key: str, about: dict[tuple[int, int], dict[str, object]], wanted: int | None
) -> Iterator[Slice]:
    for one in shelf.runs.passes(key):
        step = one.position + 1
        if wanted in (None, step):
            row = about[one.position, one.number]
            phrase, ended = str(row["phrase"]), row["finished"]
            yield from _of_pass(step, phrase, one.number, one.trace, ended)


def _of_pass(
    step: int, phrase: str, number: int, trace: Trace, finished: object
) -> Iterator[Slice]:
    begun = None
    if trace.engine != "model":
        lasted = datetime.timedelta(seconds=(trace.elapsed_ns + trace.flush_ns) / 1e9)
        begun = datetime.datetime.fromisoformat(str(finished)) - lasted
    parsed = parse(phrase)
    in_flight = parsed.depth * parsed.workers if isinstance(parsed, IoStep) else None
    warm = trusted_temperatures(trace.environment.temperatures) if trace.environment else []
    seconds = [s for s, _ in warm]
    last = len(trace.slices) - 1
    for at, counted in enumerate(trace.slices.tolist()):
        second = at * SLICE_NS / 1e9
        # What is left of a pass after its last whole slice is shorter.
        width_ns = SLICE_NS if at < last else (trace.elapsed_ns - last * SLICE_NS or SLICE_NS)
        ios = counted[1] + counted[3]
        yield Slice(
            step,
            phrase,
            number,
            second,
            _clock(begun, second),
            counted[0],
            counted[1],
            counted[2],
            counted[3],
            counted[4],
            in_flight * width_ns / ios if in_flight and ios and width_ns > 0 else None,
            _last_before(warm, seconds, second),
        )


def _clock(begun: datetime.datetime | None, second: float) -> str | None:
    if begun is None:
        return None
    moment = begun + datetime.timedelta(seconds=second)
    return moment.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _last_before(
    warm: Sequence[tuple[float, float]], seconds: Sequence[float], second: float
) -> float | None:
    at = bisect_right(seconds, second) - 1
    return warm[at][1] if at >= 0 else None
