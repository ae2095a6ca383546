"""Recording a command's requests to the drive under a folder."""

from __future__ import annotations

import contextlib
import datetime
import os
import signal
import subprocess
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from jovik.analysis.statistics import interval
from jovik.base.errors import TargetError, UsageError
from jovik.base.interruption import take_notice
from jovik.base.interval import Interval
from jovik.base.one_thread import environment_of_others
from jovik.base.recording import Recording
from jovik.hardware.block_events import family_of, recording_of
from jovik.hardware.block_trace import tapped
from jovik.hardware.device import BlockDevice
from jovik.hardware.io_limits import IoLimit, io_limits
from jovik.hardware.opened_files import OpenedFile, drop_all_from_memory, drop_from_memory, watched
from jovik.hardware.target import DeviceTarget, FolderTarget, resolve

PATIENCE_S = 5.0
"""How long a command may take to end once it is asked to."""
SETTLE_S = 0.2
"""Time that requests under way may take after the end."""


def drive_under(target: str) -> BlockDevice:
    """Return the drive whose requests are recorded.

    Raises
    ------
    TargetError
        No drive can be identified there.
    """
    resolved = resolve(target)
    device = resolved.device if isinstance(resolved, DeviceTarget) else None
    if isinstance(resolved, FolderTarget):
        from jovik.hardware.device import under_folder

        device = under_folder(resolved.path)[0]
    if device is None or not device.number:
        raise TargetError(
            f"no drive can be identified under {target}",
            "name a folder on one drive, or the drive itself",
        )
    return device


@dataclass(frozen=True)
class Taken:
    """The result of recording a command, once or several times.

    Attributes
    ----------
    recordings : tuple of Recording
        In the order in which they were made.
    cold_files : int or None
        How many files memory was made to forget before each, or None if nothing was asked for.
    held_bytes : int or None
        Bytes of them that memory still held, or None if the kernel does not report it.
    left_out : int
        Openings of further files, which were too many to keep track of.
    interrupted : bool
        True if a signal ended the last one.
    limits : tuple of IoLimit
        What control groups limited meanwhile.
    """

    recordings: tuple[Recording, ...]
    cold_files: int | None = None
    held_bytes: int | None = None
    left_out: int = 0
    interrupted: bool = False
    limits: tuple[IoLimit, ...] = ()

    @property
    def middle(self) -> Recording:
        """Return the one whose duration is the median, or the shorter one of two."""
        ordered = sorted(self.recordings, key=lambda r: r.elapsed_ns)
        return ordered[(len(ordered) - 1) // 2]

    @property
    def elapsed_s(self) -> Interval:
        """Return how long the command took, with an interval if it ran several times."""
        return interval([max(r.elapsed_ns, 1) / 1e9 for r in self.recordings])


def take(
    words: Sequence[str],
    target: str = ".",
    *,
    name: str | None = None,
    time_ns: int | None = None,
    repeat: int = 1,
    cold: str | None = None,
    keep_names: bool = False,
    on_progress: Callable[[str], None] = lambda _: None,
) -> Taken:
    """Record the requests to the drive under `target` while a command runs, `repeat` times.

    Parameters
    ----------
    words : sequence of str
        The command and its arguments; empty to record everything that the machine does.
    time_ns : int, optional
        How long; until the command ends, or until Ctrl-C, unless given.
    cold : str, optional
        ``files``: run the command once beforehand to see which files it opens, and drop these from
        memory before each time that is recorded. ``all``: drop all that memory keeps of drives,
        names and attributes too.
    keep_names : bool
        Keep the command's arguments, and the names of the files that it opened, in the recording.
    on_progress : callable
        Given a line before each time.

    Raises
    ------
    TargetError
        It cannot be recorded here.
    UsageError
        There is no such command, or none where one is needed.
    """
    if not words and (cold or repeat > 1):
        raise UsageError("--cold and --repeat need a command", "add: -- COMMAND ...")
    device, about, limits = drive_under(target), {}, tuple(io_limits())
    if keep_names:
        about["command"] = tuple(words)
    recordings: list[Recording] = []
    count = held = None
    files: list[OpenedFile] = []
    left_out = 0
    if cold == "files":
        on_progress("a first time, to see which files it opens")
        files, left_out = _rehearsed(words, target, device, time_ns)
        if keep_names:
            about["files"] = tuple(sorted(f.path for f in files))
    interrupted = False
    for number in range(repeat):
        if cold == "all":
            drop_all_from_memory()
        elif cold:
            count, held_bytes = drop_from_memory(files)
            held = max(held_bytes, held or 0) if held_bytes is not None else None
        if repeat > 1:
            on_progress(f"{number + 1} of {repeat}")
        one, interrupted = _once(words, device, name, time_ns, about, sleeps=bool(limits))
        recordings.append(one)
        if interrupted:
            break
    return Taken(tuple(recordings), count, held, left_out, interrupted, limits)


def _rehearsed(
    words: Sequence[str],
    target: str,
    device: BlockDevice,
    time_ns: int | None,
) -> tuple[list[OpenedFile], int]:
    """Return files that the command opens on this file system, and openings of too many others."""
    if not isinstance(resolve(target), FolderTarget):
        raise UsageError("--cold needs a folder on the drive", "name one with --on")
    with watched(target) as opened, tapped(device.number) as tap:
        process = _start(words)
        try:
            _wait(process, time_ns)
        finally:
            _end(process)
    with tap.spool as spool:
        return opened.of(family_of(spool, process.pid)), opened.left_out


def _once(
    words: Sequence[str],
    device: BlockDevice,
    name: str | None,
    time_ns: int | None,
    about: dict[str, tuple[str, ...]],
    *,
    sleeps: bool,
) -> tuple[Recording, bool]:
    """Return a recording, and whether a signal ended it."""
    process, interrupted = None, False
    with tapped(device.number, sleeps=sleeps and bool(words)) as tap:
        begin = time.monotonic_ns()
        try:
            if words:
                process = _start(words)
            _wait(process, time_ns)
        except KeyboardInterrupt:
            # Who ends it has what there is so far.
            take_notice()
            interrupted = True
        finally:
            _end(process)
        end = time.monotonic_ns()
        time.sleep(SETTLE_S)
    with tap.spool as spool, tap.sleeps or contextlib.nullcontext() as slept:
        recording = recording_of(
            spool,
            name or (Path(words[0]).name if words else "everything"),
            begin,
            end,
            process.pid if process is not None else None,
            slept,
            lost=tap.lost,
            drive=" ".join(x for x in (device.maker, device.model) if x) or device.kind,
            status=process.returncode if process is not None else None,
            made=datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
            **about,
        )
    return recording, interrupted


def _end(process: subprocess.Popen[bytes] | None) -> None:
    if process is None or process.poll() is not None:
        return
    process.terminate()
    try:
        process.wait(PATIENCE_S)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


def _start(words: Sequence[str]) -> subprocess.Popen[bytes]:
    try:
        return subprocess.Popen(list(words), env=environment_of_others())
    except OSError as error:
        raise UsageError(
            f"'{words[0]}' cannot be started: {os.strerror(error.errno or 0)}"
        ) from None


def _wait(process: subprocess.Popen[bytes] | None, time_ns: int | None) -> None:
    seconds = time_ns / 1e9 if time_ns is not None else None
    if process is not None:
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(seconds)
    elif seconds is not None:
        time.sleep(seconds)
    else:
        signal.pause()
