"""From rows to the objects of all other packages, or the reason why a row is invalid.

Reading a shelf, importing an archive and checking a shelf all build records here, so that what is
imported can be read, and what no reader can take is what a check finds.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from itertools import pairwise
from typing import Any, TypeVar, cast, get_args, get_type_hints

import sqlalchemy as sa
from pydantic import ConfigDict, TypeAdapter, ValidationError

from jovik.analysis.step_result import Conditions, Limit, PassFigures, StepResult
from jovik.base.circumstances import Circumstance
from jovik.base.errors import JovikError
from jovik.base.findings import (
    Findings,
)
from jovik.base.health import Health
from jovik.base.limits import JSON_DEPTH, JSON_MEMORY_BYTES, json_memory
from jovik.base.page_address import is_address
from jovik.base.trace import (
    CopyRecord,
    IoFault,
    Latencies,
    PassSurroundings,
    ReplayRecord,
    ScanRecord,
    Trace,
)
from jovik.hardware.rig import Rig
from jovik.sheets.instrument_log import RunLog
from jovik.sheets.reading import Note, Reading
from jovik.sheets.sheet import Claim, Drive
from jovik.shelf.encoding import unpack, unpack_latencies
from jovik.shelf.schema import claim, drive, instrument_log, note, reading, rig, run, unit
from jovik.steps import Step, parse

T = TypeVar("T")
PASS_FIELDS = tuple(PassFigures.__dataclass_fields__)
_NUMBERS = frozenset((int, float))
TOLERANCE = 1e-6
"""Relative: a figure that was computed from a series comes out the same when it is computed again,
but for the last digits of a float that went through text."""
TARGETS = {"folder": "path", "device": "path", "model": "name"}


class DamagedRecord(ValueError):
    """A row that no reader can take, in words."""


class Undecodable:
    """The value in a row for text that is not JSON."""


def decode_json(text: str | bytes) -> Any:
    """Return JSON from a row, or `Undecodable` if it is invalid, so that other rows can be read."""
    try:
        # A column of SQLite may hold a number, which its caller knows how to take.
        if isinstance(text, str | bytes) and json_memory(text) > JSON_MEMORY_BYTES:
            return Undecodable()
        return json.loads(text)
    except (ValueError, RecursionError):
        return Undecodable()


@cache
def _adapter(sort: Any) -> TypeAdapter[Any]:
    # In a tuple, because pydantic gives a bare dataclass no settings.
    return TypeAdapter(
        tuple[sort],
        config=ConfigDict(extra="forbid", allow_inf_nan=False),
    )


def typed(sort: Callable[..., T], given: Any, what: str) -> T:
    """Build a record from plain data, the reverse of `jovik.base.plain_data.plain`.

    Raises
    ------
    DamagedRecord
        A field is missing, unknown, or of another type, or a number in it is not finite.
    """
    if not isinstance(given, Mapping):
        raise DamagedRecord(f"{what} cannot be read")
    if not _finite(given):
        raise DamagedRecord(f"{what}: a number in it is not finite")
    try:
        (made,) = _adapter(sort).validate_python((_by_field(sort, given),))
    except ValidationError as error:
        first = error.errors()[0]
        *_, last = where = [str(part) for part in first["loc"][1:]] or [what]
        if first["type"] == "unexpected_keyword_argument":
            raise DamagedRecord(f"{what}: '{last}' is no field of it") from None
        if first["type"] == "dataclass_type":
            raise DamagedRecord(f"{what}: '{'.'.join(where)}' cannot be read") from None
        raise DamagedRecord(f"{what}: '{'.'.join(where)}': {first['msg'].lower()}") from None
    except (TypeError, ValueError, OverflowError) as error:
        raise DamagedRecord(f"{what}: {error}") from None
    return cast(T, made)


def _by_field(sort: Any, given: Any) -> Any:
    """Return plain data under the names of the fields, without derived values of `plain`."""
    if not isinstance(given, Mapping):
        return given
    keys: Mapping[str, str] = getattr(sort, "JSON_KEYS", {})
    names = {key: name for name, key in keys.items()}
    parts, values = _parts(sort), {}
    for key, value in given.items():
        if key in getattr(sort, "JSON_DERIVED", ()):
            continue
        name = names.get(key, key)
        values[name] = _by_field(parts[name], value) if name in parts else value
    return values


@cache
def _parts(sort: Any) -> dict[str, Any]:
    """Return the fields that hold a dataclass whose plain data differs from its fields."""
    return {
        name: part
        for name, hint in get_type_hints(sort).items()
        for part in get_args(hint)
        if hasattr(part, "JSON_DERIVED") or hasattr(part, "JSON_KEYS")
    }


def _finite(value: Any) -> bool:
    """Return True if every number in it is one, and it is no deeper than any record."""
    layer = [value]
    for _ in range(JSON_DEPTH):
        below: list[Any] = []
        for v in layer:
            # JSON gives these types and none derived from them.
            if type(v) is dict:
                below += v.values()
            elif type(v) is list:
                below += v
            elif type(v) is float and not math.isfinite(v):
                return False
        if not below:
            return True
        layer = below
    return False


def _words(value: Any, what: str) -> tuple[str, ...]:
    if not isinstance(value, list) or not all(isinstance(v, str) for v in value):
        raise DamagedRecord(f"{what} are no list of sentences")
    return tuple(value)


def read_drive(row: Mapping[str, Any]) -> Drive:
    """Return a drive from its columns."""
    parsed: Drive = typed(Drive, _without(row, "address"), "a drive")
    if not parsed.name.strip():
        raise DamagedRecord("a drive has no name")
    address = row.get("address")
    if address is not None and not is_address(address):
        raise DamagedRecord(f"{address!r:.40} is not the address of a page")
    return parsed


def read_claim(row: Mapping[str, Any]) -> Claim:
    """Return a claim from its columns."""
    parsed: Claim = typed(Claim, _without(row, "position"), "a claim")
    if parsed.unit not in ("bytes/s", "IOPS", "ns") or parsed.figure <= 0:
        raise DamagedRecord(f"a claim of {parsed.figure!r} {parsed.unit!r:.20}")
    return parsed


def read_rig(row: Mapping[str, Any]) -> Rig:
    """Return a rig from its columns."""
    given = _without(row, "notes") if isinstance(row, Mapping) and row.get("notes") is None else row
    return typed(Rig, given, "a rig")


def read_note(row: Mapping[str, Any]) -> Note:
    """Return a note from its columns."""
    return typed(Note, row, "a note")


def read_run_log(row: Mapping[str, Any]) -> RunLog:
    """Return an instrument's log beside a run from its columns."""
    given = dict(row)
    for name in ("seconds", "readings"):
        series = given.get(name)
        if not isinstance(series, list) or not all(_is_finite(x) for x in series):
            raise DamagedRecord(f"the {name} of a log are no numbers")
        given[name] = tuple(map(float, series))
    log: RunLog = typed(RunLog, given, "a log")
    if len(log.seconds) != len(log.readings) or not log.seconds:
        raise DamagedRecord("the log of an instrument has not one value for each time")
    if any(b < a for a, b in pairwise(log.seconds)):
        raise DamagedRecord("the times of a log do not rise")
    return log


