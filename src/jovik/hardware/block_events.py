"""From the kernel's trace events of a device to a recording of the requests to it."""

from __future__ import annotations

import re
from bisect import bisect_right
from typing import IO

from jovik.base.recording import (
    AHEAD,
    DURABLE,
    METADATA,
    SYNC,
    Asker,
    Kind,
    Recording,
    made_recording,
)

SECTOR = 512
PAGE_SECTORS = 8
LINE = re.compile(
    rb"^\s*(?P<comm>.{1,16})-(?P<pid>\d+)\s+\[\d+\] \S+ +(?P<s>\d+)\.(?P<us>\d{6}): "
    rb"block_(?P<event>bio_queue|rq_issue|rq_complete): \d+,\d+ (?P<rwbs>[A-Z]+) "
    rb"(?:(?:\d+ )?\(.*?\) )?(?P<sector>\d+) \+ (?P<count>\d+) "
)
FORKED = re.compile(rb"sched_process_fork: comm=.* pid=(\d+) child_comm=.* child_pid=(\d+)")
SYSTEM_THREADS = (b"kworker", b"jbd2", b"ksoftirqd", b"kswapd", b"dmcrypt", b"xfsaild", b"btrfs-")
ASLEEP = re.compile(
    rb"\[\d+\] \S+ +(?P<s>\d+)\.(?P<us>\d{6}): sched_(?:switch: prev_comm=.* "
    rb"prev_pid=(?P<asleep>\d+) prev_prio=\d+ prev_state=D|waking: comm=.* pid=(?P<woken>\d+) )"
)
MOST_ASLEEP = 64
"""So many sleeps that began last are looked through for one that holds a moment."""


def family_of(lines: IO[bytes], command: int) -> set[int]:
    """Return the process `command` and all that came of it, by the forks that were taken down."""
    family = {command}
    lines.seek(0)
    for line in lines:
        forked = FORKED.search(line)
        if forked is not None and int(forked[1]) in family:
            family.add(int(forked[2]))
    return family


def recording_of(
    lines: IO[bytes],
    name: str,
    begin_ns: int,
    end_ns: int,
    process: int | None,
    sleeps: IO[bytes] | None = None,
    **more: object,
) -> Recording:
    """Return the captured events as a recording.

    Parameters
    ----------
    lines : file
        The events that `tapped` captured.
    begin_ns, end_ns : int
        Of the monotonic clock.
    process : int or None
        The number of the recorded process, whose children are known by their forks.
    sleeps : file, optional
        When these slept uninterruptibly, as `tapped` captured it. What others issue while one of
        them sleeps was queued when it fell asleep.
    **more
        Further fields of `Recording`.
    """
    processes = {process} if process is not None else set()
    elapsed = max(end_ns - begin_ns, 0)
    pairs = _Pairs()
    lines.seek(0)
    for line in lines:
        forked = FORKED.search(line)
        if forked is not None:
            if int(forked[1]) in processes:
                processes.add(int(forked[2]))
            continue
        match = LINE.match(line)
        if match is None:
            continue
        at = int(match["s"]) * 10**9 + int(match["us"]) * 1000 - begin_ns
        place = int(match["sector"]), int(match["count"])
        if match["event"] == b"rq_complete":
            pairs.complete(at, match["rwbs"], *place)
            continue
        asker = _asker(match["comm"], int(match["pid"]), processes, known=process is not None)
        known = pairs.queue if match["event"] == b"bio_queue" else pairs.issue
        known(at, match["rwbs"], *place, asker)
    # What was asked for after the end is not the command's any more.
    rows = [row for row in pairs.rows if row[-1] >= 0 and row[0] <= elapsed]
    if sleeps is not None:
        asleep = _Asleep(sleeps, processes, begin_ns)
        rows = [asleep.queued(row) for row in rows]
    elapsed = max([elapsed, *(row[1] for row in rows)])
    return made_recording(name, rows, elapsed, **more)


class _Asleep:
    """When processes slept uninterruptibly, nanoseconds since the recording began."""

    def __init__(self, lines: IO[bytes], processes: set[int], begin_ns: int) -> None:
        began: dict[int, int] = {}
        self.sleeps: list[tuple[int, int]] = []
        lines.seek(0)
        for line in lines:
            match = ASLEEP.search(line)
            if match is None:
                continue
            at = int(match["s"]) * 10**9 + int(match["us"]) * 1000 - begin_ns
            if match["asleep"] is not None:
                if int(match["asleep"]) in processes:
                    began[int(match["asleep"])] = at
            elif (since := began.pop(int(match["woken"]), None)) is not None:
                self.sleeps.append((since, at))
        self.sleeps.sort()

    def queued(self, row: tuple[int, ...]) -> tuple[int, ...]:
        """Return a row with the moment at which the command began to wait for it, if it did."""
        *rest, asker, at = row
        kind, flags = row[2], row[3]
        if asker == Asker.COMMAND or not (kind == Kind.READ or flags & SYNC):
            return row
        last = bisect_right(self.sleeps, (at, 2**62))
        for since, until in reversed(self.sleeps[max(last - MOST_ASLEEP, 0) : last]):
            if until > at and since >= 0:
                return (*rest, int(Asker.COMMAND), since)
        return row


