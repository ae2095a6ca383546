"""The duration of the machine's last boot, as systemd reports it.

The properties are those of its manager's public interface (org.freedesktop.systemd1(5)); they are
asked for with systemctl(1), whose ``show`` is for programs to read.
"""

from __future__ import annotations

import shutil
import subprocess
from dataclasses import dataclass

from jovik.base.errors import TargetError

PROPERTIES = (
    "FirmwareTimestampMonotonic",
    "LoaderTimestampMonotonic",
    "InitRDTimestampMonotonic",
    "UserspaceTimestampMonotonic",
    "FinishTimestampMonotonic",
)
TIMEOUT_S = 10.0


@dataclass(frozen=True)
class BootTimes:
    """Parts of a boot in seconds, None if systemd does not report them."""

    firmware_s: float | None
    loader_s: float | None
    kernel_s: float
    services_s: float
    method: str = "systemd, to the end of start-up"

    @property
    def total_s(self) -> float:
        """Return all of it that is known."""
        return sum(x for _, x in self.parts)

    @property
    def parts(self) -> list[tuple[str, float]]:
        """Return each part that is known, by name."""
        every = [
            ("firmware", self.firmware_s),
            ("loader", self.loader_s),
            ("kernel", self.kernel_s),
            ("services", self.services_s),
        ]
        return [(name, x) for name, x in every if x is not None]


def last_boot() -> BootTimes:
    """Return the times of the last boot.

    Raises
    ------
    TargetError
        There is no systemd, or its start-up is not over yet.
    """
    program = shutil.which("systemctl")
    if program is None:
        raise TargetError(
            "this system's last boot is unknown: there is no systemctl here",
            "note it by hand: --reading 'boot time=8.1s' --method 'stopwatch, to the desktop'",
        )
    words = [program, "show", *(f"--property={p}" for p in PROPERTIES)]
    try:
        done = subprocess.run(words, capture_output=True, text=True, timeout=TIMEOUT_S, check=True)
    except (OSError, subprocess.SubprocessError) as error:
        why = (getattr(error, "stderr", "") or str(error)).strip().splitlines() or ["it failed"]
        raise TargetError(f"systemd does not report the last boot: {why[0]}") from None
    return boot_of(done.stdout)


def boot_of(text: str) -> BootTimes:
    """Return the times from lines such as ``FinishTimestampMonotonic=9512345``, in microseconds.

    Times of firmware and loader count backwards from when the kernel began; the others onwards.

    Raises
    ------
    TargetError
        The start-up is not over yet, or something is missing.
    """
    times: dict[str, int] = {}
    for line in text.splitlines():
        name, _, value = line.partition("=")
        if name in PROPERTIES and value.strip().isdecimal():
            times[name] = int(value)
    firmware, loader, _, user, finish = (times.get(p, 0) for p in PROPERTIES)
    if not user or finish < user:
        raise TargetError(
            "systemd does not report when this system's start-up ended",
            "wait until it is over: systemctl is-system-running --wait",
        )
    return BootTimes(
        (firmware - loader) / 1e6 if firmware > loader else None,
        loader / 1e6 if loader else None,
        user / 1e6,
        (finish - user) / 1e6,
    )
