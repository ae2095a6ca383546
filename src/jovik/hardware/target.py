"""From the word that the user types to a target.

A folder on a mounted file system, a raw device, or a model drive.
"""

from __future__ import annotations

import os
import stat
from dataclasses import dataclass
from pathlib import Path

from jovik.base.errors import TargetError, UsageError
from jovik.base.this_system import need_posix
from jovik.hardware.device import BlockDevice, by_node, devices, partition_of, under_folder
from jovik.hardware.layers import Stack, stack_of
from jovik.hardware.mounts import Mount

MODEL = "model:"


@dataclass(frozen=True)
class FolderTarget:
    """A folder that test files can be made in."""

    path: Path

    def describe(self) -> dict[str, str]:
        """Return its kind and place, for results."""
        return {"kind": "folder", "path": str(self.path)}


@dataclass(frozen=True)
class ModelTarget:
    """A simulated drive, by name."""

    name: str

    def describe(self) -> dict[str, str]:
        """Return its kind and name, for results."""
        return {"kind": "model", "name": self.name}


@dataclass(frozen=True)
class DeviceTarget:
    """A whole block device."""

    device: BlockDevice

    def describe(self) -> dict[str, str]:
        """Return its kind and place, for results."""
        return {"kind": "device", "path": self.device.node}


Target = FolderTarget | ModelTarget | DeviceTarget


def resolve(word: str) -> Target:
    """Return the target that a word names.

    Raises
    ------
    TargetError
        It is missing, no folder, or cannot be written.
    """
    if word.startswith(MODEL):
        return ModelTarget(word.removeprefix(MODEL))
    need_posix()
    path = Path(word)
    try:
        mode = path.stat().st_mode
    except OSError as error:
        near = _nearest(path)
        raise TargetError(
            f"the target {word} cannot be used: {error.strerror}",
            f"the nearest folder there is: {near}",
        ) from None
    if stat.S_ISBLK(mode):
        device = by_node(path)
        if device is None:
            whole = partition_of(path)
            raise TargetError(
                f"{word} is a partition of {whole.node}"
                if whole is not None
                else f"the kernel does not report what {word} is",
                "name the whole drive, or a folder on its file system; see jovik scout",
            )
        return DeviceTarget(device)
    if not stat.S_ISDIR(mode):
        raise TargetError(
            f"the target {word} is not a folder",
            "name a folder on the drive to be tested, or a model drive such as model:comet",
        )
    if not os.access(path, os.W_OK | os.X_OK):
        raise TargetError(
            f"the folder {word} cannot be written",
            "name one that you may write to, or change its permissions",
        )
    if os.statvfs(path).f_flag & os.ST_RDONLY:
        raise TargetError(
            f"the file system under {word} is mounted read-only",
            "mount it for writing, or name another folder",
        )
    return FolderTarget(path.resolve())


def _nearest(path: Path) -> Path:
    whole = Path(os.path.abspath(path))
    return next((p for p in whole.parents if p.is_dir()), Path("/"))


def devices_under(target: str | None) -> list[BlockDevice]:
    """Return all drives, or the one that a target is or lies on.

    Raises
    ------
    TargetError
        No drive can be identified under a folder.
    UsageError
        A model drive.
    """
    if target is None:
        need_posix()
        return devices()
    resolved = resolve(target)
    if isinstance(resolved, DeviceTarget):
        return [resolved.device]
    if isinstance(resolved, FolderTarget):
        device, mount = under_folder(resolved.path)
        if device is None:
            stack = stack_of(mount.number) if mount else Stack()
            if stack.layers:
                raise TargetError(
                    f"{target} lies on {' and '.join(stack.drives)} through "
                    f"{', '.join(stack.layers)}: no one drive",
                    f"measure it as a whole: jovik measure {target}; or check one drive: "
                    f"jovik scout /dev/{stack.drives[0]}",
                )
            raise TargetError(
                f"no drive can be identified under {target}",
                f"it is on {mount.kind} ({mount.source})" if mount else "",
            )
        return [device]
    raise UsageError("a model drive has no link or port", "jovik sheet show describes it")


def mount_under(target: str | None) -> Mount | None:
    """Return the mount of a folder, or None for anything else."""
    if target is None or not Path(target).is_dir():
        return None
    return under_folder(Path(target))[1]
