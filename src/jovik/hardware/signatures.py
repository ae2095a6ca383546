"""The marks by which file systems, volume managers, RAID members and partition tables are known.

A device that bears any of them belongs to somebody. Offsets and marks are those of each format's
own documentation or header files. A mark may come back on data that is none; the device is then
refused for nothing, which costs a person a moment and no data.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import BinaryIO

KIB, MIB = 2**10, 2**20

_ZFS = (b"\x0c\xb1\xba\x00\x00\x00\x00\x00", b"\x00\x00\x00\x00\x00\xba\xb1\x0c")
_MD = (b"\xfc\x4e\x2b\xa9", b"\xa9\x2b\x4e\xfc")
_SWAP = (
    *(b"SWAPSPACE2", b"SWAP-SPACE", b"S1SUSPEND\x00", b"S2SUSPEND\x00", b"ULSUSPEND\x00"),
    *(b"LINHIB0001", b"\xed\xc3\x02\xe9\x98\x56\xe5\x0c"),
)
_MINIX = (b"\x7f\x13", b"\x8f\x13", b"\x68\x24", b"\x78\x24")


def _both(at: int, mark: bytes, what: str) -> Iterator[tuple[int, bytes, str]]:
    """Yield a number as machines of either byte order write it."""
    yield at, mark, what
    yield at, mark[::-1], what


SIGNATURES: tuple[tuple[int, bytes, str], ...] = (
    # Partition tables and disk labels
    (510, b"\x55\xaa", "a partition table or boot sector"),
    (512, b"EFI PART", "a GUID partition table"),
    (4096, b"EFI PART", "a GUID partition table"),
    (508, b"\xda\xbe", "a Sun disk label"),
    *((at, b"\x57\x45\x56\x82", "a BSD disk label") for at in (0, 64, 128, 512, 512 + 64)),
    *((at, b"\x82\x56\x45\x57", "a BSD disk label") for at in (0, 64, 128, 512, 512 + 64)),
    (0, b"ER\x02\x00", "an Apple partition map"),
    *((at, b"PM\x00\x00\x00", "an Apple partition map") for at in (512, 1024, 2048, 4096)),
    (0, b"\x0b\xe5\xa9\x41", "an SGI disk label"),
    # Encrypted volumes
    (0, b"LUKS\xba\xbe", "an encrypted volume (LUKS)"),
    *(
        (0x4000 << n, b"SKUL\xba\xbe", "the second header of an encrypted volume (LUKS2)")
        for n in range(9)
    ),
    (3, b"-FVE-FS-", "an encrypted volume (BitLocker)"),
    (3, b"MSWIN4.1", "a FAT file system"),
    # File systems
    (0, b"XFSB", "an XFS file system"),
    (3, b"NTFS    ", "an NTFS file system"),
    (3, b"EXFAT   ", "an exFAT file system"),
    (3, b"ReFS\x00", "a ReFS file system"),
    (54, b"FAT1", "a FAT file system"),
    (82, b"FAT32", "a FAT file system"),
    (32, b"NXSB", "an APFS container"),
    (0, b"hsqs", "a SquashFS file system"),
    (0, b"sqsh", "a SquashFS file system"),
    (0, b"\x45\x3d\xcd\x28", "a cramfs file system"),
    (0, b"\x28\xcd\x3d\x45", "a cramfs file system"),
    (512, b"\x45\x3d\xcd\x28", "a cramfs file system"),
    (512, b"\x28\xcd\x3d\x45", "a cramfs file system"),
    (0, b"-rom1fs-", "a romfs file system"),
    *_both(0, b"\xce\xfa\xad\x1b", "an SCO BFS file system"),
    *((at, b"BFS1", "a BeFS file system") for at in (32, 512 + 32)),
    *((at, b"1SFB", "a BeFS file system") for at in (32, 512 + 32)),
    *((1024 + 16, mark, "a minix file system") for mark in _MINIX),
    *((1024 + 16, mark[::-1], "a minix file system") for mark in _MINIX),
    *_both(1024 + 24, b"\x5a\x4d", "a minix file system"),
    (1024 + 0x38, b"\x53\xef", "an ext2, ext3 or ext4 file system"),
    (1024, b"BD", "an HFS file system"),
    (1024, b"H+\x00\x04", "an HFS+ file system"),
    (1024, b"HX\x00\x05", "an HFS+ file system"),
    (1024, b"\x10\x20\xf5\xf2", "an F2FS file system"),
    (1024, b"\xe2\xe1\xf5\xe0", "an EROFS file system"),
    (1024 + 6, b"\x34\x34", "a NILFS2 file system"),
    *_both(1024, b"\xf5\xfc\x01\xa5", "a VxFS file system"),
    *_both(8192, b"\xf5\xfc\x01\xa5", "a VxFS file system"),
    *(
        entry
        for at in (0, 8 * KIB, 64 * KIB, 256 * KIB)
        for entry in (
            *_both(at + 1372, b"\x19\x01\x54\x19", "a UFS2 file system"),
            *_both(at + 1372, b"\x54\x19\x01\x00", "a UFS file system"),
        )
    ),
    (8, b"OracleCFS", "an OCFS file system"),
    *((at, b"OCFSV2", "an OCFS2 file system") for at in (1024, 2048, 4096, 8192)),
    (0x10000, b"\x01\x16\x19\x70", "a GFS or GFS2 file system"),
    (32768, b"JFS1", "a JFS file system"),
    (32769, b"CD001", "an ISO 9660 file system"),
    *((32769 + 2048 * n, b"NSR0", "a UDF file system") for n in range(4)),
    (32769, b"BEA01", "a UDF file system"),
    *((at, b"_BHRfS_M", "a btrfs file system") for at in (0x10040, 64 * MIB + 0x40)),
    (0x10034, b"ReIsEr", "a ReiserFS file system"),
    (0x2034, b"ReIsEr", "a ReiserFS file system"),
    (0x10000, b"ReIsEr4", "a Reiser4 file system"),
    (MIB, b"\x0d\xd0\x01\xc0", "a VMFS volume"),
    (2 * MIB, b"\x5e\xf1\xab\x2f", "a VMFS file system"),
    # Volume managers, caches, object stores
    *((at, b"LABELONE", "an LVM volume") for at in (0, 512, 1024, 1536)),
    *((at + 0x18, b"LVM2 001", "an LVM volume") for at in (0, 512, 1024, 1536)),
    (0, b"HM\x01\x00", "an LVM volume"),
    (0, b"HM\x02\x00", "an LVM volume"),
    *((at, mark, "a RAID member") for at in (0, 4096) for mark in _MD),
    (
        4096 + 24,
        b"\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81",
        "a bcache or bcachefs device",
    ),
    (
        4096 + 24,
        b"\xc6\x85\x73\xf6\x66\xce\x90\xa9\xd9\x6a\x60\xcf\x80\x3d\xf7\xef",
        "a bcachefs file system",
    ),
    (0, b"bluestore block device", "a Ceph BlueStore device"),
    (32, b"ORCLDISK", "an Oracle ASM disk"),
    (0, b"dmvdo001", "a VDO volume"),
    *((at + 4, b"!Stra0tis\x86\xff\x02^\x41rh", "a Stratis device") for at in (512, 9 * 512)),
    (0, b"integrt\x00", "a dm-integrity volume"),
    (0, b"verity\x00\x00", "a dm-verity volume"),
    (0, b"SnAp", "a device-mapper snapshot"),
    *((at, mark, "a ZFS pool member") for at in (128 * KIB, 384 * KIB) for mark in _ZFS),
    # Swap space and hibernated systems
    *(
        (page * KIB - 10, mark, "swap space" if mark in _SWAP[:2] else "a hibernated system")
        for page in (4, 8, 16, 32, 64)
        for mark in _SWAP
    ),
    # Archives
    (257, b"ustar", "a tar archive"),
)
"""Offset from the start of the device, mark, and its meaning."""

END_SIGNATURES: tuple[tuple[int, bytes, str], ...] = (
    (0, b"EFI PART", "the second copy of a GUID partition table"),
    (0, b"Intel Raid ISM Cfg Sig. ", "a firmware RAID member (Intel)"),
    (0, b"NVIDIA", "a firmware RAID member (Nvidia)"),
    (0, b"Promise Technology, Inc.", "a firmware RAID member (Promise)"),
    (0, b"Highpoint", "a firmware RAID member (HighPoint)"),
    (32, b"\xf3\x16\x78\x5a", "a firmware RAID member (HighPoint)"),
    (0, b"$XIDE$", "a firmware RAID member (LSI)"),
    (0, b"JM\x01\x00", "a firmware RAID member (JMicron)"),
    (0, b"JM\x02\x00", "a firmware RAID member (JMicron)"),
    (0, b"ASR_", "a firmware RAID member (Adaptec)"),
    (0x60, b"\x00\x00\x00\x2f", "a firmware RAID member (Silicon Image)"),
    (0, b"\xde\x11\xde\x11", "a RAID member (SNIA DDF)"),
    (0, b"\x11\xde\x11\xde", "a RAID member (SNIA DDF)"),
    *((0, mark, "a RAID member") for mark in _MD),
    *(
        (60, b"\x83\x74\x02" + bytes([last]), "a DRBD device")
        for last in (0x67, 0x68, 0x69, 0x6A, 0x6B, 0x6C, 0x6D)
    ),
    *((0, mark, "a ZFS pool member") for mark in _ZFS),
    (
        24,
        b"\xc6\x85\x73\xf6\x66\xce\x90\xa9\xd9\x6a\x60\xcf\x80\x3d\xf7\xef",
        "a bcachefs file system",
    ),
)
"""Marks that formats keep at the end, by their offset within a sector of 512 bytes.

