"""A recording done again on a model drive, request by request on its virtual clock.

Of a chain of reads that each wait for the one before, the time is known in closed form: think time,
one access and the transfer of its data for each.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from jovik.base import histogram
from jovik.base.io_session import ReplayJob
from jovik.base.recording import Kind, Recording, dependencies, union_ns
from jovik.base.trace import SLICE_COLUMNS, SLICE_NS, Latencies, ReplayRecord
from jovik.simulator.drive_state import State
from jovik.simulator.parameters import Behaviour

Floats = npt.NDArray[np.float64]

MOST_TIMES = 2**24
"""Requests times drives that are computed at once: two arrays of 128 MiB."""
DRAWN = 4096
"""Requests whose noise is drawn at once."""
MOST_SORTED = 32
"""So deep a queue a spinning drive sorts (`Platter.gain`)."""


@dataclass(frozen=True)
class Replayed:
    """When each request was issued and done, nanoseconds since the beginning, and late ones."""

    issue_ns: npt.NDArray[np.int64]
    done_ns: npt.NDArray[np.int64]
    late: int
    late_ns: int


def replayed(state: State, job: ReplayJob, rng: np.random.Generator) -> Replayed:
    """Serve a recording: in the order of its issue, each request when it is due."""
    issue, done = (x[:, 0] for x in _replay([state], job, rng))
    late = np.zeros(1)
    if job.pace == "recorded":
        late = issue - job.recording.issue_ns
    issue_ns, done_ns = (np.rint(x).astype(np.int64) for x in (issue, done))
    return Replayed(issue_ns, done_ns, int((late > 0).sum()), round(float(late.sum())))


def elapsed_s(behaviours: Sequence[Behaviour], recording: Recording) -> list[float]:
    """Return what a recorded program takes on each of many model drives, in seconds."""
    job = ReplayJob(recording)
    many = max(MOST_TIMES // max(len(recording), 1), 1)
    found = dict.fromkeys(range(len(behaviours)), 0.0)
    for flash in (True, False):
        places = [n for n, b in enumerate(behaviours) if (b.platter is None) == flash]
        for begin in range(0, len(places), many):
            some = places[begin : begin + many]
            states = [State(behaviours[n]) for n in some]
            _, done = _replay(states, job, np.random.default_rng(0))
            ends = done.max(axis=0, initial=0.0)
            found.update(zip(some, ((ends + job.tail_ns) / 1e9).tolist(), strict=True))
    return list(found.values())


def _replay(
    states: Sequence[State], job: ReplayJob, rng: np.random.Generator
) -> tuple[Floats, Floats]:
    """Return when each request is issued and done on each drive, shape (requests, drives).

    All drives have a spinning medium, or none has. What happens on each depends on what it has
    done, so that requests cannot be computed at once; all drives are.
    """
    recording = job.recording
    known, count, width = dependencies(recording), len(recording), len(states)
    in_order = _in_order(recording)
    spreads = np.array([s.behaviour.spreads for s in states]).T
    writes = (recording.kind == Kind.WRITE).astype(np.int64)
    issue, done = np.zeros((count, width)), np.zeros((count, width))
    by_end = np.argsort(known.rank)
    server = (_Flash if states[0].behaviour.platter is None else _Arm)(states, recording)
    after, think = known.after.tolist(), known.think_ns.tolist()
    if job.pace == "fast":
        think = [0] * count
    kinds, sizes = recording.kind.tolist(), recording.bytes.tolist()
    recorded, took = recording.issue_ns.tolist(), (recording.done_ns - recording.issue_ns).tolist()
    before, reached, prefix = np.zeros(width), np.zeros(width), 0
    noise = np.empty((0, width))
    for i in range(count):
        if i % DRAWN == 0:
            spread = spreads[writes[i : i + DRAWN]]
            normal = rng.normal(0, 1, len(spread))[:, None]
            noise = np.exp(normal * spread - spread**2 / 2)
        if job.pace == "recorded":
            at = np.maximum(before, recorded[i])
        else:
            if prefix < after[i]:
                ended = done[by_end[prefix : after[i]]]
                reached = np.maximum(reached, ended[0] if len(ended) == 1 else ended.max(axis=0))
                prefix = after[i]
            at = np.maximum(before, reached) + think[i]
        issue[i] = before = at
        if kinds[i] == Kind.FLUSH:
            done[i] = at + server.flush_ns
        elif kinds[i] == Kind.DISCARD:
            done[i] = at + took[i]
        else:
            done[i] = server.serve(
                at, noise[i % DRAWN], sizes[i], write=kinds[i] == Kind.WRITE, in_order=in_order[i]
            )
    server.finish(done.max(axis=0, initial=0.0))
    return issue, done


def _in_order(recording: Recording) -> list[bool]:
    """Whether each read or write begins where the one of its kind before it ended."""
    found = np.zeros(len(recording), np.bool_)
    for kind in (Kind.READ, Kind.WRITE):
        places = np.flatnonzero(recording.kind == kind)
        begins = recording.offset[places]
        ends = begins + recording.bytes[places]
        found[places[1:]] = begins[1:] == ends[:-1]
    return [bool(x) for x in found]


class _Server(ABC):
    """Drives, each with one way for the data of all its requests. Arrays have one item a drive."""

    def __init__(self, states: Sequence[State], recording: Recording) -> None:
        self.states = states
        self.free_at: Floats = np.zeros(len(states))
        self.flush_ns = self.each(lambda b: b.flush_time)
        self.link_ns = self.each(lambda b: 1e9 / b.link_rate if b.link_rate else 0.0)
        self.limit_ns = (
            self.each(lambda b: 1e9 / b.read_limit if b.read_limit else 0.0),
            self.each(lambda b: 1e9 / b.write_limit if b.write_limit else 0.0),
        )
        self.limited = [bool(x.any()) for x in self.limit_ns]
        self.burst = self.each(lambda b: b.limit_burst)
        # When each direction has used up what it is allowed, if it never waits.
        self.used_until = [np.zeros(len(states)), np.zeros(len(states))]

    def each(self, what: Callable[[Behaviour], float]) -> Floats:
        """Return a parameter of each drive."""
        return np.array([what(s.behaviour) for s in self.states], np.float64)

    def serve(self, at: Floats, noise: Floats, size: int, *, write: bool, in_order: bool) -> Floats:
        """When a request that comes at a moment is done."""
        if self.limited[write]:
            at = self._allowed(at, size, write=write)
        return self._served(at, noise, size, write=write, in_order=in_order)

    def _allowed(self, at: Floats, size: int, *, write: bool) -> Floats:
        """When a limit lets a request through: what nobody asked for is saved up, for a while."""
        until = np.maximum(self.used_until[write], at - self.burst)
        self.used_until[write] = until + size * self.limit_ns[write]
        held: Floats = np.maximum(at, self.used_until[write] - self.burst)
        return np.where(self.limit_ns[write] > 0, held, at)

    @abstractmethod
    def _served(
        self, at: Floats, noise: Floats, size: int, *, write: bool, in_order: bool
    ) -> Floats:
        """When the drive has done a request that reaches it at a moment."""

    @abstractmethod
    def finish(self, end: Floats) -> None:
        """Leave the drives as they are at the end."""


class _Flash(_Server):
    """Drives without moving parts: an access for each request, then its data."""

    def __init__(self, states: Sequence[State], recording: Recording) -> None:
        super().__init__(states, recording)
        self.handled_at: Floats = np.zeros(len(states))
        self.written_at: Floats = np.zeros(len(states))
        read = (self.each(lambda b: b.read_latency), self.each(lambda b: b.sequential_latency))
        write = self.each(lambda b: b.write_latency)
        self.access = (read, (write, np.minimum(read[1], write)))
        self.gap = (self.each(lambda b: 1e9 / b.read_iops), self.each(lambda b: 1e9 / b.write_iops))
        self.read_ns = np.maximum(self.each(lambda b: 1e9 / b.read_rate), self.link_ns)
        self.cached_ns = np.maximum(self.each(lambda b: 1e9 / b.write_rate), self.link_ns)
        self.amplified = np.array([s.amplification for s in states])
        direct = self.each(lambda b: 1e9 / b.direct_write_rate)
        self.direct_ns = np.maximum(direct * self.amplified, self.link_ns)
        self.drained = self.each(lambda b: b.drain_rate / 1e9)
        self.room = np.array([s.behaviour.cache_bytes(s.fill_percent) for s in states])
        self.cached = np.array([s.cached_bytes for s in states])
        self.past = np.array([s.past_cache_bytes for s in states])
        self.host, self.flash = np.zeros(len(states)), np.zeros(len(states))

    def _served(
        self, at: Floats, noise: Floats, size: int, *, write: bool, in_order: bool
    ) -> Floats:
        """See `_Server`."""
        access = self.access[write][in_order] * noise
        ready = np.maximum(np.maximum(at + access, self.free_at), self.handled_at)
        self.handled_at = ready + self.gap[write]
        if write:
            end = ready + size * self._taken(at, size)
            self.written_at = end
        else:
            end = ready + size * self.read_ns
        self.free_at = end
        return end

    def _taken(self, at: Floats, size: int) -> Floats:
        """Take a write, and return the nanoseconds a byte.

        While nobody writes, the write cache empties.
        """
        self._drain(at)
        fits = self.cached + size <= self.room
        self.cached += np.where(fits, size, 0)
        self.past += np.where(fits, 0, size)
        self.flash += np.where(fits, 0, size * self.amplified)
        self.host += size
        byte_ns: Floats = np.where(fits, self.cached_ns, self.direct_ns)
        return byte_ns

    def _drain(self, until: Floats) -> None:
        less = self.drained * np.maximum(until - self.written_at, 0)
        self.cached = np.maximum(self.cached - less, 0)
        self.past = np.maximum(self.past - less, 0)

    def finish(self, end: Floats) -> None:
        """See `_Server`."""
        self._drain(end)
        for n, state in enumerate(self.states):
            state.cached_bytes, state.past_cache_bytes = float(self.cached[n]), float(self.past[n])
            state.host_bytes += float(self.host[n])
            state.flash_bytes += float(self.flash[n])


class _Arm(_Server):
    """Spinning drives: the one arm of each does a request after the other.

    Sorting those that wait brings what `Behaviour.iops` says of a queue of that depth.
    """

    def __init__(self, states: Sequence[State], recording: Recording) -> None:
        super().__init__(states, recording)
        platters = [p for s in states if (p := s.behaviour.platter) is not None]
        span = recording.span_bytes
        capacity = self.each(lambda b: b.capacity)
        self.access = np.array(
            [p.access_ns(span / c) for p, c in zip(platters, capacity, strict=True)]
        )
        self.byte_ns = np.maximum([1e9 / p.rate_at(0.0) for p in platters], self.link_ns)
        depths = range(1, MOST_SORTED + 1)
        self.gain = np.array([[p.gain(n) for n in depths] for p in platters])
        self.ends: Floats = np.zeros((len(states), MOST_SORTED - 1))
        self.count = 0

    def _served(
        self, at: Floats, noise: Floats, size: int, *, write: bool, in_order: bool
    ) -> Floats:
        """See `_Server`."""
        end: Floats = np.maximum(at, self.free_at) + size * self.byte_ns
        if not in_order:
            waiting = (self.ends > at[:, None]).sum(axis=1)
            end += self.access * noise / self.gain[np.arange(len(at)), waiting]
        self.ends[:, self.count % (MOST_SORTED - 1)] = self.free_at = end
        self.count += 1
        return end

    def finish(self, end: Floats) -> None:
        """See `_Server`."""


def slices_of(recording: Recording, found: Replayed) -> npt.NDArray[np.int64]:
    """Return the work in each slice, by its completion time."""
    elapsed = int(found.done_ns.max(initial=1))
    rows = max(-(-elapsed // SLICE_NS), 1)
    slices = np.zeros((rows, len(SLICE_COLUMNS)), np.int64)
    row = np.minimum(found.done_ns // SLICE_NS, rows - 1)
    for kind, base in ((Kind.READ, 0), (Kind.WRITE, 2)):
        of_kind = recording.kind == kind
        np.add.at(slices[:, base], row[of_kind], recording.bytes[of_kind])
        np.add.at(slices[:, base + 1], row[of_kind], 1)
    return slices


def latencies_of(recording: Recording, found: Replayed) -> dict[str, Latencies]:
    """Latencies by direction."""
    histograms = {}
    took = found.done_ns - found.issue_ns
    for kind, name in ((Kind.READ, "read"), (Kind.WRITE, "write")):
        durations = took[recording.kind == kind]
        if len(durations):
            counts = np.bincount(histogram.bucket_of(durations), minlength=histogram.COUNT)
            low, high, whole = int(durations.min()), int(durations.max()), int(durations.sum())
            histograms[name] = Latencies(counts.astype(np.int64), low, high, whole)
    return histograms


def record_of(job: ReplayJob, found: Replayed) -> ReplayRecord:
    """Return the result beside the recorded figures."""
    recording = job.recording
    return ReplayRecord(
        requests=len(recording),
        elapsed_ns=int(found.done_ns.max(initial=0)) + job.tail_ns,
        waited_ns=union_ns(found.issue_ns, found.done_ns),
        recorded_ns=recording.elapsed_ns,
        recorded_waited_ns=recording.waited_ns,
        late=found.late,
        late_ns=found.late_ns,
    )
