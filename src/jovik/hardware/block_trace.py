"""Recording of all requests to a drive, by the kernel's trace events of block devices.

An instance of tracefs of its own, so that nobody else's tracing is disturbed (Documentation/trace/
ftrace.rst, "Instances"); of the kernel's events only those of one device. They go into a buffer of
bounded size in the kernel and from there to a file, and are read once all is over: reading them
meanwhile would take the processor from what is recorded.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
import secrets
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from jovik.base.errors import TargetError
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
from jovik.hardware.tracefs import trace_events

EVENTS = ("block/block_rq_issue", "block/block_rq_complete")
FORK = "sched/sched_process_fork"
PREFIX = "jovik-"
YOUNG_S = 2.0
BUFFER_KB = 16_384
"""Of the kernel's buffer, for each processor."""
LOOK_S = 0.1
"""How often it is looked whether a buffer gets full."""
READ_BYTES = 1 << 20
SECTOR = 512
LINE = re.compile(
    rb"^\s*(?P<comm>.{1,16})-(?P<pid>\d+)\s+\[\d+\] \S+ +(?P<s>\d+)\.(?P<us>\d{6}): "
    rb"block_rq_(?P<event>issue|complete): \d+,\d+ (?P<rwbs>[A-Z]+) (?:\d+ )?\(.*?\) "
    rb"(?P<sector>\d+) \+ (?P<count>\d+) "
)
FORKED = re.compile(rb"sched_process_fork: comm=.* pid=(\d+) child_comm=.* child_pid=(\d+)")
SYSTEM_THREADS = (b"kworker", b"jbd2", b"ksoftirqd", b"kswapd", b"dmcrypt", b"xfsaild", b"btrfs-")


@dataclass
class Tap:
    """A running trace. Captured events are in `spool`."""

    folder: Path
    spool: IO[bytes]
    lost: int = 0


@contextlib.contextmanager
def tapped(number: str) -> Iterator[Tap]:
    """Capture the requests to the device of this number (``254:0``) while this lasts.

    Raises
    ------
    TargetError
        The kernel does not permit it here, with the reason and advice.
    """
    with _instance() as folder:
        spool = tempfile.TemporaryFile()  # noqa: SIM115 (whoever reads it closes it)
        tap = Tap(folder, spool)
        _set_up(folder, number)
        stop = threading.Event()
        reader = threading.Thread(target=_drain, args=(tap, stop), daemon=True)
        reader.start()
        _write(folder / "tracing_on", "1")
        try:
            yield tap
        finally:
            _write(folder / "tracing_on", "0")
            stop.set()
            reader.join()
            tap.lost = _lost(folder)


@contextlib.contextmanager
def _instance() -> Iterator[Path]:
    """Give a folder of tracing of our own, locked while this lasts and removed at the end.

    Instances that a killed process left are removed first. A lock tells them, because the number
    of a process means nothing outside its container, and is used again inside it.
    """
    with trace_events() as events:
        for forgotten in _forgotten(events):
            _remove(forgotten)
        folder = events / "instances" / f"{PREFIX}{secrets.token_hex(6)}"
        try:
            folder.mkdir()
        except OSError as error:
            raise TargetError(
                f"the kernel's trace events may not be used: {error.strerror}",
                "recording needs root, and a system that is not locked down: sudo jovik record ...",
            ) from None
        lock = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            yield folder
        finally:
            os.close(lock)
            _remove(folder)


def left_on() -> int:
    """Return how many recordings ended without switching the kernel's tracing off again.

    0 if this process may not see the kernel's trace events.
    """
    try:
        with trace_events() as folder:
            return len(_forgotten(folder))
    except TargetError:
        return 0


def _forgotten(place: Path) -> list[Path]:
    """List Jovik's instances that no process has locked."""
    stale = []
    for folder in (place / "instances").glob(f"{PREFIX}*"):
        try:
            fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except OSError:
            continue
        try:
            # A process that has just made one may not have locked it yet.
            if time.time() - os.fstat(fd).st_ctime >= YOUNG_S:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
                stale.append(folder)
        except OSError:
            pass
        finally:
            os.close(fd)
    return stale


