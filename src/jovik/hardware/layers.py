"""The layers between a file system and its drives: encryption, volumes, RAID, images."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from jovik.hardware.device import number, text

_DM = {
    "CRYPT": "encryption (dm-crypt)",
    "LVM": "logical volume (LVM)",
    "mpath": "multipath",
    "VERITY": "dm-verity",
    "INTEGRITY": "dm-integrity",
    "CACHE": "dm-cache",
}
"""Kinds of device-mapper volumes by the first word of their uuid, as their tools set it."""


@dataclass(frozen=True)
class Stack:
    """The layers from the file system down, in words, and the drives at the bottom by name."""

    layers: tuple[str, ...] = ()
    drives: tuple[str, ...] = ()


def stack_of(device_number: str, sys: Path = Path("/sys")) -> Stack:
    """Return the layers under a mounted block device, or nothing if the kernel names none.

    Parameters
    ----------
    device_number : str
        Its major and minor number, ``253:0``.
    """
    entry = sys / "dev" / "block" / device_number
    if not entry.exists():
        return Stack()
    layers: list[str] = []
    drives: list[str] = []
    _walk(entry.resolve(), layers, drives)
    return Stack(tuple(dict.fromkeys(layers)), tuple(dict.fromkeys(drives)))


def _walk(entry: Path, layers: list[str], drives: list[str]) -> None:
    if (entry / "partition").exists():
        entry = entry.parent
    name = layer_name(entry)
    if name:
        layers.append(name)
    slaves = sorted((entry / "slaves").iterdir()) if (entry / "slaves").is_dir() else []
    for below in slaves:
        _walk(below.resolve(), layers, drives)
    if not slaves:
        drives.append(entry.name)


def layer_name(entry: Path) -> str:
    """Return the kind of a block device other than a drive, or an empty string for a drive.

    Parameters
    ----------
    entry : Path
        Its folder in sysfs.
    """
    if (entry / "dm").is_dir():
        kind = text(entry / "dm" / "uuid").split("-")[0]
        return _DM.get(kind, "device-mapper volume")
    if (entry / "md").is_dir():
        count = number(entry / "md" / "raid_disks")
        level = text(entry / "md" / "level").replace("raid", "RAID ")
        return f"{level or 'RAID'} of {count} drives (md)"
    if entry.name.startswith("bcache"):
        return "cache in front of a disk (bcache)"
    if entry.name.startswith("loop") and text(entry / "loop" / "backing_file"):
        return "image file (loop device)"
    return ""
