"""The identity of a model drive as the kernel would show it, and its health log.

The log is made, not kept: its hours and bytes follow from the serial, so that a sample always says
the same, and everything that reads a log can be tried without hardware.
"""

from __future__ import annotations

import zlib

from jovik.base.health import Health
from jovik.hardware.device import BlockDevice
from jovik.hardware.link import named_link
from jovik.simulator.catalogue import MODEL_PREFIX, ModelDrive
from jovik.simulator.parameters import StuckSensor

KINDS = {"PCIe": "NVMe", "SATA": "SATA", "USB": "USB"}


def model_device(model: ModelDrive) -> BlockDevice:
    """Return the model drive as a block device that nothing is mounted on."""
    drive, behaviour = model.sheet.drive, model.behaviour
    named = named_link(drive.interface)
    link = model.link or (named[0] if named is not None else None)
    return BlockDevice(
        name=model.name,
        node=f"{MODEL_PREFIX}{model.name}",
        kind=KINDS.get(link.kind, "other") if link is not None else "other",
        maker=drive.maker,
        model=drive.model,
        serial=behaviour.serial,
        firmware=behaviour.firmware,
        capacity_bytes=round(behaviour.capacity),
        medium=drive.medium,
        rpm=round(behaviour.platter.rpm) if behaviour.platter is not None else None,
        driver="model",
        logical_block_bytes=512,
        physical_block_bytes=4096,
        write_cache="write back",
        scheduler="",
        read_only=False,
        link=link,
    )


def model_health(model: ModelDrive) -> Health:
    """Return a health log as a drive of these parameters would give it out."""
    drive, behaviour = model.sheet.drive, model.behaviour
    number = zlib.crc32(behaviour.serial.encode())
    hours = 20 + number % 400
    written = round(behaviour.capacity * (1 + number % 30) / 10)
    rated = drive.endurance_bytes
    heat = behaviour.heat
    return Health(
        source="made-up log, being a model drive",
        temperatures_c={
            name: more.stuck if isinstance(more, StuckSensor) else heat.idle + more
            for name, more in heat.sensors.items()
        }
        if heat
        else {},
        warning_c=heat.throttle_at if heat else None,
        percentage_used=100 * written // rated if rated else None,
        spare_percent=100,
        spare_threshold_percent=10,
        hours=hours,
        power_cycles=hours // 3,
        unsafe_shutdowns=number % 3,
        media_errors=len(behaviour.bad),
        host_read_bytes=2 * written,
        host_written_bytes=written,
    )
