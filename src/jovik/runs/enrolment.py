"""The sheet of the drive under a target: the one that was named, or the one its identity leads to.

A drive that nobody named is known again by its serial, else by the model on its sheet; one that is
new is enrolled with a bare sheet, so that measuring it takes one command.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path

from jovik.base.errors import UsageError
from jovik.base.nearest_names import nearest
from jovik.base.quantities import show_size
from jovik.base.terminal_text import strip_control
from jovik.hardware.device import BlockDevice, port_of, under_folder
from jovik.hardware.layers import Stack, stack_of
from jovik.hardware.mounts import Mount
from jovik.hardware.rig import this_machine
from jovik.hardware.target import DeviceTarget, FolderTarget, ModelTarget, Target
from jovik.runs.identification import serial_hash
from jovik.sheets.drive_class import class_names
from jovik.sheets.sheet import Drive, Sheet
from jovik.shelf.store import Shelf

LONGEST_NAME = 80
ROUND_CAPACITY = 0.005
"""A capacity this close to a number of two digits is meant to be it (IDEMA LBA1-03 counts)."""
SAME_SIZE = 0.1


class EnrolledBy(StrEnum):
    """How a sheet was found."""

    NAME = "name"
    MODEL_DRIVE = "model drive"
    SERIAL = "serial"
    MODEL = "model"
    NEW = "new"


@dataclass(frozen=True)
class Enrolment:
    """The sheet of the drive under a target, and how it was found."""

    sheet: Sheet
    by: EnrolledBy


def sheet_for(shelf: Shelf, place: Target, name: str | None, *, enrol: bool = True) -> Enrolment:
    """Return the sheet of the drive under a target, adding one if the drive is new.

    Parameters
    ----------
    enrol : bool
        If true, add an unknown drive to the shelf. Otherwise only return the sheet it would get.

    Raises
    ------
    UnknownNameError
        No drive is called `name`, but one nearly so.
    UsageError
        Several sheets are of the drive's model, or no drive is called `name`, and this one is known
        by another name.
    """
    if name is not None:
        names = shelf.sheets.names()
        if name.casefold() in {n.casefold() for n in names} or _mistyped(name, names):
            return Enrolment(shelf.sheets.get(name), EnrolledBy.NAME)
        return _newly_named(shelf, place, name, enrol)
    if isinstance(place, ModelTarget):
        from jovik.simulator import load_model

        model = load_model(place.name)
        known = shelf.sheets.drive_of_serial(serial_hash(model.behaviour.serial))
        if known is not None:
            sheet = shelf.sheets.get(known)
            if model.unique_serial or not _conflict(model.sheet.drive, sheet.drive):
                return Enrolment(sheet, EnrolledBy.MODEL_DRIVE)
        _refuse_another(shelf, model.sheet.drive)
        return Enrolment(_enrol(shelf, model.sheet, enrol), EnrolledBy.MODEL_DRIVE)
    device: BlockDevice | None = None
    mount: Mount | None = None
    if isinstance(place, DeviceTarget):
        device = place.device
    elif isinstance(place, FolderTarget):
        device, mount = under_folder(place.path)
    if device is not None and device.serial:
        known = shelf.sheets.drive_of_serial(serial_hash(device.serial))
        if known is not None:
            return Enrolment(shelf.sheets.get(known), EnrolledBy.SERIAL)
    if device is not None and (fitting := _of_model(shelf, device)):
        if len(fitting) > 1:
            raise UsageError(
                f"this is a {device.model}, and {len(fitting)} sheets are of that model: "
                f"{', '.join(fitting)}",
                f'say which: --drive "{fitting[0]}"',
            )
        return Enrolment(shelf.sheets.get(fitting[0]), EnrolledBy.MODEL)
    sheet = Sheet(_of_device(device) if device is not None else _of_mount(place, mount))
    by_name = {n.casefold(): n for n in shelf.sheets.names()}
    if sheet.drive.name.casefold() in by_name:
        return Enrolment(shelf.sheets.get(by_name[sheet.drive.name.casefold()]), EnrolledBy.MODEL)
    return Enrolment(_enrol(shelf, sheet, enrol), EnrolledBy.NEW)


MISTYPED = 0.8
"""From this similarity on a name is another one, mistyped (`difflib.SequenceMatcher.ratio`)."""


def _mistyped(name: str, known: Sequence[str]) -> bool:
    """Return True if a name is rather one of the known ones: a part of it, or nearly it.

    Names with other numbers in them are of other drives.
    """
    numbers = re.findall(r"\d+", name)
    return any(
        name.casefold() in one.casefold() or numbers in ([], re.findall(r"\d+", one))
        for one in nearest(name, known, MISTYPED)
    )


def _newly_named(shelf: Shelf, place: Target, name: str, enrol: bool) -> Enrolment:
    """Return a new sheet of the drive under a target, by the name that the user gave it."""
    found = sheet_for(shelf, place, None, enrol=False)
    own = found.sheet.drive.name
    if own in shelf.sheets.names():
        raise UsageError(
            f"there is no drive called '{name}'; the drive here is '{own}'",
            f'omit --drive; or, for another drive, write its sheet: jovik sheet new "{name}"',
        )
    drive = replace(found.sheet.drive, name=name)
    return Enrolment(_enrol(shelf, replace(found.sheet, drive=drive), enrol), EnrolledBy.NEW)


def _enrol(shelf: Shelf, sheet: Sheet, enrol: bool) -> Sheet:
    """Return the sheet, put on the shelf unless another process was quicker."""
    name = sheet.drive.name
    if name not in shelf.sheets.names():
        if not enrol:
            return sheet
        try:
            shelf.additions.enrol(sheet)
        except UsageError:
            if name not in shelf.sheets.names():
                raise
    return shelf.sheets.get(name)


def _conflict(one: Drive, other: Drive) -> bool:
    """Return True if two sheets cannot be of one drive.

    A drive may have been renamed, so that names decide only without a maker and a model.
    """
    facts = [(one.maker, other.maker), (one.model, other.model)]
    if not any(x or y for x, y in facts):
        facts.append((one.name, other.name))
    sizes = (one.capacity_bytes, other.capacity_bytes)
    return any(x and y and x != y for x, y in (*facts, sizes))


def _refuse_another(shelf: Shelf, drive: Drive) -> None:
    """Refuse a new drive whose name is that of a drive with another capacity."""
    known = {n.casefold(): d for n, d in shelf.sheets.drives().items()}.get(drive.name.casefold())
    own, other = drive.capacity_bytes, known.capacity_bytes if known is not None else None
    if known is not None and own and other and own != other:
        raise UsageError(
            f"this drive is called '{drive.name}' and holds {show_size(own)}, but the drive of "
            f"that name on the shelf holds {show_size(other)}",
            f'give it a name of its own, or say that it is the same: --drive "{known.name}"',
        )


def _of_model(shelf: Shelf, device: BlockDevice) -> list[str]:
    """Return sheets of the model that a drive reports, with about its capacity."""
    words = _words(device.maker, device.model).casefold()
    if not device.model or device.kind == "loop":
        return []
    return [
        name
        for name, drive in shelf.sheets.drives().items()
        if drive.model
        and drive.model.casefold() in words
        and (
            drive.capacity_bytes is None
            or abs(device.capacity_bytes / drive.capacity_bytes - 1) <= SAME_SIZE
        )
    ]


def _of_device(device: BlockDevice) -> Drive:
    """Return a bare sheet from a drive's own identity."""
    size = nominal_bytes(device.capacity_bytes)
    spelled = _spelled(size)
    if device.kind == "loop":
        image = Path(device.model).name or device.name
        return Drive(f"loop device {image}", capacity_bytes=size, interface="loop")
    model = _words(device.maker, device.model)
    if model:
        has = re.search(rf"\b{re.escape(spelled)}\b", model, re.IGNORECASE)
        name = model if has else f"{model} {spelled}"
    else:
        at = port_of(device)
        name = f"unnamed {device.kind} drive {spelled}" + (f" (port {at})" if at else "")
    link = device.link
    return Drive(
        strip_control(name)[:LONGEST_NAME],
        maker=strip_control(device.maker),
        model=strip_control(device.model),
        capacity_bytes=size,
        interface=(link.best or link.now) if link is not None else device.kind,
        medium="solid state" if device.is_stick else device.medium,
        class_name=_class_of_device(device),
    )