def _is_finite(value: object) -> bool:
    return isinstance(value, int | float) and math.isfinite(value)


def read_reading(row: Mapping[str, Any]) -> Reading:
    """Return a reading from its columns."""
    parsed: Reading = typed(Reading, row, "a reading")
    if parsed.phrase is not None:
        read_phrase(parsed.phrase)
    return parsed


@lru_cache(maxsize=4096)
def _parsed(text: str) -> Step:
    """Return a phrase, shared because shelves repeat the same few."""
    return parse(text)


def read_phrase(text: Any) -> Step:
    """Return a step from its phrase."""
    if not isinstance(text, str):
        raise DamagedRecord("its phrase is no text")
    try:
        return _parsed(text)
    except JovikError as error:
        why = error.message.splitlines()[0]
        raise DamagedRecord(f"'{text[:60]}' is no phrase: {why}") from None


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
    if not isinstance(options, Mapping) or not _finite(options):
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
    if device is not None and (not isinstance(device, Mapping) or not _finite(device)):
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


def _without(stored: Any, name: str) -> Any:
    return {k: v for k, v in stored.items() if k != name} if isinstance(stored, Mapping) else stored


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
    if not isinstance(stored, Mapping) or not _finite(stored):
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


@dataclass(frozen=True)
class RecordKind:
    """A table whose rows are records: how they are read and where they are exported.

    `part` is the key under which a drive's record lists them in an export, or empty if they are no
    part of a drive. `private` are the columns that mean something on one shelf only.
    """

    table: sa.Table
    read: Callable[[Mapping[str, Any]], object]
    part: str = ""
    private: tuple[str, ...] = ("id", "drive_id")


KINDS = (
    RecordKind(drive, read_drive, private=("id", "folded_name")),
    RecordKind(rig, read_rig, private=("id",)),
    RecordKind(claim, read_claim, "claims"),
    RecordKind(unit, dict, "units"),
    RecordKind(note, read_note, "notes"),
    RecordKind(reading, read_reading, "readings"),
    RecordKind(instrument_log, read_run_log, "logs"),
    RecordKind(run, check_run, private=()),
)
"""Every such table, in the order of an export."""
PARTS = {kind.part: kind for kind in KINDS if kind.part}
"""Records written about a drive, by key."""
