"""Runs, steps and passes from their rows (see `jovik.shelf.records`)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from jovik.analysis.step_result import Conditions, Limit, PassFigures, StepResult
from jovik.base.circumstances import Circumstance
from jovik.base.findings import Findings
from jovik.base.health import Health
from jovik.base.trace import (
    CopyRecord,
    IoFault,
    Latencies,
    PassSurroundings,
    ReplayRecord,
    ScanRecord,
    Trace,
)
from jovik.shelf.encoding import unpack, unpack_latencies
from jovik.shelf.records import DamagedRecord, all_finite, read_phrase, typed
from jovik.shelf.stored_json import Undecodable

PASS_FIELDS = tuple(PassFigures.__dataclass_fields__)
_NUMBERS = frozenset((int, float))
TOLERANCE = 1e-6
"""Relative: a figure that was computed from a series comes out the same when it is computed again,
but for the last digits of a float that went through text."""
TARGETS = {"folder": "path", "device": "path", "model": "name"}


def _words(value: Any, what: str) -> tuple[str, ...]:
    if not isinstance(value, list) or not all(isinstance(v, str) for v in value):
        raise DamagedRecord(f"{what} are no list of sentences")
    return tuple(value)


def check_run(row: Mapping[Any, Any]) -> None:
    """Check the columns of a run.

    Raises
    ------
    DamagedRecord
        With the column.
    """
    target = row["target"]
    if not isinstance(target, Mapping):
        raise DamagedRecord("its target cannot be read")
    if target and not isinstance(target.get(TARGETS.get(str(target.get("kind")), "?")), str):
        raise DamagedRecord("its target cannot be read")
    options = row["options"]
    if not isinstance(options, Mapping) or not all_finite(options):
        raise DamagedRecord("its options cannot be read")
    tasks = options.get("tasks", [])
    if not isinstance(tasks, list) or not all(isinstance(t, Mapping) for t in tasks):
        raise DamagedRecord("its plan cannot be read")
    for task in tasks:
        read_phrase(task.get("phrase"))
    if row["notes"] is not None:
        _words(row["notes"], "its notes")
    read_circumstances(row["circumstances"])
    for name in ("health_before", "health_after"):
        if row[name] is not None:
            typed(Health, row[name], name)
    device = row["device"]
    if device is not None and (not isinstance(device, Mapping) or not all_finite(device)):
        raise DamagedRecord("its device cannot be read")
    if device is not None:
        _check_device(device)


_DEVICE: dict[str, tuple[type, ...]] = {
    "capacity_bytes": (int,),
    "logical_block_bytes": (int,),
    "link_rate_bytes_s": (int, float),
    "mount_options": (list,),
}


def _check_device(device: Mapping[str, Any]) -> None:
    for name, value in device.items():
        sorts = _DEVICE.get(name, (str,))
        if value is not None and (not isinstance(value, sorts) or isinstance(value, bool)):
            raise DamagedRecord(f"its device: '{name}' is {value!r:.30}")


def read_circumstances(stored: Any) -> tuple[Circumstance, ...]:
    """Return the circumstances of a run from their JSON."""
    if stored is None:
        return ()
    if not isinstance(stored, list):
        raise DamagedRecord("its circumstances are no list")
    return tuple(typed(Circumstance, one, "a circumstance") for one in stored)


def read_findings(stored: Any) -> Findings:
    """Return findings from their JSON, each field of its type."""
    return typed(Findings, stored if stored is not None else {}, "its findings")


def read_conditions(stored: Any) -> Conditions:
    """Conditions from their JSON, or those that were read before."""
    if isinstance(stored, Conditions):
        return stored
    return typed(Conditions, stored, "its conditions")


def read_limits(stored: Any) -> tuple[Limit, ...]:
    """Limits from their JSON."""
    if stored is None:
        return ()
    if not isinstance(stored, list):
        raise DamagedRecord("its limits are no list")
    return tuple(typed(Limit, one, "a limit") for one in stored)


def check_step(row: Mapping[str, Any]) -> None:
    """Check the columns of a step (DamagedRecord)."""
    read_step(row, (), {})


def read_step(
    row: Mapping[str, Any], passes: Sequence[PassFigures], latencies: dict[str, Latencies]
) -> StepResult:
    """Return a step's result from its columns. The drive, the run and its start are those of `row`.

    Raises
    ------
    DamagedRecord
        With the reason why it cannot be read.
    """
    if read_phrase(row["phrase"]).kind != row["kind"]:
        raise DamagedRecord(f"'{row['phrase']}' is not of the kind '{row['kind']}'")
    findings = read_findings(row["facts"])
    if findings.steady is not None:
        # A result that was to be steady is what its window says.
        passes = findings.steady.window(passes)
    return StepResult(
        phrase=row["phrase"],
        kind=row["kind"],
        passes=tuple(passes),
        latencies=latencies,
        conditions=read_conditions(row["conditions"]),
        drive=row.get("drive_name", ""),
        run=row.get("run_id", ""),
        started=row["started"],
        limits=read_limits(row["limits"]),
        notes=_words(row["notes"], "its notes"),
        findings=findings,
        excluded=row.get("run_excluded") or row["excluded"],
        position=row.get("position", 0),
    )


def read_figures(row: Mapping[Any, Any]) -> PassFigures:
    """Return the figures of a pass, none of them negative."""
    return figures_from([row[name] for name in PASS_FIELDS])


def figures_from(values: Sequence[Any]) -> PassFigures:
    """Return the same from the columns `PASS_FIELDS` alone, in their order."""
    # A shelf has a million of them: what is right is found so without looking at each by itself.
    if not (_NUMBERS.issuperset(map(type, values)) and min(values) >= 0 and sum(values) < math.inf):
        for name, value in zip(PASS_FIELDS, values, strict=True):
            if type(value) not in _NUMBERS or not (0 <= value < math.inf):
                raise DamagedRecord(f"'{name}' is {value!r:.30}")
    return PassFigures(*values)


def read_latencies(blob: Any) -> dict[str, Latencies]:
    """Histograms from their bytes."""
    try:
        histograms = unpack_latencies(blob)
    except ValueError as error:
        raise DamagedRecord(f"its latencies cannot be read: {error}") from None
    for direction, one in histograms.items():
        if direction not in ("read", "write") or (one.counts < 0).any():
            raise DamagedRecord("its latencies have the wrong form")
        if not 0 <= one.minimum_ns <= one.maximum_ns or one.sum_ns < 0 or not one.total:
            raise DamagedRecord("its latencies contradict each other")
    return histograms


def read_trace(row: Mapping[Any, Any]) -> Trace:
    """Return a pass as it was recorded, from its columns and the conditions of its step.

    Raises
    ------
    DamagedRecord
        With what keeps it from being read, or where its figures are not those of its series.
    """
    read_figures(row)
    conditions = read_conditions(row["conditions"])
    fault, around = row["first_fault"], row["environment"]
    for name in ("seed", "flush_ns"):
        if type(row[name]) is not int or row[name] < 0:
            raise DamagedRecord(f"'{name}' is {row[name]!r:.30}")
    try:
        slices = unpack(row["slices"])["slices"]
    except (ValueError, KeyError) as error:
        raise DamagedRecord(f"its series cannot be read: {error}") from None
    if slices.ndim != 2 or slices.shape[1] != 5 or (slices < 0).any():
        raise DamagedRecord("its series have the wrong form")
    return Trace(
        engine=conditions.engine,
        direct=conditions.direct,
        seed=row["seed"],
        elapsed_ns=row["elapsed_ns"],
        flush_ns=row["flush_ns"],
        cpu_ns=row["cpu_ns"],
        slices=slices,
        latencies=read_latencies(row["latencies"]),
        late_written_bytes=_count(row["late_written_bytes"], "late_written_bytes"),
        first_fault=typed(IoFault, fault, "its first fault") if fault is not None else None,
        environment=typed(PassSurroundings, around, "its environment")
        if around is not None
        else None,
        **_recorded(row["facts"]),
    )


def _count(value: Any, name: str) -> int:
    if value is None:
        return 0
    if type(value) is not int or value < 0:
        raise DamagedRecord(f"'{name}' is {value!r:.30}")
    return value


RENAMED_FIELDS = {"way_read_ns": "overhead_read_ns", "way_write_ns": "overhead_write_ns"}
"""Fields of a replay's record under the names that earlier versions stored."""


