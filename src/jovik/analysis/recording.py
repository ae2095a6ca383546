"""Properties of a recording: mix, blocks, depth, and the time spent waiting for the drive."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jovik.base.recording import CHUNK, Asker, Kind, Recording, union_ns


@dataclass(frozen=True)
class RecordingSummary:
    """A recording in figures.

    Attributes
    ----------
    read_bytes, written_bytes, reads, writes, flushes, discards : int
    elapsed_ns, waited_ns : int
        All of it, and while at least one request was in flight: what a faster drive could save at
        most.
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
        mean_depth=held / waited if waited else 0.0,
        depth=recording.depth,
        in_order=in_order / whole,
        hot_share=hot / whole,
        blocks=tuple((int(sizes[n]), int(counts[n]) / whole) for n in order),
        by_others=float((recording.asker == Asker.OTHER).mean()) if len(recording) else 0.0,
    )
