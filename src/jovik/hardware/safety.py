"""Whether a raw device may be written: never one that anybody uses, and only the one named.

A device that is to be written is opened exclusively first. Who it is and what lies on it is then
read through that descriptor, which is held until the run ends, so that what was looked at is what
is written.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from jovik.base.errors import TargetError
from jovik.base.quantities import show_size
from jovik.hardware.contents import Contents, look_into
from jovik.hardware.device import BlockDevice, device_of, devices
from jovik.hardware.device_users import moving_bytes, occupants, writers

WORTHLESS_OPTION = "--content-worthless"
"""The option that declares the content of a device worthless."""


@dataclass(frozen=True)
class WriteSafety:
    """Reasons against writing a device.

    Attributes
    ----------
    refusals : tuple of str
        Reasons that nothing overrules, the weightiest first.
    unknown_content : str
        Its content that cannot be identified, empty if there is none.
    blank : str
        How far it is known to be blank, in words; empty if something was found.
    note : str
        Checks that were not possible.
    """

    refusals: tuple[str, ...] = ()
    unknown_content: str = ""
    note: str = ""
    blank: str = ""


def safety_of(
    device: BlockDevice,
    system: str | None,
    *,
    fd: int | None = None,
    look_inside: bool = True,
    whole: bool = False,
) -> WriteSafety:
    """Return the reasons against writing a device.

    Parameters
    ----------
    system : str or None
        Kernel name of the drive the running system is on.
    fd : int, optional
        Through which its content is read; its node is opened for reading unless given.
    look_inside : bool
        Look for marks and data if nothing else speaks against it; needs the right to read it.
    whole : bool
        If true, read a small device completely (`jovik.hardware.contents.look_into`).
    """
    refusal = _outside(device, system)
    if not look_inside or refusal:
        return WriteSafety(tuple(refusal))
    try:
        contents = _contents(device, fd, whole=whole)
    except OSError as error:
        why = error.strerror or str(error)
        return WriteSafety((f"it cannot be looked into: {why}",))
    if contents.marks:
        return WriteSafety(contents.marks, note=contents.note)
    if contents.data_at is not None:
        unknown = f"something is on it, at {show_size(contents.data_at)} from its start"
        return WriteSafety((), unknown, contents.note)
    return WriteSafety((), "", contents.note, contents.blank_words)


def _outside(device: BlockDevice, system: str | None) -> list[str]:
    """Return the reasons against writing it that need no read."""
    users = []
    if device.is_system or device.name == system:
        users.append("it is the drive this system runs from")
    entry = Path("/sys/dev/block") / device.number
    if device.number and entry.exists():
        users += occupants(entry.resolve())
    if device.read_only:
        users.append("it is read-only")
    if device.partitions:
        count = len(device.partitions)
        users.append(f"it has {count} partition{'s' if count > 1 else ''}")
    return users


def _contents(device: BlockDevice, fd: int | None, *, whole: bool) -> Contents:
    # Opened anew through the descriptor it is the same device, and read through the page cache,
    # which has what another program wrote a moment ago.
    with open(f"/proc/self/fd/{fd}" if fd is not None else device.node, "rb") as opened:
        return look_into(opened, device.capacity_bytes, whole=whole)


def sample_name(device: BlockDevice) -> str:
    """Return the user's name for a sample: its serial, or the backing file of a loop device."""
    return device.serial or (device.model if device.kind == "loop" else "")


def open_exclusively(device: BlockDevice, system: str | None) -> int:
    """Return a descriptor for reading that keeps others from mounting or formatting the device.

    It is not opened for writing: closing it then would have udev look at the device anew, and bring
    up again what its owner has stopped, such as a RAID.

    Raises
    ------
    TargetError
        It cannot be opened, or another process uses it.
    """
    try:
        fd = os.open(device.node, os.O_RDONLY | os.O_EXCL | os.O_CLOEXEC)
    except OSError as error:
        against = safety_of(device, system, look_inside=False).refusals
        if error.errno == errno.EBUSY and not against:
            against = ("another process uses it",)
        if against:
            raise _refusal(device, against) from None
        raise _not_opened(device, error) from None
    return fd


