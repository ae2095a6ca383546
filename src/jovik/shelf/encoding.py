"""Series and histograms as bytes.

NumPy's own .npz form, which any reader of NumPy files can open.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any, cast

import numpy as np
import numpy.typing as npt

from jovik.base import histogram
from jovik.base.findings import Findings
from jovik.base.step_result import Conditions, Limit, LimitSource
from jovik.base.trace import CopyRecord, Latencies, ScanRecord, Trace

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
    """What `pack` was given."""
    with np.load(io.BytesIO(blob), allow_pickle=False) as found:
        return {name: found[name] for name in found.files if name != NOT_AN_ARRAY}


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
    """What `pack_latencies` was given."""
    found = {}
    for direction, array in unpack(blob).items():
        used, counted = np.split(array[3:], 2)
        counts = np.zeros(histogram.COUNT, np.int64)
        counts[used] = counted
        found[direction] = Latencies(counts, int(array[0]), int(array[1]), int(array[2]))
    return found


def recorded_as_json(trace: Trace) -> dict[str, Any] | None:
    """What only scans and copies record, as plain JSON; None for any other pass."""
    if trace.scan is not None:
        zones = asdict(trace.scan)
        return {"zones": zones, "whole_ns": zones.pop("whole_ns")}
    return asdict(trace.copy) if trace.copy is not None else None


def recorded_from_json(stored: dict[str, Any] | None) -> dict[str, Any]:
    """What `recorded_as_json` was given, as fields of a trace."""
    if not stored:
        return {}
    if "zones" in stored:
        zones: dict[str, Any] = {
            k: tuple(v) if isinstance(v, list) else v for k, v in stored["zones"].items()
        }
        return {"scan": ScanRecord(**zones, whole_ns=stored.get("whole_ns", 0))}
    return {"copy": CopyRecord(**stored)} if "files" in stored else {}


def limits_from_json(stored: list[dict[str, Any]]) -> tuple[Limit, ...]:
    """Limits as they are kept: their fields as plain JSON."""
    return tuple(Limit(**x | {"what": LimitSource(x["what"])}) for x in stored)


def step_fault(row: Mapping[Any, Any]) -> str:
    """What keeps a step's conditions, limits and findings from being read; empty if nothing."""
    try:
        Conditions(**row["conditions"])
        limits_from_json(row["limits"] or [])
        Findings.from_json(row["facts"])
    except (TypeError, ValueError, KeyError, AttributeError) as error:
        return str(error)
    return ""


def pass_fault(row: Mapping[Any, Any]) -> str:
    """What keeps the record of a scan or a copy from being read; empty where nothing does."""
    try:
        recorded_from_json(row["facts"])
    except (TypeError, ValueError, KeyError, AttributeError) as error:
        return str(error)
    return ""
