"""Mounts and swap areas: /proc/self/mountinfo and /proc/swaps (proc(5))."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

LEAST_WORDS = 6
"""Of a line, before the hyphen (proc_pid_mountinfo(5))."""


@dataclass(frozen=True)
class Mount:
    """One mount: its device number, folder, type, source and options."""

    number: str
    point: str
    kind: str
    source: str
    options: tuple[str, ...]
    order: int = 0

    @property
    def read_only(self) -> bool:
        """Return True if it was mounted so."""
        return "ro" in self.options

    def option(self, name: str) -> str:
        """Return the value of an option, or nothing."""
        return next((o.split("=", 1)[1] for o in self.options if o.startswith(name + "=")), "")

    def fill_percent(self) -> float | None:
        """Return how full the file system is, or None if that is unknown."""
        try:
            s = os.statvfs(self.point)
        except OSError:
            return None
        used = s.f_blocks - s.f_bfree
        return 100.0 * used / (used + s.f_bavail) if used + s.f_bavail else None


def _plain(word: str) -> str:
    """mountinfo writes blanks, tabs, line ends and backslashes as octal."""
    return re.sub(r"\\([0-7]{3})", lambda m: chr(int(m[1], 8)), word)


def read_mounts(proc: Path = Path("/proc"), process: str = "self") -> dict[str, list[Mount]]:
    """Return all mounts by device number (``"259:1"``), as a process sees them."""
    by_device: dict[str, list[Mount]] = {}
    try:
        lines = (
            (proc / process / "mountinfo")
            .read_text(encoding="utf-8", errors="replace")
            .splitlines()
        )
    except OSError:
        return by_device
    for order, line in enumerate(lines):
        words = line.split(" ")
        middle = words.index("-") if "-" in words else 0
        if middle < LEAST_WORDS or len(words) < middle + 4:
            continue
        options = tuple(dict.fromkeys([*words[5].split(","), *words[middle + 3].split(",")]))
        one = Mount(
            words[2],
            _plain(words[4]),
            words[middle + 1],
            _plain(words[middle + 2]),
            tuple(map(_plain, options)),
            order,
        )
        by_device.setdefault(one.number, []).append(one)
    return by_device


def read_swaps(proc: Path = Path("/proc")) -> set[str]:
    """Device nodes that are swapped to."""
    try:
        lines = (proc / "swaps").read_text(encoding="utf-8", errors="replace").splitlines()[1:]
    except OSError:
        return set()
    return {_plain(line.split()[0]) for line in lines if line.strip()}
