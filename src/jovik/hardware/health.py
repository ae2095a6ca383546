"""Asking any drive for its health log, by the way its kind has."""

from __future__ import annotations

from pathlib import Path

from jovik.base.errors import TargetError
from jovik.base.health import Health


def read_health(node: str, kind: str) -> Health:
    """Return the health log of a drive.

    Parameters
    ----------
    node : str
        The device node of the whole drive.
    kind : str
        As `jovik.hardware.device.BlockDevice.kind`.

    Raises
    ------
    TargetError
        It keeps none, or does not give it out.
    """
    from jovik.hardware import ata, nvme

    if kind == "NVMe":
        return nvme.read_health(Path(node))
    if kind in ("SATA", "USB", "SCSI"):
        return ata.read_health(Path(node))
    raise TargetError(f"{node} ({kind}) keeps no health log", "NVMe, SATA and USB drives do")
