"""Making a drive as new by its own commands.

NVM Express Base Specification 2.0c: Format NVM (5.14), Sanitize (5.24), Identify Controller (figure
275) and Identify Namespace (NVM Command Set Specification 1.0c, figure 97). ATA Security Erase is
not used: a run that is cut off in it leaves a drive behind that is locked by a password.

Every command goes through the descriptor by which the device is held, never to a name that may mean
another one by now, and none that would reach a namespace beside it.
"""

from __future__ import annotations

import errno
import os
import struct
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from jovik.base.errors import TargetError
from jovik.base.io_session import PurgeResult
from jovik.hardware.ata import security_state
from jovik.hardware.passthrough import buffer_of

ADMIN_COMMAND, NAMESPACE_ID = 0xC0484E41, 0x4E40
"""NVME_IOCTL_ADMIN_CMD and NVME_IOCTL_ID of <linux/nvme_ioctl.h>."""
GET_LOG_PAGE, IDENTIFY, FORMAT, SANITIZE = 0x02, 0x06, 0x80, 0x84
SANITIZE_LOG = 0x81
IDENTIFY_BYTES = 4096
USER_DATA, CRYPTOGRAPHIC = 1, 2
"""Secure erase settings of Format NVM (figure 192)."""
BLOCK_ERASE, CRYPTO_ERASE = 2, 4
"""Sanitize actions (figure 361)."""
LONGEST_MS = 4 * 3600 * 1000
"""Maximum duration of a purge. Makers state hours for a large drive."""
ATA_SPARE = "flash that the drive keeps spare, which a discard may leave as it is"


NOT_USED = "which is not used: cut off, it leaves a drive locked"


class Admin(Protocol):
    """Send one admin command and return its data, or raise TargetError with the status."""

    def __call__(self, opcode: int, namespace: int, size: int, word10: int) -> bytes:
        """Send it."""


@dataclass(frozen=True)
class EraseAbility:
    """The capabilities of a controller, and the current format of its namespace.

    Attributes
    ----------
    formats : bool
        Whether it takes Format NVM.
    reaches_all : bool
        Whether formatting one namespace formats or erases all of them.
    cryptographic : bool
        Whether Format NVM can erase by throwing the key away.
    sanitizes : tuple of int
        Sanitize actions that it takes, the better one first.
    namespaces : int
        How many are in use.
    keep : int
        Bits of Format NVM's word 10 that leave block size and protection as they are.
    """

    formats: bool
    reaches_all: bool
    cryptographic: bool
    sanitizes: tuple[int, ...]
    namespaces: int
    keep: int


def read_ability(controller: bytes, namespace: bytes, listed: bytes) -> EraseAbility:
    """Return the erase capabilities of the controller and its namespaces."""
    formats = bool(int.from_bytes(controller[256:258], "little") >> 1 & 1)
    attributes = controller[524]
    offered = int.from_bytes(controller[328:332], "little")
    actions = tuple(
        action for bit, action in ((1, BLOCK_ERASE), (0, CRYPTO_ERASE)) if offered >> bit & 1
    )
    count = sum(1 for at in range(0, len(listed), 4) if any(listed[at : at + 4]))
    size, protection = namespace[26], namespace[29]
    keep = size & 0xF | (size >> 4 & 1) << 4 | (protection & 7) << 5 | (protection >> 3 & 1) << 8
    keep |= (size >> 5 & 3) << 12
    return EraseAbility(
        formats, bool(attributes & 3), bool(attributes >> 2 & 1), actions, count, keep
    )


def purge_device(fd: int, capacity_bytes: int, discard: Callable[[], str]) -> PurgeResult:
    """Make the device behind a descriptor as new, by the best that it offers.

    Parameters
    ----------
    fd : int
        Held and open for writing.
    capacity_bytes : int
    discard : callable
        Discards all of it; why that could not be done, or nothing.

    Raises
    ------
    TargetError
        It takes nothing of all this.
    """
    reasons: list[str] = []
    namespace = _namespace_of(fd)
    if namespace is not None:
        done = purge_nvme(_admin_through(fd), namespace, reasons)
        if done is not None:
            return done
    failed = discard()
    if failed:
        why = "; ".join([*reasons, failed])
        raise TargetError(f"the drive cannot be purged: {why}", "leave 'purge' out of the plan")
    state = security_state(Path(f"/proc/self/fd/{fd}"))
    if state:
        reasons.append(f"it has an ATA Security Erase ({state}), {NOT_USED}")
    report = "; ".join([*reasons, "done"])
    return PurgeResult("discarding all of it", report, ATA_SPARE)


