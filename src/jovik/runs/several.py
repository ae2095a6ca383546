"""Several targets in one command: which words are targets, and which drives are here."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from jovik.analysis.readiness import LOW_SPACE_BYTES
from jovik.base.errors import TargetError, UsageError
from jovik.base.quantities import show_size
from jovik.engine.reserved_space import writable_bytes
from jovik.hardware.device import BlockDevice, devices, under_folder
from jovik.hardware.mounts import Mount
from jovik.hardware.target import MODEL, DeviceTarget, FolderTarget, ModelTarget, Target
from jovik.steps.registry import STEPS

IO_WORDS = ("sequential", "random")
"""The first word of an access step."""


def split_words(words: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return the targets that a command's words begin with, and the phrases after them.

    The first word is a target in any case. A phrase is recognised by its beginning.
    """
    first_words = {*IO_WORDS, *(s.word for s in STEPS)}
    count = 1
    for word in words[1:]:
        names_step = word.split()[0] in first_words if word.split() else True
        is_target = word.startswith(MODEL) or os.path.exists(word) or " " not in word
        if names_step or not is_target:
            break
        count += 1
    return list(words[:count]), list(words[count:])


@dataclass(frozen=True)
class LeftOutDrive:
    """A drive that is not measured, and why."""

    node: str
    name: str
    why: str


@dataclass(frozen=True)
class DrivesHere:
    """Return folders to measure, one per drive, and the drives without one."""

    folders: tuple[Path, ...]
    left_out: tuple[LeftOutDrive, ...]


def every_drive() -> DrivesHere:
    """Return a folder on each drive of this machine, never a raw device.

    Raises
    ------
    TargetError
        There is no drive that can be measured, with the reasons.
    """
    folders: list[Path] = []
    left_out: list[LeftOutDrive] = []
    for device in devices():
        folder = _folder_on(device)
        if isinstance(folder, Path):
            folders.append(folder)
        else:
            name = " ".join(x for x in (device.maker, device.model) if x)
            left_out.append(LeftOutDrive(device.node, name or device.kind, folder))
    if not folders:
        reasons = "; ".join(f"{x.node}: {x.why}" for x in left_out) or "no drive is here"
        raise TargetError(
            f"no drive here can be measured through a folder ({reasons})",
            "mount one, or name a folder, a raw device or a model drive such as model:comet",
        )
    return DrivesHere(tuple(folders), tuple(left_out))


def _folder_on(device: BlockDevice) -> Path | str:
    """Return a writable folder with space on a drive, or the reason why there is none."""
    if not device.all_mounts:
        return "none of it is mounted"
    if all(m.read_only for m in device.all_mounts):
        return "it is mounted read-only"
    free: dict[Path, int] = {}
    elsewhere, over_several = "", False
    for point in _candidates(device.all_mounts):
        under, _ = under_folder(point)
        if under is None or under.name != device.name:
            # The file system of an image that lies on a drive is on that drive.
            over_several = over_several or under is None
            elsewhere = under.name if under is not None and device.kind == "loop" else elsewhere
            continue
        if os.access(point, os.W_OK | os.X_OK) and not os.statvfs(point).f_flag & os.ST_RDONLY:
            held = os.statvfs(point)
            total, unused = held.f_blocks * held.f_frsize, held.f_bavail * held.f_frsize
            free[point] = writable_bytes(total, unused)
    if not free and elsewhere:
        return f"it is an image on {elsewhere}"
    if not free and over_several:
        return "its file system lies on several drives, and is no one drive's"
    if not free:
        return "no folder on it may be written by you"
    best = max(free, key=lambda p: free[p])
    if free[best] < LOW_SPACE_BYTES:
        return f"only {show_size(free[best])} are free on it beyond the reserve"
    return best


def _candidates(mounts: Sequence[Mount]) -> list[Path]:
    """Mount points that are folders, and the person's own folder, which may lie on the drive."""
    points = [Path(m.point) for m in mounts if not m.read_only]
    return [p for p in dict.fromkeys([*points, Path.home()]) if p.is_dir()]


def refuse_shared(targets: Sequence[Target]) -> None:
    """Refuse two targets on one drive.

    Raises
    ------
    UsageError
        With both.
    """
    word_of: dict[str, str] = {}
    for target in targets:
        at = _drive_of(target)
        words = target.describe()
        name = words.get("path") or f"{MODEL}{words['name']}"
        if at is not None and at in word_of:
            raise UsageError(
                f"{word_of[at]} and {name} are on one drive",
                "measure one of them, or both at the same moment with --together",
            )
        if at is not None:
            word_of[at] = name


def _drive_of(target: Target) -> str | None:
    if isinstance(target, ModelTarget):
        return f"{MODEL}{target.name}"
    device = device_under(target)
    return device.name if device is not None else None


def device_under(target: Target) -> BlockDevice | None:
    """Return the drive that a target is or lies on.

    None for a model drive, or if unknown.
    """
    if isinstance(target, DeviceTarget):
        return target.device
    if isinstance(target, FolderTarget):
        return under_folder(target.path)[0]
    return None