def _recorded(stored: Any) -> dict[str, Any]:
    """Return the records of scans, copies and replays, as fields of a trace."""
    if not stored and not isinstance(stored, Undecodable):
        return {}
    if not isinstance(stored, Mapping) or not all_finite(stored):
        raise DamagedRecord("the record of a scan or copy cannot be read")
    if "zones" in stored:
        zones = stored["zones"]
        whole = {"whole_ns": stored.get("whole_ns", 0)}
        given = zones | whole if isinstance(zones, dict) else zones
        return {"scan": typed(ScanRecord, given, "the zones of a scan")}
    if "recorded_ns" in stored:
        renamed = {RENAMED_FIELDS.get(k, k): v for k, v in stored.items()}
        return {"replay": typed(ReplayRecord, renamed, "the record of a replay")}
    if "files" in stored:
        return {"copy": typed(CopyRecord, stored, "the record of a copy")}
    return {}


def check_figures(row: Mapping[Any, Any], trace: Trace) -> None:
    """Hold the figures of a pass against its series (DamagedRecord)."""
    computed: dict[str, float] = {
        "read_bytes": trace.read_bytes,
        "written_bytes": trace.written_bytes + trace.late_written_bytes,
        "rate_bytes_s": trace.rate_bytes_s,
        "flushed_rate_bytes_s": trace.flushed_rate_bytes_s,
        "iops": trace.iops,
    }
    for name, value in computed.items():
        if not math.isclose(row[name], value, rel_tol=TOLERANCE, abs_tol=TOLERANCE):
            raise DamagedRecord(f"its '{name}' is {row[name]:.6g}, and its series give {value:.6g}")
    # Blocks that were not as written count as errors, and are in no slice.
    if row["errors"] < trace.errors:
        raise DamagedRecord(f"its errors are {row['errors']}, those of its series {trace.errors}")
