"""What lies on a raw device.

The marks by which file systems, volume managers and partition tables are known.

A device that bears any of them belongs to somebody. Offsets and marks are those of each format's
own documentation.
"""

from __future__ import annotations

from typing import BinaryIO

SIGNATURES: tuple[tuple[int, bytes, str], ...] = (
    (510, b"\x55\xaa", "a partition table or boot sector"),
    (512, b"EFI PART", "a GUID partition table"),
    (4096, b"EFI PART", "a GUID partition table"),
    (0, b"LUKS\xba\xbe", "an encrypted volume (LUKS)"),
    (0, b"XFSB", "an XFS file system"),
    (3, b"NTFS    ", "an NTFS file system"),
    (3, b"EXFAT   ", "an exFAT file system"),
    (3, b"ReFS\x00", "a ReFS file system"),
    (3, b"-FVE-FS-", "an encrypted volume (BitLocker)"),
    (54, b"FAT1", "a FAT file system"),
    (82, b"FAT32", "a FAT file system"),
    (32, b"NXSB", "an APFS container"),
    (0, b"hsqs", "a SquashFS file system"),
    (0x218, b"LVM2 001", "an LVM volume"),
    (0x18, b"LVM2 001", "an LVM volume"),
    (0x418, b"LVM2 001", "an LVM volume"),
    (0x618, b"LVM2 001", "an LVM volume"),
    (0, b"\xfc\x4e\x2b\xa9", "a RAID member"),
    (4096, b"\xfc\x4e\x2b\xa9", "a RAID member"),
    (4086, b"SWAPSPACE2", "swap space"),
    (1024 + 0x38, b"\x53\xef", "an ext2, ext3 or ext4 file system"),
    (1024, b"H+\x00\x04", "an HFS+ file system"),
    (1024, b"HX\x00\x05", "an HFS+ file system"),
    (1024, b"\x10\x20\xf5\xf2", "an F2FS file system"),
    (1024, b"\xe2\xe1\xf5\xe0", "an EROFS file system"),
    (1024 + 6, b"\x34\x34", "a NILFS2 file system"),
    (
        4096 + 24,
        b"\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81",
        "a bcache or bcachefs device",
    ),
    (32768, b"JFS1", "a JFS file system"),
    (32769, b"CD001", "an ISO 9660 file system"),
    (32769, b"NSR0", "a UDF file system"),
    (0x10040, b"_BHRfS_M", "a btrfs file system"),
    (0x10034, b"ReIsEr", "a ReiserFS file system"),
    (131072, b"\x0c\xb1\xba\x00\x00\x00\x00\x00", "a ZFS pool member"),
    (131072, b"\x00\x00\x00\x00\x00\xba\xb1\x0c", "a ZFS pool member"),
)

HEAD_BYTES = 192 * 1024
"""What is read from the front; the last mark lies within."""
TAIL_BYTES = 128 * 1024
"""Bytes read from the end, for RAID members and backup partition tables."""


def find(device: BinaryIO, size_bytes: int) -> list[str]:
    """What is on a device, in words; empty when nothing known is.

    Parameters
    ----------
    device : binary file
        Open for reading, buffered or in blocks the device takes.
    size_bytes : int
        Its capacity.
    """
    device.seek(0)
    head = device.read(min(HEAD_BYTES, size_bytes))
    found = [what for at, mark, what in SIGNATURES if head[at : at + len(mark)] == mark]
    # ZFS writes its marks in a ring of 1 KiB entries behind 128 KiB.
    if any(
        head[at : at + 8]
        in (b"\x0c\xb1\xba\x00\x00\x00\x00\x00", b"\x00\x00\x00\x00\x00\xba\xb1\x0c")
        for at in range(131072, len(head), 1024)
    ):
        found.append("a ZFS pool member")
    if size_bytes > TAIL_BYTES:
        device.seek(size_bytes - TAIL_BYTES)
        tail = device.read(TAIL_BYTES)
        if b"EFI PART" in (tail[-512 : -512 + 8], tail[-4096 : -4096 + 8]):
            found.append("the second copy of a GUID partition table")
        if any(tail[at : at + 4] == b"\xfc\x4e\x2b\xa9" for at in range(0, len(tail), 4096)):
            found.append("a RAID member")
    return list(dict.fromkeys(found))