def purge_nvme(admin: Admin, namespace: int, reasons: list[str]) -> PurgeResult | None:
    """Erase by the controller. Return None if it offers nothing; `reasons` explain why.

    Raises
    ------
    TargetError
        A sanitize began and failed.
    """
    try:
        able = read_ability(
            admin(IDENTIFY, 0, IDENTIFY_BYTES, 1),
            admin(IDENTIFY, namespace, IDENTIFY_BYTES, 0),
            admin(IDENTIFY, 0, IDENTIFY_BYTES, 2),
        )
    except TargetError as error:
        reasons.append(error.message)
        return None
    others = able.namespaces > 1
    if able.formats and others and able.reaches_all:
        reasons.append("its format would reach the other namespaces of the controller")
    elif able.formats:
        for setting in (USER_DATA, CRYPTOGRAPHIC) if able.cryptographic else (USER_DATA,):
            try:
                admin(FORMAT, namespace, 0, able.keep | setting << 9)
            except TargetError as error:
                reasons.append(error.message)
                continue
            name = {USER_DATA: "user data erase", CRYPTOGRAPHIC: "cryptographic erase"}[setting]
            return PurgeResult(f"Format NVM, {name}", "; ".join([*reasons, "done"]))
    if able.sanitizes and others:
        reasons.append("its sanitize would reach the other namespaces of the controller")
    elif able.sanitizes:
        return _sanitize(admin, able.sanitizes[0], reasons)
    return None


def _sanitize(admin: Admin, action: int, reasons: list[str]) -> PurgeResult | None:
    try:
        admin(SANITIZE, 0, 0, action)
    except TargetError as error:
        reasons.append(error.message)
        return None
    end = time.monotonic() + LONGEST_MS / 1000
    while time.monotonic() < end:
        log = admin(GET_LOG_PAGE, 0xFFFFFFFF, 512, (512 // 4 - 1) << 16 | SANITIZE_LOG)
        status = int.from_bytes(log[2:4], "little") & 7
        if status in (1, 4):
            name = {BLOCK_ERASE: "block erase", CRYPTO_ERASE: "cryptographic erase"}[action]
            return PurgeResult(f"Sanitize, {name}", "; ".join([*reasons, "done"]))
        if status == 3:
            raise TargetError(
                "the drive reports that its sanitize failed",
                "it may take no other command until a sanitize has passed",
            )
        time.sleep(1)
    raise TargetError("the drive did not end its sanitize within four hours")


def _namespace_of(fd: int) -> int | None:
    """Return the number of an NVMe namespace, or None for any other device."""
    import fcntl

    try:
        number = fcntl.ioctl(fd, NAMESPACE_ID)
    except OSError:
        return None
    return number if isinstance(number, int) and number > 0 else None


def _admin_through(fd: int) -> Admin:
    def admin(opcode: int, namespace: int, size: int, word10: int) -> bytes:
        import fcntl

        data, address = buffer_of(max(size, 1))
        command = bytearray(
            struct.pack(
                "<BBHIIIQQIIIIIIIIII",
                *(opcode, 0, 0, namespace, 0, 0, 0),
                *(address if size else 0, 0, size, word10, 0),
                *(0, 0, 0, 0, LONGEST_MS, 0),
            )
        )
        try:
            status = fcntl.ioctl(fd, ADMIN_COMMAND, command)
        except OSError as error:
            rights = "erasing needs rights" if error.errno in (errno.EPERM, errno.EACCES) else ""
            why = os.strerror(error.errno or 0)
            raise TargetError(f"command {opcode:#04x} was not taken: {why}", rights) from None
        if status:
            raise TargetError(f"the drive refused command {opcode:#04x} with status {status:#x}")
        return bytes(data.raw)

    return admin