def _remove(folder: Path) -> None:
    """Switch an instance off and remove it with its buffers."""
    for switch in (folder / "tracing_on", folder / "events" / "enable"):
        with contextlib.suppress(OSError):
            _write(switch, "0")
    with contextlib.suppress(OSError):
        folder.rmdir()


def _set_up(folder: Path, number: str) -> None:
    major, minor = map(int, number.split(":"))
    try:
        _write(folder / "tracing_on", "0")
        _write(folder / "trace_clock", "mono")
        _write(folder / "buffer_size_kb", str(BUFFER_KB))
        for event in EVENTS:
            _write(folder / "events" / event / "filter", f"dev == {major << 20 | minor}")
            _write(folder / "events" / event / "enable", "1")
        _write(folder / "events" / FORK / "enable", "1")
    except OSError as error:
        raise TargetError(f"the kernel's trace events cannot be set: {error.strerror}") from None


def _write(path: Path, text: str) -> None:
    with path.open("w") as file:
        file.write(text)


def _drain(tap: Tap, stop: threading.Event) -> None:
    """Copy the events to the file, without parsing them.

    The kernel turns it into text when it is read, which takes time from what is recorded: so that
    is left until the end, or until a buffer is half full.
    """
    fd = os.open(tap.folder / "trace_pipe", os.O_RDONLY | os.O_NONBLOCK)
    try:
        while not stop.wait(LOOK_S):
            if _fullest(tap.folder) > BUFFER_KB * 1024 // 2:
                _drain_now(fd, tap.spool)
        _drain_now(fd, tap.spool)
    finally:
        os.close(fd)


def _drain_now(fd: int, spool: IO[bytes]) -> None:
    with contextlib.suppress(BlockingIOError):
        while content := os.read(fd, READ_BYTES):
            spool.write(content)


def _fullest(folder: Path) -> int:
    """Return bytes in the buffer of the processor that has most."""
    return max((int(s.get("bytes", 0)) for s in _buffers(folder)), default=0)


def _lost(folder: Path) -> int:
    """Events that there was no room for, of all processors."""
    return sum(int(s.get("overrun", 0)) + int(s.get("dropped events", 0)) for s in _buffers(folder))


def _buffers(folder: Path) -> Iterator[dict[str, str]]:
    """Yield the kernel's statistics of each processor's buffer."""
    for stats in (folder / "per_cpu").glob("cpu*/stats"):
        lines = stats.read_text().splitlines()
        yield dict(line.split(": ", 1) for line in lines if ": " in line)


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
    lines: IO[bytes], name: str, begin_ns: int, end_ns: int, process: int | None, **more: object
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
    **more
        Further fields of `Recording`.
    """
    processes = {process} if process is not None else set()
    elapsed = max(end_ns - begin_ns, 0)
    open_ones: dict[tuple[int, bytes], list[tuple[int, int, int, int, int]]] = {}
    rows: list[tuple[int, int, int, int, int, int, int]] = []
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
        rwbs = match["rwbs"]
        sector, count = int(match["sector"]), int(match["count"])
        kind = _kind(rwbs)
        key = (sector, rwbs)
        if match["event"] == b"issue":
            asker = _asker(match["comm"], int(match["pid"]), processes, known=process is not None)
            open_ones.setdefault(key, []).append((at, kind, _flags(rwbs), count, asker))
        elif key in open_ones:
            issued, kind, flags, whole, asker = open_ones[key].pop(0)
            if not open_ones[key]:
                del open_ones[key]
            size = whole * SECTOR if kind <= Kind.WRITE else count * SECTOR
            # What was asked for after the end is not the command's any more.
            if 0 <= issued <= elapsed and (kind > Kind.WRITE or size > 0):
                rows.append((issued, max(at, issued), kind, flags, sector * SECTOR, size, asker))
    elapsed = max([elapsed, *(done for _, done, *_ in rows)])
    return made_recording(name, rows, elapsed, **more)


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
