"""Series and histograms as bytes.

NumPy's own .npz form, which any reader of NumPy files can open.
"""

from __future__ import annotations

import io
import re
import struct
import zipfile
import zlib
from typing import Any, cast

import numpy as np
import numpy.typing as npt

from jovik.base import histogram
from jovik.base.limits import PASS_ARRAY_BYTES
from jovik.base.plain_data import plain
from jovik.base.trace import Latencies, Trace

DECODING_ERRORS = (
    KeyError,
    EOFError,
    OSError,
    TypeError,
    ValueError,
    NotImplementedError,
    SyntaxError,
)
"""Errors of NumPy and `zipfile` for foreign bytes."""
NOT_AN_ARRAY = "allow_pickle"
"""NumPy before 2.2 stored a keyword of this name as an array, and Jovik 0.1.0 gave it one.

Such passes are on people's shelves.
"""


def pack(**arrays: npt.NDArray[np.int64]) -> bytes:
    """Named arrays as one compressed blob."""
    out = io.BytesIO()
    np.savez_compressed(out, **cast(Any, arrays))
    return out.getvalue()


def unpack(blob: bytes) -> dict[str, npt.NDArray[np.int64]]:
    """Return the data that `pack` packed.

    Raises
    ------
    ValueError
        It is none, or would be larger than any pass.
    """
    try:
        arrays = _quickly(blob)
        if arrays is None:
            arrays = _by_numpy(blob)
    except (*DECODING_ERRORS, zipfile.BadZipFile, zlib.error, struct.error):
        # NumPy's own words speak of ways to load it all the same, which nobody should take.
        raise ValueError("it is damaged") from None
    if any(array.dtype != np.int64 for array in arrays.values()):
        raise ValueError("it holds other things than counts")
    return arrays


def _by_numpy(blob: bytes) -> dict[str, npt.NDArray[np.int64]]:
    with zipfile.ZipFile(io.BytesIO(blob)) as parts:
        if sum(part.file_size for part in parts.infolist()) > PASS_ARRAY_BYTES:
            raise ValueError("it is larger than any pass")
    with np.load(io.BytesIO(blob), allow_pickle=False) as arrays:
        return {name: arrays[name] for name in arrays.files if name != NOT_AN_ARRAY}


def _quickly(blob: bytes) -> dict[str, npt.NDArray[np.int64]] | None:
    """Return the arrays of a blob in the form of `pack`, or None for any other.

    NumPy and `zipfile` take ten times as long, and a shelf may hold a million blobs. Sizes and
    places are those of the zip's directory (APPNOTE.TXT, 4.3.12, 4.3.16), the array's form that
    of NumPy's own (numpy.lib.format, version 1.0).
    """
    if len(blob) < 22 or blob[-22:-18] != b"PK\x05\x06":
        return None
    count, _, at = struct.unpack_from("<HII", blob, len(blob) - 12)
    arrays = {}
    allowed_bytes = PASS_ARRAY_BYTES
    for _ in range(count):
        if blob[at : at + 4] != b"PK\x01\x02":
            return None
        method, crc, packed, size, name_bytes, extra, comment, start = _ENTRY.unpack_from(blob, at)
        name = blob[at + 46 : at + 46 + name_bytes].decode("ascii", "replace")
        at += 46 + name_bytes + extra + comment
        if method != zipfile.ZIP_DEFLATED or size > allowed_bytes or packed == 2**32 - 1:
            return None
        allowed_bytes -= size
        behind, more = struct.unpack_from("<HH", blob, start + 26)
        begin = start + 30 + behind + more
        content = zlib.decompressobj(-15).decompress(blob[begin : begin + packed], size + 1)
        if len(content) != size or zlib.crc32(content) != crc:
            raise ValueError("it is damaged")
        header = _HEADER.match(content)
        if header is None or not name.endswith(".npy"):
            return None
        shape = tuple(int(n) for n in header[1].split(b",") if n.strip())
        array = np.frombuffer(content, np.dtype("<i8"), offset=header.end()).reshape(shape)
        arrays[name.removesuffix(".npy")] = array.astype(np.int64, copy=False)
    return arrays


_ENTRY = struct.Struct("<10x H 4x III HHH 8x I")
_HEADER = re.compile(
    rb"\x93NUMPY\x01\x00..\{'descr': '<i8', 'fortran_order': False, 'shape': "
    rb"\(([\d, ]*)\), \} *\n",
    re.S,
)


def pack_latencies(latencies: dict[str, Latencies]) -> bytes:
    """Histograms with only their used buckets.

    Each array is index, count pairs behind minimum, maximum and sum.
    """
    arrays = {}
    for direction, one in latencies.items():
        used = np.flatnonzero(one.counts)
        head = np.array([one.minimum_ns, one.maximum_ns, one.sum_ns], np.int64)
        arrays[direction] = np.concatenate([head, used.astype(np.int64), one.counts[used]])
    return pack(**arrays)


def unpack_latencies(blob: bytes) -> dict[str, Latencies]:
    """Return the latencies that `pack_latencies` packed.

    Raises
    ------
    ValueError
        It is none.
    """
    histograms = {}
    for direction, array in unpack(blob).items():
        if array.ndim != 1 or len(array) < 3 or len(array) % 2 == 0:
            raise ValueError("it is no histogram")
        used, counted = np.split(array[3:], 2)
        if ((used < 0) | (used >= histogram.COUNT)).any():
            raise ValueError("it is no histogram")
        counts = np.zeros(histogram.COUNT, np.int64)
        counts[used] = counted
        histograms[direction] = Latencies(counts, int(array[0]), int(array[1]), int(array[2]))
    return histograms


def recorded_as_json(trace: Trace) -> dict[str, Any] | None:
    """Return the records of scans and copies as plain JSON, or None for any other pass."""
    if trace.scan is not None:
        zones = plain(trace.scan)
        return {"zones": zones, "whole_ns": zones.pop("whole_ns")}
    if trace.replay is not None:
        return cast(dict[str, Any], plain(trace.replay))
    return plain(trace.copy) if trace.copy is not None else None
