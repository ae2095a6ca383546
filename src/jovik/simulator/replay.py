"""A recording done again on a model drive, request by request on its virtual clock.

Of a chain of reads that each wait for the one before, the time is known in closed form: think time,
one access and the transfer of its data for each.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from jovik.base import histogram
from jovik.base.io_session import ReplayJob
from jovik.base.recording import Kind, Recording, dependencies, union_ns
from jovik.base.trace import SLICE_COLUMNS, SLICE_NS, Latencies, ReplayRecord
from jovik.simulator.drive_state import State
from jovik.simulator.parameters import Behaviour


@dataclass(frozen=True)
class Replayed:
    """When each request was issued and done, nanoseconds since the beginning, and late ones."""

    issue_ns: npt.NDArray[np.int64]
    done_ns: npt.NDArray[np.int64]
    late: int
    late_ns: int


def replayed(state: State, job: ReplayJob, rng: np.random.Generator) -> Replayed:
    """Serve a recording: in the order of its issue, each request when it is due."""
    recording, behaviour = job.recording, state.behaviour
    known = dependencies(recording)
    count = len(recording)
    noise = np.exp(rng.normal(0, behaviour.latency_spread, count))
    noise /= np.exp(behaviour.latency_spread**2 / 2)
    issue, done = np.zeros(count, np.int64), np.zeros(count, np.int64)
    by_rank = np.zeros(count, np.int64)
    server = _Server(state)
    prefix, reached, before = 0, 0, 0
    late, late_ns = 0, 0
    think = np.zeros_like(known.think_ns) if job.pace == "fast" else known.think_ns
    for i in range(count):
        if job.pace == "recorded":
            at = int(recording.issue_ns[i])
            if before > at:
                late, late_ns = late + 1, late_ns + before - at
                at = before
        else:
            while prefix < known.after[i]:
                reached = max(reached, int(by_rank[prefix]))
                prefix += 1
            at = max(before, reached) + int(think[i])
        end = server.serve(recording, i, at, float(noise[i]))
        issue[i], done[i], before = at, end, at
        by_rank[known.rank[i]] = end
    return Replayed(issue, done, late, late_ns)


class _Server:
    """The drive: an access for each request, and one way for the data of all of them."""

    def __init__(self, state: State) -> None:
        self.state = state
        self._free_at, self._handled_at, self._last = 0.0, 0.0, 0.0
        self._waiting: list[float] = []
        self._ends = {int(Kind.READ): -1, int(Kind.WRITE): -1}

    def serve(self, recording: Recording, i: int, at: int, noise: float) -> int:
        """When a request that comes at a moment is done."""
        behaviour: Behaviour = self.state.behaviour
        kind, size = int(recording.kind[i]), int(recording.bytes[i])
        if at > self._last:
            # While nobody asks, the write cache empties.
            self.state.drain(at - self._last)
        if kind == Kind.DISCARD:
            return at + int(recording.done_ns[i] - recording.issue_ns[i])
        if kind == Kind.FLUSH:
            return at + behaviour.flush_time
        offset = int(recording.offset[i])
        in_order = self._ends[kind] == offset
        self._ends[kind] = offset + size
        if behaviour.platter is not None:
            return self._turned(recording, i, at, noise, in_order=in_order)
        access, rate, most = self._way(kind, size, in_order=in_order)
        ready = max(at + access * noise, self._free_at, self._handled_at)
        self._handled_at = ready + 1e9 / most
        end = ready + size / rate * 1e9
        self._free_at = end
        self._last = max(self._last, end)
        return round(end)

    def _turned(
        self, recording: Recording, i: int, at: int, noise: float, *, in_order: bool
    ) -> int:
        """When a spinning drive is done: its one arm does a request after the other.

        Sorting those that wait brings what `Behaviour.iops` says of a queue of that depth.
        """
        b = self.state.behaviour
        assert b.platter is not None
        self._waiting = [end for end in self._waiting if end > at]
        access = 0.0 if in_order else b.platter.access_ns(recording.span_bytes / b.capacity)
        access *= noise / b.platter.gain(len(self._waiting) + 1)
        end = max(at, self._free_at) + access
        end += int(recording.bytes[i]) / b.platter.rate_at(0.0) * 1e9
        self._free_at = end
        self._last = max(self._last, end)
        self._waiting.append(end)
        return round(end)

    def _way(self, kind: int, size: int, *, in_order: bool) -> tuple[float, float, float]:
        """Access time, rate of the data, and I/Os a second at most."""
        b = self.state.behaviour
        if kind == Kind.READ:
            access = b.sequential_latency if in_order else b.read_latency
            rate, most = b.read_rate, float(b.read_iops)
        else:
            access = min(b.sequential_latency, b.write_latency) if in_order else b.write_latency
            rate, most = self.state.take(size), float(b.write_iops)
        return float(access), min(rate, b.link_rate or rate), most


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
