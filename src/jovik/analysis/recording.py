"""Properties of a recording: mix, blocks, depth, and the time spent waiting for the drive."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from jovik.base.recording import CHUNK, SYNC, Asker, Kind, Recording, union_ns


class WaitedFor(StrEnum):
    """Kinds of requests, those first that a program waits for."""

    READS = "reads"
    FLUSHES = "flushes"
    WRITES = "writes"
    BACKGROUND = "background writes"
    DISCARDS = "discards"


@dataclass(frozen=True)
class RecordingSummary:
    """A recording in figures.

    Attributes
    ----------
    read_bytes, written_bytes, reads, writes, flushes, discards : int
    elapsed_ns, waited_ns, above_ns : int
        All of it; while at least one request was at the drive, which is what a faster drive could
        save at most; and while requests were queued above it and none was there.
    parts : tuple of (WaitedFor, nanoseconds)
        What was at the drive in `waited_ns`. Time with several kinds counts for the first of them.
    mean_depth : float
        Requests in flight while there was one.
    depth : int
        At most.
    in_order : float
        Share of requests that began where the one before it in the same direction ended.
    hot_share : float
        Share of the requests in the most asked tenth of the range.
    blocks : tuple of (bytes, share)
        The commonest sizes and their share of the requests, the commonest first.
    by_others : float
        Share of the requests that neither the command nor the system's own threads asked for.
    """

    read_bytes: int
    written_bytes: int
    reads: int
    writes: int
    flushes: int
    discards: int
    elapsed_ns: int
    waited_ns: int
    above_ns: int
    parts: tuple[tuple[WaitedFor, int], ...]
    mean_depth: float
    depth: int
    in_order: float
    hot_share: float
    blocks: tuple[tuple[int, float], ...]
    by_others: float

    @property
    def waited_share(self) -> float:
        """Share of the time in which the drive was waited for."""
        return self.waited_ns / self.elapsed_ns if self.elapsed_ns else 0.0


MOST_BLOCKS = 4


def _parts(recording: Recording) -> tuple[tuple[WaitedFor, int], ...]:
    """Return the time at the drive by what was there, the kinds of `WaitedFor` in their order.

    Writes without the flag for synchronous ones come from the page cache, in the background.
    """
    kind, at_once = recording.kind, (recording.flags & SYNC) > 0
    masks = {
        WaitedFor.READS: kind == Kind.READ,
        WaitedFor.FLUSHES: kind == Kind.FLUSH,
        WaitedFor.WRITES: (kind == Kind.WRITE) & at_once,
        WaitedFor.BACKGROUND: (kind == Kind.WRITE) & ~at_once,
        WaitedFor.DISCARDS: kind == Kind.DISCARD,
    }
    parts, chosen, before = [], np.zeros(len(recording), np.bool_), 0
    for what, mask in masks.items():
        chosen |= mask
        covered = union_ns(recording.issue_ns[chosen], recording.done_ns[chosen])
        parts.append((what, covered - before))
        before = covered
    return tuple((what, ns) for what, ns in parts if ns)


def summary_of(recording: Recording) -> RecordingSummary:
    """Return the figures of a recording."""
    kind, size = recording.kind, recording.bytes
    reads, writes = kind == Kind.READ, kind == Kind.WRITE
    moves = reads | writes
    waited = union_ns(recording.issue_ns, recording.done_ns)
    held = int((recording.done_ns - recording.issue_ns).sum())
    in_order = 0
    for direction in (reads, writes):
        begin, end = recording.offset[direction], (recording.offset + size)[direction]
        in_order += int((begin[1:] == end[:-1]).sum())
    sizes, counts = np.unique(size[moves], return_counts=True)
    order = np.argsort(-counts, kind="stable")[:MOST_BLOCKS]
    whole = max(int(moves.sum()), 1)
    # Counted by piece that was asked for: one request may lie behind an address of any size.
    pieces = recording.offset[moves] // CHUNK
    asked = np.sort(np.unique(pieces, return_counts=True)[1])[::-1]
    tenth = max((int(pieces.max(initial=0)) + 1) // 10, 1)
    hot = int(asked[:tenth].sum())
    return RecordingSummary(
        read_bytes=int(size[reads].sum()),
        written_bytes=int(size[writes].sum()),
        reads=int(reads.sum()),
        writes=int(writes.sum()),
        flushes=int((kind == Kind.FLUSH).sum()),
        discards=int((kind == Kind.DISCARD).sum()),
        elapsed_ns=recording.elapsed_ns,
        waited_ns=waited,
        above_ns=recording.above_ns,
        parts=_parts(recording),
        mean_depth=held / waited if waited else 0.0,
        depth=recording.depth,
        in_order=in_order / whole,
        hot_share=hot / whole,
        blocks=tuple((int(sizes[n]), int(counts[n]) / whole) for n in order),
        by_others=float((recording.asker == Asker.OTHER).mean()) if len(recording) else 0.0,
    )
