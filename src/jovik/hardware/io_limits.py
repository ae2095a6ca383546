"""Limits that control groups set on a process's I/O (cgroups(7), Documentation/admin-guide)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from jovik.hardware.mounts import read_mounts

KNOBS = {"r": "read", "w": "write"}
UNITS = {"bps": "bytes", "iops": "I/Os"}


@dataclass(frozen=True)
class IoLimit:
    """So many `unit` (``bytes`` or ``I/Os``) a second of one direction to a device number."""

    number: str
    direction: str
    unit: str
    per_s: int


def io_limits(proc: Path = Path("/proc")) -> list[IoLimit]:
    """Return the limits of this process's control groups, of both versions and all levels."""
    found: dict[IoLimit, None] = {}
    for folder in _folders(proc):
        for path in folder.glob("blkio.throttle.*_device"):
            direction, unit, _ = path.name.removeprefix("blkio.throttle.").split("_", 2)
            for line in _lines(path):
                number, _, value = line.partition(" ")
                if value.isdecimal() and unit in UNITS:
                    found[IoLimit(number, direction, UNITS[unit], int(value))] = None
        for line in _lines(folder / "io.max"):
            number, *values = line.split()
            for name, _, value in (v.partition("=") for v in values):
                if value.isdecimal() and name[1:] in UNITS:
                    found[IoLimit(number, KNOBS[name[0]], UNITS[name[1:]], int(value))] = None
    return list(found)


def _folders(proc: Path) -> Iterator[Path]:
    """Yield the folders of the control groups of this process, and of those above them."""
    places = [
        (m.kind, Path(m.point), m.options) for each in read_mounts(proc).values() for m in each
    ]
    for line in _lines(proc / "self" / "cgroup"):
        number, controllers, path = line.split(":", 2)
        for kind, top, options in places:
            of_version_2 = number == "0" and kind == "cgroup2"
            of_version_1 = kind == "cgroup" and "blkio" in controllers.split(",")
            if of_version_2 or (of_version_1 and "blkio" in options):
                inner = top / path.lstrip("/")
                yield from (p for p in (inner, *inner.parents) if p.is_relative_to(top))


def _lines(path: Path) -> list[str]:
    try:
        return path.read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return []
