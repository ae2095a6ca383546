"""Which drives are here, and what stands in the way of testing each."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from jovik.analysis.readiness import Obstacle, Surroundings, obstacles
from jovik.base.errors import JovikError
from jovik.hardware.device import BlockDevice
from jovik.hardware.host_load import bytes_moved_meanwhile
from jovik.hardware.safety import safety_of
from jovik.hardware.temperature import sensors_of
from jovik.sheets.sheet import Claim
from jovik.shelf.postgresql import is_server
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class DriveReadiness:
    """A drive, the degrees Celsius of its sensors, and what stands in the way of testing it."""

    device: BlockDevice
    temperatures_c: dict[str, float]
    obstacles: tuple[Obstacle, ...]


def readiness_of(
    device: BlockDevice, claims: Sequence[Claim], system: str | None = None
) -> DriveReadiness:
    """What a drive is, how warm, and what stands in the way of testing it.

    Parameters
    ----------
    claims : sequence of Claim
        Of the drive, which its port may not be able to carry.
    system : str, optional
        Kernel name of the drive that this system runs from.
    """

    free = [_free(m.point) for m in device.all_mounts]
    read = {s.name: s.read_c() for s in sensors_of(device.name)}
    busy_bytes_s = bytes_moved_meanwhile(device.name)
    safety = safety_of(device, system)
    found = obstacles(
        Surroundings(
            against_writing=safety.refusals,
            unknown_content=safety.unknown_content,
            is_system=device.is_system or device.name == system,
            mounted=bool(device.all_mounts),
            read_only=device.read_only
            or (bool(device.all_mounts) and all(m.read_only for m in device.all_mounts)),
            free_bytes=max(free) if free else None,
            busy_bytes_s=busy_bytes_s,
            link=str(device.link) if device.link else None,
            link_rate_bytes_s=device.link.rate_bytes_s if device.link else None,
            link_reduced=bool(device.link and device.link.reduced),
        ),
        claims,
    )
    temperatures = {name: c for name, c in read.items() if c is not None}
    return DriveReadiness(device, temperatures, tuple(found))


def claims_of_model(shelf: Shelf, model: str) -> list[Claim]:
    """Claims of the drive on the shelf whose model this is; none where there is no such drive."""
    for name in shelf.drive_names():
        sheet = shelf.sheet(name)
        if sheet.drive.model and sheet.drive.model.casefold() in model.casefold():
            return list(sheet.claims)
    return []


def claims_at(where: str, model: str) -> list[Claim]:
    """The same from a shelf that may not be there, a file or a server's address."""
    if not is_server(where) and not Path(where).exists():
        return []
    try:
        with Shelf(where) as shelf:
            return claims_of_model(shelf, model)
    except JovikError:
        return []


def _free(point: str) -> int:
    try:
        return shutil.disk_usage(point).free
    except OSError:
        return 0
