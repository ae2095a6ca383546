"""Attached drives, and the obstacles to testing each."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from jovik.analysis.readiness import Obstacle, Surroundings, claims_beyond, obstacles
from jovik.base.circumstances import Circumstance
from jovik.base.errors import JovikError
from jovik.engine.reserved_space import writable_bytes
from jovik.hardware.circumstances import Place, circumstances
from jovik.hardware.device import BlockDevice
from jovik.hardware.host_load import bytes_moved_meanwhile
from jovik.hardware.mounts import Mount
from jovik.hardware.safety import safety_of
from jovik.hardware.temperature import sensors_of
from jovik.sheets.sheet import Claim
from jovik.shelf.place import is_server
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class DriveReadiness:
    """A drive, the degrees Celsius of its sensors, and its obstacles.

    `circumstances` are conditions of this machine that can make its figures differ,
    `stuck_sensors` sensors of this sample that never moved in an earlier run.
    """

    device: BlockDevice
    temperatures_c: dict[str, float]
    obstacles: tuple[Obstacle, ...]
    circumstances: tuple[Circumstance, ...] = ()
    stuck_sensors: frozenset[str] = frozenset()


def readiness_of(
    device: BlockDevice,
    claims: Sequence[Claim],
    system: str | None = None,
    mount: Mount | None = None,
    stuck: frozenset[str] = frozenset(),
) -> DriveReadiness:
    """Return a drive with its temperatures and obstacles.

    Parameters
    ----------
    claims : sequence of Claim
        Of the drive, which its port may not be able to carry.
    system : str, optional
        Kernel name of the drive that this system runs from.
    mount : Mount, optional
        Through which it is to be used; the first there is unless given.
    stuck : frozenset of str
        Sensors of this sample that never moved in an earlier run.
    """

    is_system = device.is_system or device.name == system
    free = [_free(m.point, is_system) for m in device.all_mounts]
    read = {s.name: s.read_c() for s in sensors_of(device.name)}
    busy_bytes_s = bytes_moved_meanwhile(device.name)
    safety = safety_of(device, system)
    obstructing = obstacles(
        Surroundings(
            against_writing=safety.refusals,
            unknown_content=safety.unknown_content,
            blank=safety.blank,
            is_system=is_system,
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
    place = Place(device, mount or next(iter(device.all_mounts), None), stuck_sensors=stuck)
    around = tuple(circumstances(place))
    return DriveReadiness(device, temperatures, tuple(obstructing), around, stuck)


def readiness_of_model(name: str, claims: Sequence[Claim]) -> DriveReadiness:
    """Return the same of a model drive, in whose way nothing stands.

    Raises
    ------
    UnknownNameError
        There is none of that name.
    """
    from jovik.simulator.catalogue import load_model
    from jovik.simulator.identity import model_device, model_health

    model = load_model(name)
    device = model_device(model)
    rate = device.link.rate_bytes_s if device.link else None
    beyond = claims_beyond(rate, claims or model.sheet.claims)
    can = Obstacle("can do", f"measure it on its virtual clock: jovik measure {device.node}")
    return DriveReadiness(device, model_health(model).temperatures_c, (*beyond, can))


def claims_of_model(shelf: Shelf, model: str) -> list[Claim]:
    """Return the claims of the drive on the shelf whose model this is, or none."""
    for name in shelf.sheets.names():
        sheet = shelf.sheets.get(name)
        if sheet.drive.model and sheet.drive.model.casefold() in model.casefold():
            return list(sheet.claims)
    return []


@contextlib.contextmanager
def shelf_if_any(where: str) -> Iterator[Shelf | None]:
    """Yield the shelf at a place, a file or a server's address, or None if it cannot be opened."""
    with contextlib.ExitStack() as stack:
        shelf = None
        if is_server(where) or Path(where).exists():
            with contextlib.suppress(JovikError):
                shelf = stack.enter_context(Shelf(where))
        yield shelf


def _free(point: str, is_system: bool) -> int:
    """Return the space that a test may take, in bytes."""
    try:
        disk = shutil.disk_usage(point)
    except OSError:
        return 0
    return writable_bytes(disk.total, disk.free, system=is_system)