def _not_opened(device: BlockDevice, error: OSError) -> TargetError:
    rights = f"it needs rights: sudo jovik measure {device.node} ..."
    return TargetError(
        f"{device.node} cannot be opened: {error.strerror}",
        rights if error.errno in (errno.EACCES, errno.EPERM) else "",
    )


@dataclass(frozen=True)
class ClaimedDevice:
    """A device that was taken for writing.

    Attributes
    ----------
    device : BlockDevice
        As it is now.
    fd : int
        For direct reading and writing.
    held_fd : int
        Keeps others away until it is closed.
    notes : tuple of str
        How far it was blank, and the checks that were not possible.
    """

    device: BlockDevice
    fd: int
    held_fd: int
    notes: tuple[str, ...]


def claim_for_writing(
    chosen: BlockDevice, named: str | None, system: str | None, *, worthless: bool = False
) -> ClaimedDevice:
    """Take a device for writing, unless anything speaks against it.

    Parameters
    ----------
    chosen : BlockDevice
        As the person's word was understood.
    named : str or None
        The serial that the person gave up.
    worthless : bool
        Whether content that nobody can name may be overwritten.

    Raises
    ------
    TargetError
        With the obstacles. The device is not held then.
    """
    fd = open_exclusively(chosen, system)
    try:
        device = device_of(fd)
        if device is None or device.number != chosen.number:
            raise TargetError(
                f"{chosen.node} is another device now",
                "look again: jovik scout",
            )
        safety = safety_of(device, system, fd=fd, whole=True)
        against = [*safety.refusals, *([] if worthless else filter(None, [safety.unknown_content]))]
        if not against:
            against = _busy(device)
        if against:
            only_content = not safety.refusals and bool(safety.unknown_content)
            raise _refusal(device, against, only_content=only_content and not worthless)
        _refuse_unless_named(device, named)
        writing = _open_for_writing(device, fd)
    except BaseException:
        os.close(fd)
        raise
    before = "before it was written, the device was "
    blank = before + (safety.blank or f"not blank: {safety.unknown_content}; declared worthless")
    return ClaimedDevice(device, writing, fd, tuple(filter(None, (blank, safety.note))))


def _open_for_writing(device: BlockDevice, held_fd: int) -> int:
    """Return the device that is held, opened once more: by its descriptor it is surely the same."""
    flags = os.O_RDWR | os.O_CLOEXEC | getattr(os, "O_DIRECT", 0)
    try:
        return os.open(f"/proc/self/fd/{held_fd}", flags)
    except OSError as error:
        if error.errno == errno.EROFS:
            raise _refusal(device, ("it is read-only",)) from None
        raise _not_opened(device, error) from None


def _busy(device: BlockDevice) -> list[str]:
    entry = (Path("/sys/dev/block") / device.number).resolve()
    users = writers(entry)
    moved = moving_bytes(device.name)
    if moved:
        users.append(f"others are reading or writing it ({show_size(moved)} just now)")
    return users


def _refusal(
    device: BlockDevice, against: Sequence[str], *, only_content: bool = False
) -> TargetError:
    hint = "Jovik writes only unused drives; read it, or name a folder on it"
    if only_content:
        hint = (
            "it is no known file system, but it may be someone's data; if you know that "
            f"it is worthless: {WORTHLESS_OPTION}"
        )
    return TargetError(f"{device.node} is not written: {'; '.join(against)}", hint)


def _refuse_unless_named(device: BlockDevice, named: str | None) -> None:
    name = sample_name(device)
    if not name:
        raise TargetError(
            f"{device.node} is not written: it reports no serial, so that it cannot be "
            "distinguished from any "
            "other drive",
            "make a file system on it and name a folder there, or attach it by a port or bridge "
            "that passes its serial on",
        )
    same = [d.node for d in devices() if d.name != device.name and sample_name(d) == name]
    if same:
        raise TargetError(
            f"{device.node} is not written: {', '.join(same)} has the same serial, '{name}'",
            "detach the other one, so that the name is unambiguous",
        )
    if named is None:
        raise TargetError(
            f"writing {device.node} destroys everything on it ({device.model or device.kind}, "
            f"serial {name})",
            f"if that is what you want, name this very sample: --destroy '{name}'",
        )
    if named != name:
        raise TargetError(
            f"{device.node} is not the sample '{named}': its serial is {name}",
            "see jovik scout --serials",
        )
