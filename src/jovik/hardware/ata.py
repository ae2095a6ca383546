"""ATA IDENTIFY DEVICE, SMART data and device statistics over SG_IO.

Sources: SAT-4, 12.2.3 (the pass-through command); ACS-4, 7.13 (IDENTIFY DEVICE), 7.45 (SMART), 9.5
(device statistics). The attribute table is each maker's own; the numbers used here are those that
all of them keep.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
from dataclasses import dataclass
from pathlib import Path

from jovik.base.errors import TargetError
from jovik.base.health import Health
from jovik.hardware.passthrough import buffer_of, refuse_blank

SG_IO = 0x2285
SECTOR = 512
SMART, READ_LOG_EXT = 0xB0, 0x2F
SMART_READ_DATA = 0xD0
IDENTIFY_DEVICE = 0xEC
STATISTICS_LOG = 0x04
PIO_IN = 4


class _Header(ctypes.Structure):
    """struct sg_io_hdr of <scsi/sg.h>."""

    _fields_ = [
        ("interface_id", ctypes.c_int),
        ("direction", ctypes.c_int),
        ("cmd_len", ctypes.c_ubyte),
        ("mx_sb_len", ctypes.c_ubyte),
        ("iovec_count", ctypes.c_ushort),
        ("dxfer_len", ctypes.c_uint),
        ("dxferp", ctypes.c_void_p),
        ("cmdp", ctypes.c_void_p),
        ("sbp", ctypes.c_void_p),
        ("timeout", ctypes.c_uint),
        ("flags", ctypes.c_uint),
        ("pack_id", ctypes.c_int),
        ("usr_ptr", ctypes.c_void_p),
        ("status", ctypes.c_ubyte),
        ("masked_status", ctypes.c_ubyte),
        ("msg_status", ctypes.c_ubyte),
        ("sb_len_wr", ctypes.c_ubyte),
        ("host_status", ctypes.c_ushort),
        ("driver_status", ctypes.c_ushort),
        ("resid", ctypes.c_int),
        ("duration", ctypes.c_uint),
        ("info", ctypes.c_uint),
    ]


@dataclass(frozen=True)
class AtaIdentity:
    """The identity that an ATA drive reports."""

    model: str
    serial: str
    firmware: str
    rpm: int | None
    smart: bool


def read_health(node: Path) -> Health:
    """Ask a drive for its SMART data and, if it has them, its device statistics.

    Raises
    ------
    TargetError
        No rights, no answer, no SMART, or an answer that cannot be one.
    """
    data = _command(node, SMART, features=SMART_READ_DATA, lba=0xC24F00)
    pages = {}
    for page in (1, 5, 7):
        # Few drives have all of them, many bridges none; what is missing is left out.
        with contextlib.suppress(TargetError):
            pages[page] = _command(
                node, READ_LOG_EXT, lba=page << 8 | STATISTICS_LOG, extended=True
            )
    return parse_health(data, pages)


def _command(
    node: Path, command: int, *, features: int = 0, lba: int = 0, extended: bool = False
) -> bytes:
    """Return one command that reads one sector."""
    import fcntl

    low = [lba >> 8 * i & 0xFF for i in range(6)]
    words = bytes(
        [
            0x85,
            PIO_IN << 1 | int(extended),
            0x0E,
            features >> 8,
            features & 0xFF,
            0,
            1,
            low[3],
            low[0],
            low[4],
            low[1],
            low[5],
            low[2],
            0x40,
            command,
            0,
        ]
    )
    data, address = buffer_of(SECTOR)
    sense, sense_address = buffer_of(32)
    cdb = ctypes.create_string_buffer(words, len(words))
    header = _Header(
        interface_id=ord("S"),
        direction=-3,
        cmd_len=len(words),
        mx_sb_len=32,
        dxfer_len=SECTOR,
        dxferp=address,
        cmdp=ctypes.addressof(cdb),
        sbp=sense_address,
        timeout=10_000,
    )
    try:
        fd = os.open(node, os.O_RDONLY | os.O_NONBLOCK)
    except OSError as error:
        raise TargetError(
            f"{node} cannot be opened: {error.strerror}",
            f"its health log needs rights: sudo jovik health {node}",
        ) from None
    try:
        fcntl.ioctl(fd, SG_IO, header)
    except OSError as error:
        raise TargetError(
            f"{node} takes no ATA commands: {error.strerror}", "an enclosure may not pass them on"
        ) from None
    finally:
        os.close(fd)
    if header.status or header.host_status or header.driver_status & 0x07:
        raise TargetError(
            f"{node} refused ATA command {command:#04x}",
            "an enclosure may not pass it on; sense data: " + sense.raw[:8].hex(),
        )
    return bytes(data.raw)


def security_state(node: Path) -> str:
    """Return True if ATA Security Erase could erase a drive (`parse_security`)."""
    try:
        return parse_security(_command(node, IDENTIFY_DEVICE))
    except TargetError:
        return ""


def parse_security(data: bytes) -> str:
    """``not frozen``, ``frozen until ...``, ``locked ...``, or nothing without such an erase.

    Word 128 of IDENTIFY DEVICE data, security status: bit 0 supported, 1 enabled, 2 locked, 3
    frozen (ACS-4, 7.13; the bits are from memory).
    """
    supported, enabled, locked, frozen = (data[256] >> bit & 1 for bit in range(4))
    if not supported:
        return ""
    if locked or enabled:
        return "locked by a password" if locked else "with a password set"
    return "frozen until it is powered anew" if frozen else "not frozen"


def _words(data: bytes, first: int, last: int) -> str:
    """ATA text: two letters a word, the first in its high byte (ACS-4, 3.3.10)."""
    swapped = bytearray()
    for word in range(first, last + 1):
        swapped += data[2 * word + 1 : 2 * word + 2] + data[2 * word : 2 * word + 1]
    return swapped.decode("ascii", "replace").strip("\x00 ")


def parse_identity(data: bytes) -> AtaIdentity:
    """IDENTIFY DEVICE data.

    Serial in words 10 to 19, firmware 23 to 26, model 27 to 46, rotation 217, SMART 82.
    """
    refuse_blank(data, SECTOR, "identity")
    rotation = int.from_bytes(data[434:436], "little")
    return AtaIdentity(
        _words(data, 27, 46),
        _words(data, 10, 19),
        _words(data, 23, 26),
        rotation if 0x401 <= rotation < 0xFFFF else None,
        bool(data[164] & 1),
    )


def parse_attributes(data: bytes) -> dict[int, int]:
    """Return the raw values of the attribute table.

    Thirty entries of 12 bytes behind two of revision, six of them the value.
    """
    refuse_blank(data, SECTOR, "SMART data")
    entries = [data[2 + 12 * i : 14 + 12 * i] for i in range(30)]
    return {e[0]: int.from_bytes(e[5:11], "little") for e in entries if e[0]}


def _statistic(page: bytes | None, at: int) -> int | None:
    """Return a device statistic.

    Seven bytes of value below one of flags, of which two say that it is there and valid (9.5.2).
    """
    if page is None or len(page) < at + 8 or page[at + 7] & 0xC0 != 0xC0:
        return None
    return int.from_bytes(page[at : at + 6], "little")


def parse_health(data: bytes, pages: dict[int, bytes] | None = None) -> Health:
    """SMART data of 512 bytes, and pages of the device statistics log by number.

    Raises
    ------
    TargetError
        The data is cut short, or nothing but ones or zeros.
    """
    attributes = parse_attributes(data)
    pages = pages or {}
    general, heat, solid = pages.get(1), pages.get(5), pages.get(7)

    def first(*found: int | None) -> int | None:
        return next((f for f in found if f is not None), None)

    def low(number: int, mask: int = 0xFFFFFFFFFFFF) -> int | None:
        return attributes[number] & mask if number in attributes else None

    written, read = (
        first(_statistic(general, 24), low(241)),
        first(_statistic(general, 40), low(242)),
    )
    # Makers pack the highest and lowest ever into the upper bytes; the present temperature is the
    # lowest byte.
    degrees = first(_statistic(heat, 8), low(194, 0xFF), low(190, 0xFF))
    return Health(
        source="ATA SMART" + (" and device statistics" if pages else ""),
        temperatures_c={"drive": float(degrees)} if degrees else {},
        percentage_used=_statistic(solid, 8),
        hours=first(_statistic(general, 16), low(9, 0xFFFFFFFF)),
        power_cycles=first(_statistic(general, 8), low(12, 0xFFFFFFFF)),
        reallocated_sectors=low(5, 0xFFFFFFFF),
        pending_sectors=low(197, 0xFFFFFFFF),
        media_errors=first(low(187, 0xFFFFFFFF), low(198, 0xFFFFFFFF)),
        interface_errors=low(199, 0xFFFFFFFF),
        unsafe_shutdowns=low(192, 0xFFFFFFFF),
        host_read_bytes=read * SECTOR if read is not None else None,
        host_written_bytes=written * SECTOR if written is not None else None,
    )