class _Pairs:
    """Requests put together of their events: asked of the system, issued, completed.

    A flush is a request of its own without a place: its events have sector 0 when it is issued, and
    -1 when it is completed. A write that is to follow one, or to be followed by one, is queued once
    and issued when its turn comes (Documentation/block/writeback_cache_control.rst).
    """

    def __init__(self) -> None:
        self.rows: list[tuple[int, ...]] = []
        self._queued: dict[tuple[int, int], tuple[int, int, int]] = {}
        self._flushes_queued: list[tuple[int, int]] = []
        self._flush_asker = int(Asker.SYSTEM)
        self._issued: dict[tuple[int, int, bytes], list[tuple[int, ...]]] = {}

    def queue(self, at: int, rwbs: bytes, sector: int, count: int, asker: int) -> None:
        """Take note of what the system was asked for."""
        if rwbs.startswith(b"F"):
            self._flushes_queued.append((at, asker))
        elif count:
            self._queued[_kind(rwbs), sector] = (at, count, asker)

    def issue(self, at: int, rwbs: bytes, sector: int, count: int, asker: int) -> None:
        """Take note of a request on its way to the drive."""
        kind, queued = _kind(rwbs), at
        if kind != Kind.FLUSH and not count:
            return
        if kind == Kind.FLUSH:
            # One flush is for all who asked for one since the last.
            if self._flushes_queued:
                queued, self._flush_asker = self._flushes_queued[0]
                self._flushes_queued.clear()
            sector, asker = 0, self._flush_asker
        else:
            asked = self._queued.get((kind, sector))
            if asked is not None:
                queued, _, asker = asked
            self._forget(kind, sector, count)
        one = (at, kind, _flags(rwbs), count * SECTOR, asker, min(queued, at))
        self._issued.setdefault((kind, sector, rwbs), []).append(one)

    def _forget(self, kind: int, sector: int, count: int) -> None:
        """Forget what a request was made of. The rest of a part that was split is still to come."""
        at, end = sector, sector + count
        while self._queued and at < end:
            asked = self._queued.pop((kind, at), None)
            if asked is not None and at + asked[1] > end:
                self._queued[kind, end] = (asked[0], at + asked[1] - end, asked[2])
            at += asked[1] if asked is not None else PAGE_SECTORS

    def complete(self, at: int, rwbs: bytes, sector: int, count: int) -> None:
        """Make a row of a completed request."""
        kind = _kind(rwbs)
        if kind == Kind.FLUSH:
            sector = 0
        elif not count:
            # The end of a write with its flushes, which were requests of their own.
            return
        waiting = self._issued.get((kind, sector, rwbs))
        if not waiting:
            return
        issued, kind, flags, size, asker, queued = waiting.pop(0)
        if not waiting:
            del self._issued[kind, sector, rwbs]
        self.rows.append(
            (issued, max(at, issued), kind, flags, sector * SECTOR, size, asker, queued)
        )


def _kind(rwbs: bytes) -> int:
    letters = rwbs.lstrip(b"F") if len(rwbs) > 1 else rwbs
    if rwbs in (b"F", b"FF", b"FS", b"FN"):
        return int(Kind.FLUSH)
    first = letters[:1]
    return int({b"R": Kind.READ, b"W": Kind.WRITE, b"D": Kind.DISCARD}.get(first, Kind.FLUSH))


def _flags(rwbs: bytes) -> int:
    flags = SYNC if b"S" in rwbs else 0
    flags |= AHEAD if b"A" in rwbs else 0
    flags |= METADATA if b"M" in rwbs else 0
    # A letter F behind the direction is forced unit access.
    return flags | (DURABLE if re.search(rb"[WR]F", rwbs) else 0)


def _asker(comm: bytes, pid: int, mine: set[int], *, known: bool) -> int:
    if pid in mine:
        return int(Asker.COMMAND)
    if comm.strip().startswith(SYSTEM_THREADS):
        return int(Asker.SYSTEM)
    return int(Asker.OTHER if known else Asker.COMMAND)
