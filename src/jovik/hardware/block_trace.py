"""Recording of all requests to a drive, by the kernel's trace events of block devices.

An instance of tracefs of its own, so that nobody else's tracing is disturbed (Documentation/trace/
ftrace.rst, "Instances"); of the kernel's events only those of one device. They go into a buffer of
bounded size in the kernel and from there to a file, and are read once all is over: reading them
meanwhile would take the processor from what is recorded.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import IO

from jovik.base.errors import TargetError
from jovik.hardware.tracefs import trace_events

EVENTS = ("block/block_bio_queue", "block/block_rq_issue", "block/block_rq_complete")
FORK = "sched/sched_process_fork"
PREFIX = "jovik-"
YOUNG_S = 2.0
BUFFER_KB = 16_384
"""Of the kernel's buffer, for each processor."""
LOOK_S = 0.1
"""How often it is looked whether a buffer gets full."""
READ_BYTES = 1 << 20
SWITCH, WAKING = "sched/sched_switch", "sched/sched_waking"


@dataclass
class Tap:
    """A running trace. Captured events are in `spool`."""

    folder: Path
    spool: IO[bytes]
    lost: int = 0
    sleeps: IO[bytes] | None = None


@contextlib.contextmanager
def tapped(number: str, *, sleeps: bool = False) -> Iterator[Tap]:
    """Capture the requests to the device of this number (``254:0``) while this lasts.

    With `sleeps`, capture also when this process and its descendants sleep uninterruptibly: a
    limit holds requests back before the kernel has an event for them. This costs as much again.

    Raises
    ------
    TargetError
        The kernel does not permit it here, with the reason and advice.
    """
    with _capturing(partial(_set_up, number=number)) as tap:
        if not sleeps:
            yield tap
            return
        with _capturing(_set_up_sleeps) as other:
            tap.sleeps = other.spool
            yield tap
        tap.lost += other.lost


@contextlib.contextmanager
def _capturing(set_up: Callable[[Path], None]) -> Iterator[Tap]:
    """Capture the events that `set_up` chooses in an instance of their own while this lasts."""
    with _instance() as folder:
        spool = tempfile.TemporaryFile()  # noqa: SIM115 (whoever reads it closes it)
        tap = Tap(folder, spool)
        try:
            _write(folder / "tracing_on", "0")
            _write(folder / "trace_clock", "mono")
            _write(folder / "buffer_size_kb", str(BUFFER_KB))
            set_up(folder)
        except OSError as error:
            raise TargetError(
                f"the kernel's trace events cannot be set: {error.strerror}"
            ) from None
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
            tap.lost += _lost(folder)


@contextlib.contextmanager
def _instance() -> Iterator[Path]:
    """Give a folder of tracing of our own, locked while this lasts and removed at the end.

    Instances that a killed process left are removed first. A lock tells them, because the number
    of a process means nothing outside its container, and is used again inside it.
    """
    import fcntl

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
    import fcntl

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
    # What is asked of a partition has its number until it is issued.
    devices = " || ".join(f"dev == {n}" for n in _numbers(number))
    for event in EVENTS:
        _write(folder / "events" / event / "filter", devices)
        _write(folder / "events" / event / "enable", "1")
    _write(folder / "events" / FORK / "enable", "1")


def _set_up_sleeps(folder: Path) -> None:
    _write(folder / "options" / "event-fork", "1")
    # The thread that starts the command, whose descendants follow.
    _write(folder / "set_event_pid", str(threading.get_native_id()))
    _write(folder / "events" / SWITCH / "filter", "prev_state & 2")
    for event in (SWITCH, WAKING):
        _write(folder / "events" / event / "enable", "1")


def _numbers(number: str, sys: Path = Path("/sys")) -> Iterator[int]:
    """Yield a device's number and those of its partitions, as trace events have them."""
    folder = sys / "dev" / "block" / number
    parts = [p.with_name("dev").read_text().strip() for p in folder.glob("*/partition")]
    for one in (number, *parts):
        major, minor = map(int, one.split(":"))
        yield major << 20 | minor


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
