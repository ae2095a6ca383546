"""Identification of a run's target.

The drive under the target, its sample on the shelf, its link, its log, the rig.
"""

from __future__ import annotations

import contextlib
import hashlib
import platform
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from jovik.analysis.health import changes, counter_note
from jovik.base.circumstances import Circumstance
from jovik.base.errors import JovikError
from jovik.base.health import Health
from jovik.base.io_session import WearCounters
from jovik.hardware.circumstances import Place, circumstances
from jovik.hardware.device import BlockDevice, under_folder
from jovik.hardware.health import read_health
from jovik.hardware.io_limits import io_limits
from jovik.hardware.link import named_link
from jovik.hardware.mounts import Mount
from jovik.hardware.rig import Rig, this_machine
from jovik.hardware.target import DeviceTarget, FolderTarget, ModelTarget, Target
from jovik.hardware.temperature import sensors_of
from jovik.runs.context import RunConditions
from jovik.shelf.place import is_server
from jovik.shelf.store import Shelf
from jovik.simulator import load_model


@dataclass(frozen=True)
class IdentifiedTarget:
    """The surroundings of a run.

    `warnings` are what a person should know before it starts, `circumstances` what on the machine
    could make its figures differ.
    """

    rig: Rig
    run_conditions: RunConditions
    device: BlockDevice | None
    record: dict[str, Any] | None
    sample_id: int | None
    warnings: tuple[str, ...]
    circumstances: tuple[Circumstance, ...] = ()


def serial_hash(serial: str) -> str:
    """Return the stored form of a serial, which can be recognised but not read."""
    return hashlib.sha256(serial.encode()).hexdigest()[:16]


def stuck_sensors(shelf: Shelf | None, serial: str) -> frozenset[str]:
    """Return the sensors of a sample that never moved in an earlier run, as far as is known."""
    if shelf is not None and serial:
        with contextlib.suppress(JovikError):
            return shelf.results.stuck_sensors(serial_hash(serial))
    return frozenset()


def serial_tail(serial: str) -> str:
    """Return the last characters of a serial: enough to tell samples apart on a desk."""
    return f"...{serial[-4:]}" if len(serial) > 4 else serial


def identify(
    shelf: Shelf,
    drive_name: str,
    place: Target,
    rig_name: str | None,
    rig_notes: str,
    sample_name: str | None,
    keep_serial: bool,
) -> IdentifiedTarget:
    """Identify the device of a target, and find its sample on the shelf.

    Its serial is kept in full only with `keep_serial`.
    """

    if isinstance(place, ModelTarget):
        model = load_model(place.name)
        behaviour = model.behaviour
        rig = Rig(rig_name or "virtual bench", {}, rig_notes)
        sample = shelf.additions.meet_sample(
            shelf.sheets,
            drive_name,
            serial_hash(behaviour.serial),
            serial_tail(behaviour.serial),
            behaviour.firmware,
            sample_name,
        )
        named = named_link(model.sheet.drive.interface)
        link = model.link or (named[0] if named is not None else None)
        run_conditions = RunConditions(
            rig=rig.name,
            sample=sample.name,
            firmware=behaviour.firmware,
            link=link.now if link else None,
            link_rate_bytes_s=link.rate_bytes_s if link else None,
            heat_limit_c=behaviour.heat.throttle_at if behaviour.heat else None,
        )
        return IdentifiedTarget(rig, run_conditions, None, None, sample.id, ())
    rig = this_machine()
    rig = replace(rig, name=rig_name or rig.name, notes=rig_notes)
    device: BlockDevice | None = None
    mount: Mount | None = None
    if isinstance(place, DeviceTarget):
        device = place.device
    elif isinstance(place, FolderTarget):
        device, mount = under_folder(place.path)
    run_conditions = RunConditions(rig=rig.name)
    record = _record(device, mount, keep_serial)
    around = circumstances_at(device, mount, shelf)
    if device is None:
        return IdentifiedTarget(
            rig,
            run_conditions,
            None,
            record,
            None,
            ("the drive under this target cannot be identified; its sample is not recorded",),
            around,
        )
    link = device.link
    run_conditions = replace(
        run_conditions,
        firmware=device.firmware or None,
        link=link.now if link else None,
        link_rate_bytes_s=link.rate_bytes_s if link else None,
        device=device.name,
        sensors=tuple(sensors_of(device.name)),
        group_limits=tuple(
            (x.direction, x.unit, x.per_s) for x in io_limits() if x.number == device.number
        ),
    )
    warnings = []
    sheet = shelf.sheets.get(drive_name).drive
    if (
        sheet.model
        and device.model
        and device.kind != "loop"
        and sheet.model.casefold() not in f"{device.maker} {device.model}".casefold()
    ):
        warnings.append(
            f"the sheet of {drive_name} says model '{sheet.model}', the drive under the "
            f"target says '{device.model}'"
        )
    if (
        sheet.capacity_bytes
        and device.kind != "loop"
        and abs(device.capacity_bytes / sheet.capacity_bytes - 1) > 0.1
    ):
        warnings.append(
            f"the sheet of {drive_name} says {sheet.capacity_bytes / 1e9:.0f} GB, the drive "
            f"has {device.capacity_bytes / 1e9:.0f} GB"
        )
    if link is not None and link.reduced:
        warnings.append(
            f"the link runs as {link}: suspect the port, the cable or a slot that is wired narrower"
        )
    sample_id = None
    if device.serial:
        known = shelf.sheets.samples(drive_name)
        sample = shelf.additions.meet_sample(
            shelf.sheets,
            drive_name,
            serial_hash(device.serial),
            serial_tail(device.serial),
            device.firmware,
            sample_name,
        )
        sample_id = sample.id
        run_conditions = replace(run_conditions, sample=sample.name)
        if known and all(u.id != sample.id for u in known):
            tails = ", ".join(f"{u.name} ({u.serial_tail})" for u in known)
            warnings.append(
                f"this is another sample of {drive_name} than {tails}: it is recorded as "
                f"{sample.name} ({sample.serial_tail})"
            )
    return IdentifiedTarget(rig, run_conditions, device, record, sample_id, tuple(warnings), around)


