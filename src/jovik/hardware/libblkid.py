"""The content of a device according to util-linux's own library, through ctypes.

It knows some marks that `jovik.hardware.signatures` does not, and keeps up with new ones; what
either of the two finds counts.
"""

from __future__ import annotations

import ctypes
from functools import cache

SONAME = "libblkid.so.1"
SUPERBLOCKS_FLAGS = 0x2 | 0x20 | 0x80 | 0x400
"""LABEL, TYPE, USAGE, and those whose checksum is wrong (BLKID_SUBLKS_* of <blkid.h>)."""
PARTITIONS_FLAGS = 0x2
"""BLKID_PARTS_FORCE_GPT: also where the protective table before it is gone."""
MOST_FOUND = 64


@cache
def _library() -> ctypes.CDLL | None:
    try:
        lib = ctypes.CDLL(SONAME)
        lib.blkid_new_probe.restype = ctypes.c_void_p
        lib.blkid_new_probe.argtypes = []
        lib.blkid_free_probe.argtypes = [ctypes.c_void_p]
        lib.blkid_free_probe.restype = None
        lib.blkid_probe_set_device.argtypes = [
            ctypes.c_void_p,
            ctypes.c_int,
            ctypes.c_int64,
            ctypes.c_int64,
        ]
        for name in ("superblocks", "partitions"):
            getattr(lib, f"blkid_probe_enable_{name}").argtypes = [ctypes.c_void_p, ctypes.c_int]
            getattr(lib, f"blkid_probe_set_{name}_flags").argtypes = [ctypes.c_void_p, ctypes.c_int]
        lib.blkid_do_probe.argtypes = [ctypes.c_void_p]
        lib.blkid_probe_lookup_value.argtypes = [
            ctypes.c_void_p,
            ctypes.c_char_p,
            ctypes.POINTER(ctypes.c_char_p),
            ctypes.c_void_p,
        ]
    except (OSError, AttributeError):
        return None
    return lib


def is_here() -> bool:
    """Return True if the library can be asked on this system."""
    return _library() is not None


def find(fd: int) -> list[str]:
    """Return the library's names for the content of an open device or file.

    Parameters
    ----------
    fd : int
        Open for reading, without direct I/O.

    Raises
    ------
    OSError
        The library is not here, or the device cannot be read by it.
    """
    lib = _library()
    if lib is None:
        raise OSError(f"{SONAME} is not on this system")
    probe = lib.blkid_new_probe()
    if not probe:
        raise OSError(f"{SONAME} gives no probe")
    try:
        if lib.blkid_probe_set_device(probe, fd, 0, 0) != 0:
            raise OSError(f"{SONAME} cannot look into it")
        lib.blkid_probe_enable_superblocks(probe, 1)
        lib.blkid_probe_set_superblocks_flags(probe, SUPERBLOCKS_FLAGS)
        lib.blkid_probe_enable_partitions(probe, 1)
        lib.blkid_probe_set_partitions_flags(probe, PARTITIONS_FLAGS)
        marks = []
        # Each call gives the next result, of every sort that it looks for.
        for _ in range(MOST_FOUND):
            answer = lib.blkid_do_probe(probe)
            if answer < 0:
                raise OSError(f"{SONAME} cannot read it")
            if answer > 0:
                break
            for key in (b"TYPE", b"PTTYPE"):
                value = ctypes.c_char_p()
                if lib.blkid_probe_lookup_value(probe, key, ctypes.byref(value), None) == 0:
                    marks.append((value.value or b"").decode("utf-8", "replace"))
        return list(dict.fromkeys(marks))
    finally:
        lib.blkid_free_probe(probe)
