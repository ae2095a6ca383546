"""A recording: a program's requests to a drive, as offsets, sizes and times."""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Small = npt.NDArray[np.integer[Any]]
CHUNK = 2**20
"""The range that was touched is kept in pieces of this size, one behind the other."""
COLUMNS = ("issue_ns", "done_ns", "kind", "flags", "offset", "bytes", "asker", "queued_ns")


class Kind(IntEnum):
    """The kind of a request."""

    READ = 0
    WRITE = 1
    FLUSH = 2
    DISCARD = 3


class Asker(IntEnum):
    """The origin of a request: the recorded command, the system's own threads, or others."""

    COMMAND = 0
    SYSTEM = 1
    OTHER = 2


SYNC, AHEAD, DURABLE, METADATA = 1, 2, 4, 8
"""Bits of a request's flags."""


NOT_QUEUED = np.zeros(0, np.int64)


@dataclass(frozen=True)
class Recording:
    """Requests in the order in which they were issued.

    Attributes
    ----------
    name : str
    issue_ns, done_ns : int64, shape (n,)
        Since the recording began; issued to the drive and completed.
    kind, flags, asker : int, shape (n,)
        `Kind`, bits, and `Asker`.
    offset, bytes : int64, shape (n,)
        Within the range that was touched, its pieces packed.
    queued_ns : int64, shape (n,)
        When the system was asked for it, no later than `issue_ns`, and the same unless given.
    elapsed_ns : int
        From the beginning to the end of the recording.
    lost : int
        Events that the kernel had no room for.
    drive : str
        The drive that it was recorded on.
    status : int or None
        How the command ended.
    command, files : tuple of str
        The command with its arguments and the files that it opened, where names were to be kept.
    """

    name: str
    issue_ns: Ints
    done_ns: Ints
    kind: Small
    flags: Small
    offset: Ints
    bytes: Ints
    asker: Small
    elapsed_ns: int
    queued_ns: Ints = field(default_factory=lambda: NOT_QUEUED)
    lost: int = 0
    drive: str = ""
    status: int | None = None
    made: str = ""
    command: tuple[str, ...] = ()
    files: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if self.queued_ns is NOT_QUEUED:
            object.__setattr__(self, "queued_ns", self.issue_ns)

    def __len__(self) -> int:
        return len(self.issue_ns)

    @cached_property
    def writes(self) -> bool:
        """Return True if any request writes."""
        return bool((self.kind == Kind.WRITE).any())

    @cached_property
    def written_bytes(self) -> int:
        """Return the bytes of all writes."""
        return int(self.bytes[self.kind == Kind.WRITE].sum())

    @cached_property
    def span_bytes(self) -> int:
        """Return bytes of the packed range, whole pieces."""
        moves = self.kind <= Kind.WRITE
        if not moves.any():
            return CHUNK
        end = int((self.offset[moves] + self.bytes[moves]).max())
        return max(-(-end // CHUNK), 1) * CHUNK

    @cached_property
    def waited_ns(self) -> int:
        """Time in which at least one request was at the drive."""
        return union_ns(self.issue_ns, self.done_ns)

    @cached_property
    def above_ns(self) -> int:
        """Time in which requests were queued in the system and none was at the drive."""
        order = np.argsort(self.queued_ns, kind="stable")
        return union_ns(self.queued_ns[order], self.done_ns[order]) - self.waited_ns

    @cached_property
    def depth(self) -> int:
        """Return the most requests in flight at once."""
        if not len(self):
            return 0
        times = np.concatenate([self.issue_ns, self.done_ns])
        steps = np.concatenate([np.ones(len(self), np.int64), -np.ones(len(self), np.int64)])
        # A request that ends at a moment makes room before the next one of that moment.
        order = np.lexsort((steps, times))
        return int(np.cumsum(steps[order]).max())


def union_ns(begin: Ints, end: Ints) -> int:
    """Return the total time covered by these stretches; `begin` is in rising order."""
    if not len(begin):
        return 0
    reached = np.maximum.accumulate(end)
    gaps = np.maximum(begin[1:] - reached[:-1], 0)
    return int(reached[-1] - begin[0] - gaps.sum())


def packed(offset: Ints, size: Ints, moves: npt.NDArray[np.bool_]) -> Ints:
    """Return offsets with the pieces that nobody touched left out.

    Contiguous parts, and parts that follow each other, stay together.
    """
    packed_offset = offset.copy()
    if not moves.any():
        return np.zeros_like(offset)
    first, last = offset[moves] // CHUNK, (offset[moves] + size[moves] - 1) // CHUNK
    longest = int((last - first).max())
    touched = np.unique(np.concatenate([np.minimum(first + n, last) for n in range(longest + 1)]))
    chunk = np.searchsorted(touched, offset // CHUNK)
    packed_offset = np.where(moves, chunk * CHUNK + offset % CHUNK, 0)
    return packed_offset.astype(np.int64)


def lanes_of(recording: Recording, count: int) -> Ints:
    """Return a lane for each request, so that no two of one lane were in flight together.

    Parameters
    ----------
    count : int
        How many lanes there may be. Where more were in flight, the request takes the lane that was
        free first.

    Returns
    -------
    int64 array, shape (n,)
    """
    free = [(0, lane) for lane in range(max(count, 1))]
    lanes = np.zeros(len(recording), np.int64)
    for n, (issued, done) in enumerate(
        zip(recording.issue_ns.tolist(), recording.done_ns.tolist(), strict=True)
    ):
        ended, lane = heapq.heappop(free)
        lanes[n] = lane
        heapq.heappush(free, (max(done, issued, ended), lane))
    return lanes


@dataclass(frozen=True)
class Dependencies:
    """The earliest time of each request, by the requests that it may depend on.

    Attributes
    ----------
    after : int64, shape (n,)
        So many requests, in the order in which they completed, had completed before it was issued.
    think_ns : int64, shape (n,)
        How long after the last of them, or after the request before it, whichever came later.
    rank : int64, shape (n,)
        The place of each request in the order of completion.
    woken : bool, shape (n,)
        Whether a completion came later than the request before it, so that the think time begins
        with a program being woken.
    """

    after: Ints
    think_ns: Ints
    rank: Ints = field(repr=False)
    woken: npt.NDArray[np.bool_] = field(repr=False)


def dependencies(recording: Recording) -> Dependencies:
    """Return the requests that each request may depend on.

    A program issues a request once it has what it asked for before; which of the completed requests
    that was nobody can see, so all that had completed before count (Weiss and others, SOSP 2013;
    Haghdoost and others, ACM Transactions on Storage 13, 2017). The program issued it when it was
    queued: what it waited for after that, the system and the drive there decided, not the program.
    """
    queued, done = recording.queued_ns, recording.done_ns
    order = np.argsort(done, kind="stable")
    rank = np.empty(len(done), np.int64)
    rank[order] = np.arange(len(done))
    sorted_done = done[order]
    after = np.searchsorted(sorted_done, queued, side="right").astype(np.int64)
    last_done = np.where(after > 0, sorted_done[np.maximum(after - 1, 0)], 0)
    before = np.concatenate([[0], np.maximum.accumulate(queued[:-1])]) if len(queued) else queued
    think = queued - np.maximum(before, last_done)
    return Dependencies(after, np.maximum(think, 0), rank, (after > 0) & (last_done >= before))


def made_recording(
    name: str,
    rows: Sequence[tuple[int, ...]],
    elapsed_ns: int,
    **more: object,
) -> Recording:
    """Return a recording of rows with the fields of `COLUMNS`, in any order, offsets packed.

    Without the last field, requests were queued when they were issued.
    """
    width = len(rows[0]) if rows else len(COLUMNS)
    table = np.array(rows, np.int64).reshape(-1, width)
    table = table[np.lexsort((table[:, 1], table[:, 0]))]
    moves = table[:, 2] <= Kind.WRITE
    table[:, 4] = packed(table[:, 4], table[:, 5], moves)
    columns = dict(zip(COLUMNS[:width], table.T.copy(), strict=True))
    return Recording(name=name, elapsed_ns=elapsed_ns, **columns, **more)  # type: ignore[arg-type]
