"""Whether a raw device may be written.

Never one that anybody uses, and only the one that was named.
"""

from __future__ import annotations

from jovik.base.errors import TargetError
from jovik.hardware import signatures
from jovik.hardware.device import BlockDevice
from jovik.hardware.mounts import Mount


def reasons_against(
    device: BlockDevice, system: str | None, *, look_inside: bool = True
) -> list[str]:
    """Why a device must not be written, in words, the weightiest first.

    Empty when nothing stands in the way.

    Parameters
    ----------
    device : BlockDevice
    system : str or None
        Kernel name of the drive the running system is on.
    look_inside : bool
        Read its first and last blocks for known marks; needs the right to read it.
    """
    found = []
    if device.is_system or device.name == system:
        found.append("it is the drive this system runs from")
    found += [f"{_words(m)} is mounted at {m.point}" for m in device.all_mounts]
    swaps = [device.name] if device.swap else [p.name for p in device.partitions if p.swap]
    found += [f"{s} is swapped to" for s in swaps]
    holders = [*device.holders, *(h for p in device.partitions for h in p.holders)]
    found += [f"{h} is built on it" for h in dict.fromkeys(holders)]
    if device.read_only:
        found.append("it is read-only")
    if device.partitions:
        found.append(
            f"it has {len(device.partitions)} partition{'s' if len(device.partitions) > 1 else ''}"
        )
    if look_inside and not found:
        try:
            with open(device.node, "rb") as opened:
                found += [
                    f"it holds {what}" for what in signatures.find(opened, device.capacity_bytes)
                ]
        except OSError as error:
            found.append(f"it cannot be looked into: {error.strerror}")
    return found


def _words(mount: Mount) -> str:
    return f"{mount.source} ({mount.kind})"


def unit_name(device: BlockDevice) -> str:
    """What a person names a unit by: its serial, or what stands in for one where there is none."""
    return device.serial or device.model


def refuse_unless_destroyable(device: BlockDevice, named: str | None, system: str | None) -> None:
    """Refuse to write a raw device unless nobody uses it and it was named.

    Raises
    ------
    TargetError
        With what stands in the way.
    """
    against = reasons_against(device, system)
    if against:
        raise TargetError(
            f"{device.node} is not written: {'; '.join(against)}",
            "Jovik writes only drives that nobody uses; reading it is possible, or name a "
            "folder on it",
        )
    name = unit_name(device)
    if named is None:
        raise TargetError(
            f"writing {device.node} destroys everything on it ({device.model or device.kind}, "
            f"serial {name or 'unknown'})",
            f"if that is what you want, name this very unit: --destroy '{name}'"
            if name
            else "it has no serial to name it by, so it is not written",
        )
    if not name or named != name:
        raise TargetError(
            f"{device.node} is not the unit '{named}': its serial is {name or 'unknown'}",
            "see jovik scout --serials",
        )