def _class_of_device(device: BlockDevice) -> str | None:
    """Return the class of a stick, or of a disk by how fast it turns.

    Other classes follow from the sheet itself.
    """
    if device.is_stick:
        return "stick"
    if device.rpm is None:
        return None
    name = f"hdd-{device.rpm}"
    return name if name in class_names() else None


def _of_mount(place: Target, mount: Mount | None) -> Drive:
    """Describe a folder whose drive is unknown by its file system and machine."""
    machine = this_machine().name
    stack = stack_of(mount.number) if mount is not None else Stack()
    if stack.layers:
        drives = " and ".join(stack.drives)
        return Drive(f"{stack.layers[0]} on {drives} of {machine}"[:LONGEST_NAME])
    if mount is None:
        return Drive(f"unnamed drive under {place.describe()['path']} of {machine}"[:LONGEST_NAME])
    return Drive(f"unnamed drive of {machine}, {mount.kind} at {mount.point}"[:LONGEST_NAME])


def _words(maker: str, model: str) -> str:
    """Maker and model in one, the maker once."""
    whole = model if model.casefold().startswith(maker.casefold()) else f"{maker} {model}"
    return " ".join(strip_control(whole.replace("_", " ")).split())


def nominal_bytes(capacity_bytes: int) -> int:
    """Return a capacity as a box prints it, with two digits or three."""
    if capacity_bytes <= 0:
        return capacity_bytes
    places = len(str(capacity_bytes))
    two, three = (round(capacity_bytes, digits - places) for digits in (2, 3))
    return two if abs(two / capacity_bytes - 1) <= ROUND_CAPACITY else three


def _spelled(size_bytes: int) -> str:
    """``1TB``, ``30.8GB``."""
    number, unit = show_size(size_bytes).split()
    return (number.rstrip("0").rstrip(".") if "." in number else number) + unit
