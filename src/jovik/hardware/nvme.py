"""NVMe Identify Controller and SMART / Health log through the kernel's passthrough.

Offsets are those of the NVM Express Base Specification 2.0c, figures 275 (Identify Controller) and
207 (log page 02h).
"""

from __future__ import annotations

import contextlib
import os
import struct
from pathlib import Path

from jovik.base.errors import TargetError
from jovik.base.health import Health
from jovik.hardware.passthrough import buffer_of, refuse_blank

ADMIN_COMMAND = 0xC0484E41
"""NVME_IOCTL_ADMIN_CMD of <linux/nvme_ioctl.h>: _IOWR('N', 0x41, 72 bytes)."""
GET_LOG_PAGE, IDENTIFY = 0x02, 0x06
HEALTH_LOG, HEALTH_BYTES, IDENTIFY_BYTES = 0x02, 512, 4096
DATA_UNIT_BYTES = 512_000
"""One of the log's data units: a thousand times 512 bytes (figure 207, bytes 32 to 63)."""
KELVIN = 273
EXTENDED_LOG = 0xC0
EXTENDED_GUID = bytes.fromhex("c5af1028eabff2a49c4f6f7cc914d5af")
"""Distinguishes the extended log of the Open Compute Project from a maker's own."""

WARNINGS = (
    "the spare capacity is below its threshold",
    "the temperature is outside its limits",
    "the drive's reliability is degraded",
    "the medium is read-only",
    "the backup of its volatile memory has failed",
)
"""Bits of the critical warning, byte 0 of the log."""


def read_health(node: Path) -> Health:
    """Ask a drive for its health log.

    Parameters
    ----------
    node : Path
        Its device node, ``/dev/nvme0n1`` or ``/dev/nvme0``.

    Raises
    ------
    TargetError
        No rights, no answer, or an answer that cannot be one.
    """
    log = _admin(
        node, GET_LOG_PAGE, 0xFFFFFFFF, HEALTH_BYTES, (HEALTH_BYTES // 4 - 1) << 16 | HEALTH_LOG
    )
    identity = _admin(node, IDENTIFY, 0, IDENTIFY_BYTES, 1)
    extended = b""
    # Few drives have it; what is missing is left out.
    with contextlib.suppress(TargetError):
        extended = _admin(
            node,
            GET_LOG_PAGE,
            0xFFFFFFFF,
            HEALTH_BYTES,
            (HEALTH_BYTES // 4 - 1) << 16 | EXTENDED_LOG,
        )
    return parse_health(log, identity, extended)


def _admin(node: Path, opcode: int, namespace: int, size: int, word10: int) -> bytes:
    import fcntl

    data, address = buffer_of(size)
    command = bytearray(
        struct.pack(
            "<BBHIIIQQIIIIIIIIII",
            opcode,
            0,
            0,
            namespace,
            0,
            0,
            0,
            address,
            0,
            size,
            word10,
            0,
            0,
            0,
            0,
            0,
            0,
            0,
        )
    )
    try:
        fd = os.open(node, os.O_RDONLY)
    except OSError as error:
        raise TargetError(
            f"{node} cannot be opened: {error.strerror}",
            f"its health log needs rights: sudo jovik health {node}",
        ) from None
    try:
        status = fcntl.ioctl(fd, ADMIN_COMMAND, command)
    except OSError as error:
        hint = (
            f"its health log needs rights: sudo jovik health {node}"
            if error.errno in (1, 13)
            else ""
        )
        raise TargetError(f"{node} does not answer: {error.strerror}", hint) from None
    finally:
        os.close(fd)
    if status:
        raise TargetError(f"{node} refused the command with status {status:#x}")
    return bytes(data.raw)


def _number(log: bytes, at: int, size: int) -> int:
    return int.from_bytes(log[at : at + size], "little")


def parse_health(log: bytes, identity: bytes = b"", extended: bytes = b"") -> Health:
    """Parse a 512-byte health log, with Identify Controller data for its limits.

    `extended` is log page C0h, which counts what was written to the medium where it is what the
    Open Compute Project's Datacenter NVMe SSD Specification says.

    Raises
    ------
    TargetError
        The log is cut short, or nothing but ones or zeros.
    """
    refuse_blank(log, HEALTH_BYTES, "health log")
    temperatures = {"composite": float(_number(log, 1, 2) - KELVIN)}
    for sensor in range(8):
        kelvin = _number(log, 200 + 2 * sensor, 2)
        if kelvin:
            temperatures[f"sensor {sensor + 1}"] = float(kelvin - KELVIN)
    limits = [_number(identity, at, 2) for at in (266, 268)] if len(identity) >= 270 else [0, 0]
    return Health(
        source="NVMe health log",
        temperatures_c=temperatures,
        warning_c=float(limits[0] - KELVIN) if limits[0] else None,
        critical_c=float(limits[1] - KELVIN) if limits[1] else None,
        percentage_used=log[5],
        spare_percent=log[3],
        spare_threshold_percent=log[4],
        hours=_number(log, 128, 16),
        power_cycles=_number(log, 112, 16),
        unsafe_shutdowns=_number(log, 144, 16),
        media_errors=_number(log, 160, 16),
        host_read_bytes=_number(log, 32, 16) * DATA_UNIT_BYTES,
        host_written_bytes=_number(log, 48, 16) * DATA_UNIT_BYTES,
        medium_written_bytes=_number(extended, 0, 16)
        if extended[496:512] == EXTENDED_GUID
        else None,
        throttled_s=_number(log, 224, 4)
        + _number(log, 228, 4)
        + 60 * (_number(log, 192, 4) + _number(log, 196, 4)),
        warnings=tuple(text for bit, text in enumerate(WARNINGS) if log[0] >> bit & 1),
    )
