"""Recording what a command asks of the drive under a folder."""

from __future__ import annotations

import contextlib
import datetime
import os
import signal
import subprocess
import time
from collections.abc import Sequence
from pathlib import Path

from jovik.base.errors import TargetError, UsageError
from jovik.base.recording import Recording
from jovik.hardware.block_trace import recording_of, tapped
from jovik.hardware.device import BlockDevice
from jovik.hardware.target import DeviceTarget, FolderTarget, resolve

SETTLE_S = 0.2
"""How long what is on its way may take to reach the drive and come back after the end."""


def drive_under(target: str) -> BlockDevice:
    """The drive whose requests are recorded.

    Raises
    ------
    TargetError
        No drive can be told there.
    """
    place = resolve(target)
    device = place.device if isinstance(place, DeviceTarget) else None
    if isinstance(place, FolderTarget):
        from jovik.hardware.device import under_folder

        device = under_folder(place.path)[0]
    if device is None or not device.number:
        raise TargetError(
            f"no drive can be told under {target}",
            "name a folder on one drive, or the drive itself",
        )
    return device


def record(
    words: Sequence[str],
    target: str = ".",
    *,
    name: str | None = None,
    time_ns: int | None = None,
) -> Recording:
    """Take down what reaches the drive under `target` while a command runs.

    Parameters
    ----------
    words : sequence of str
        The command and its arguments; empty to record everything that the machine does.
    time_ns : int, optional
        How long; until the command ends, or until Ctrl-C, unless given.

    Raises
    ------
    TargetError
        It cannot be recorded here.
    UsageError
        There is no such command.
    """
    device = drive_under(target)
    with tapped(device.number) as tap:
        begin = time.monotonic_ns()
        process = None
        try:
            if words:
                process = _start(words)
            _wait(process, time_ns)
        except KeyboardInterrupt:
            # Who ends it has what there is so far.
            pass
        finally:
            if process is not None and process.poll() is None:
                process.send_signal(signal.SIGTERM)
                with contextlib.suppress(subprocess.TimeoutExpired):
                    process.wait(5)
        end = time.monotonic_ns()
        time.sleep(SETTLE_S)
    with tap.spool as spool:
        return recording_of(
            spool,
            name or (Path(words[0]).name if words else "everything"),
            begin,
            end,
            process.pid if process is not None else None,
            lost=tap.lost,
            drive=" ".join(x for x in (device.maker, device.model) if x) or device.kind,
            status=process.returncode if process is not None else None,
            made=datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
        )


def _start(words: Sequence[str]) -> subprocess.Popen[bytes]:
    try:
        return subprocess.Popen(list(words))
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