Where exactly depends on the size in ways that differ from format to format, so each is looked for
in every sector of the last `TAIL_BYTES`.
"""

TAIL_BYTES = MIB
"""Bytes checked at the end: two labels of ZFS (512 KiB), and alignment."""
LOOK_BYTES = 128
SECTOR = 512
ZFS_LABEL_BYTES, ZFS_RING_BYTES, ZFS_SLOT_BYTES = 256 * KIB, 128 * KIB, KIB


def find(device: BinaryIO, size_bytes: int) -> list[str]:
    """Return the known content of a device, in words. Empty without any.

    Parameters
    ----------
    device : binary file
        Open for reading, buffered.
    size_bytes : int
        Its capacity.

    Raises
    ------
    OSError
        It cannot be read.
    """
    reach = min(max(at + len(mark) for at, mark, _ in SIGNATURES if at < 8 * MIB), size_bytes)
    device.seek(0)
    head = device.read(reach)
    marks = []
    for at, mark, what in SIGNATURES:
        if at + len(mark) <= len(head):
            content = head[at : at + len(mark)]
        elif at + len(mark) <= size_bytes:
            device.seek(at)
            content = device.read(len(mark))
        else:
            continue
        if content == mark:
            marks.append(what)
    marks += _uberblocks(head)
    start = max((size_bytes - TAIL_BYTES) // 4096 * 4096, 0)
    device.seek(start)
    marks += _at_the_end(device.read(size_bytes - start))
    return list(dict.fromkeys(marks))


def _uberblocks(head: bytes) -> list[str]:
    """ZFS: each of the two labels at the front ends in a ring of uberblocks, any of them in use."""
    for label in (0, ZFS_LABEL_BYTES):
        ring = label + ZFS_LABEL_BYTES - ZFS_RING_BYTES
        for at in range(ring, ring + ZFS_RING_BYTES, ZFS_SLOT_BYTES):
            if head[at : at + 8] in _ZFS:
                return ["a ZFS pool member"]
    return []


def _at_the_end(tail: bytes) -> list[str]:
    """Return the marks in the last sectors, of which the first is at a multiple of 4 KiB."""
    marks = []
    for at in range(0, len(tail), SECTOR):
        sector = tail[at : at + LOOK_BYTES]
        if not any(sector):
            continue
        marks += [w for within, mark, w in END_SIGNATURES if sector.startswith(mark, within)]
    return marks