def circumstances_at(
    device: BlockDevice | None, mount: Mount | None, shelf: Shelf | None
) -> tuple[Circumstance, ...]:
    """Return the conditions of this machine that could make a drive's figures differ."""

    file = None
    if shelf is not None and not is_server(shelf.where):
        file = Path(shelf.where).absolute()
    stuck = stuck_sensors(shelf, device.serial) if device is not None else frozenset()
    return tuple(circumstances(Place(device, mount, file, stuck_sensors=stuck)))


def _record(device: BlockDevice | None, mount: Mount | None, keep_serial: bool) -> dict[str, Any]:
    """Return the facts on the drive, its file system and the kernel that the shelf stores."""
    details: dict[str, Any] = {"kernel": f"{platform.system()} {platform.release()}"}
    if device is not None:
        details |= {
            "kind": device.kind,
            "maker": device.maker,
            "model": device.model,
            "firmware": device.firmware,
            "capacity_bytes": device.capacity_bytes,
            "logical_block_bytes": device.logical_block_bytes,
            "write_cache": device.write_cache,
            "scheduler": device.scheduler,
            "driver": device.driver,
            **({"serial": device.serial} if keep_serial else {}),
            "link": device.link.now if device.link else None,
            "link_rate_bytes_s": device.link.rate_bytes_s if device.link else None,
        }
    if mount is not None:
        details |= {"file_system": mount.kind, "mount_options": list(mount.options)}
    return details


def health_of(device: BlockDevice | None) -> Health | None:
    """Return the drive's log, or None if it has none. The run continues without it."""
    if device is None:
        return None

    try:
        return read_health(device.node, device.kind)
    except JovikError:
        return None


def wear_of(device: BlockDevice | None) -> WearCounters | None:
    """Return the drive's counters of written bytes, if its log has them."""
    health = health_of(device)
    if health is None or health.host_written_bytes is None:
        return None

    return WearCounters(health.host_written_bytes, health.medium_written_bytes)


def health_notes(before: Health | None, after: Health | None, written_bytes: int) -> list[str]:
    """Return the changes in the drive's log during a run."""

    if before is None or after is None:
        return []
    notes = [*changes(before, after), counter_note(before, after, written_bytes)]
    return [note for note in notes if note]


def machine_id() -> dict[str, str]:
    """Return the identity of this machine, for a run that will be resumed."""

    here = this_machine()
    return {
        "name": here.name,
        "processor": here.facts.get("processor", ""),
        "board": here.facts.get("board", ""),
    }


def system_drive() -> str | None:
    """Kernel name of the drive this system runs from."""

    drive = under_folder(Path("/"))[0]
    return drive.name if drive else None
