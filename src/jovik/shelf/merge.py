"""Importing the records of an archive, all of them checked before any is stored."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import sqlalchemy as sa

from jovik.base import histogram
from jovik.base.long_work import tracked
from jovik.base.trace import SLICE_COLUMNS, Latencies
from jovik.shelf.additions import add_recording
from jovik.shelf.archive import HISTOGRAM, PRIVATE_COLUMNS
from jovik.shelf.archive_reader import Archive
from jovik.shelf.encoding import pack, pack_latencies
from jovik.shelf.record_kinds import PARTS
from jovik.shelf.records import DamagedRecord, read_drive, read_rig
from jovik.shelf.run_records import PASS_FIELDS, check_figures, check_run, check_step, read_trace
from jovik.shelf.schema import (
    change,
    claim,
    drive,
    instrument_log,
    note,
    one_pass,
    reading,
    recording,
    rig,
    run,
    step,
    unit,
)
from jovik.shelf.validation import InvalidRecord, checked, columns_of
from jovik.shelf.writer import next_arrival

DIGEST = re.compile(r"[0-9a-f]{12}")
CHANGE_COLUMNS = ("made", "subject", "what", "before", "after")
RUN_ID = re.compile(r"[A-Za-z0-9-]{1,64}")


@dataclass(frozen=True)
class ImportCounts:
    """The number of new records of an import."""

    drives: int = 0
    runs: int = 0
    passes: int = 0
    notes: int = 0
    recordings: int = 0


def merge(engine: sa.Engine, archive: Archive, only: str | None = None) -> ImportCounts:
    """Import the records of an archive, in one transaction.

    Existing records stay as they are.

    Drives are the same by name, units by serial, rigs by name, runs by their id, passes by their
    step and number; so merging twice changes nothing the second time. A step that is finished here
    takes no more passes, and one that is here already has to be the same in the archive.

    Raises
    ------
    UsageError
        The archive is damaged, or contains impossible records. The shelf is unchanged then.
    """
    try:
        with engine.begin() as c:
            return _merge(c, archive, only)
    except (InvalidRecord, DamagedRecord) as error:
        raise archive.wrong(str(error)) from None
    except RecursionError:
        raise archive.wrong("it is nested deeper than any shelf") from None


def _merge(c: sa.Connection, archive: Archive, only: str | None) -> ImportCounts:
    added = dict.fromkeys(("drives", "runs", "passes", "notes", "recordings"), 0)
    drives: dict[str, int] = {}
    for record in _list(archive.json("drives.json"), "drives.json"):
        values = checked(
            drive, {k: v for k, v in record.items() if k not in PARTS}, PRIVATE_COLUMNS
        )
        read_drive(values)
        if only is not None and values["name"].casefold() != only.casefold():
            continue
        folded = values["name"].casefold()
        key = c.execute(sa.select(drive.c.id).where(drive.c.folded_name == folded)).scalar()
        fresh = key is None
        if key is None:
            taken = sa.select(drive.c.id).where(drive.c.address == values["address"])
            if values["address"] is not None and c.execute(taken).first() is not None:
                values["address"] = None
            key = _insert(c, drive, values | {"folded_name": folded})
            added["drives"] += 1
        drives[values["name"]] = key
        for name, kind in PARTS.items():
            table, what = kind.table, f"{name} of {values['name']}"
            records = [
                checked(table, r, PRIVATE_COLUMNS) for r in _list(record.get(name, []), what)
            ]
            for each in records:
                kind.read(each)
            if table is claim and not fresh:
                continue  # the shelf's own sheet stands
            new = _add_missing(c, table, key, records)
            added["notes"] += new if table in (note, reading, instrument_log) else 0
    rigs = {}
    for record in _list(archive.json("rigs.json"), "rigs.json"):
        values = checked(rig, record, PRIVATE_COLUMNS)
        read_rig(values)
        rigs[values["name"]] = values
    names = list(archive.runs())
    for name in tracked(names, "runs", len(names)):
        record = archive.json(name)
        if not isinstance(record, dict):
            raise InvalidRecord(f"{name} is no run")
        if only is not None and record.get("drive") not in drives:
            continue
        new_run, new_passes = _merge_run(c, archive, name, record, drives, rigs)
        added["runs"] += new_run
        added["passes"] += new_passes
    if only is None or added["runs"]:
        added["recordings"] = _merge_recordings(c, archive)
    if only is None and "changes.json" in archive.sums:
        _merge_changes(c, _list(archive.json("changes.json"), "changes.json"))
    return ImportCounts(**added)


def _merge_recordings(c: sa.Connection, archive: Archive) -> int:
    """Import missing recordings. If a name exists, the shelf's own stays."""
    if "recordings.json" not in archive.sums:
        return 0
    count = 0
    for record in _list(archive.json("recordings.json"), "recordings.json"):
        values = checked(recording, record, PRIVATE_COLUMNS | {"requests"})
        name, digest = values["name"], values["digest"]
        if not name.strip() or not DIGEST.fullmatch(digest):
            raise InvalidRecord("a recording has an invalid name")
        requests = archive.text(f"recordings/{digest}.csv").encode()
        same_name = sa.select(recording.c.id).where(recording.c.folded_name == name.casefold())
        if c.execute(same_name).first() is None:
            try:
                add_recording(c, name, values["head"], requests, values["written"])
            except (ValueError, TypeError, KeyError, OverflowError) as error:
                raise InvalidRecord(f"the recording '{name}': {error}") from None
            count += 1
    return count


def _merge_changes(c: sa.Connection, records: list[dict[str, Any]]) -> None:
    """Add the entries of the log of changes that are missing, in the order of their time."""
    known = {tuple(row) for row in c.execute(sa.select(*(change.c[n] for n in CHANGE_COLUMNS)))}
    entries = [checked(change, record, PRIVATE_COLUMNS) for record in records]
    for entry in sorted(entries, key=lambda x: str(x["made"])):
        if tuple(entry[n] for n in CHANGE_COLUMNS) not in known:
            _insert(c, change, entry)


def _list(value: object, what: str) -> list[dict[str, Any]]:
    if not isinstance(value, list) or not all(isinstance(v, dict) for v in value):
        raise InvalidRecord(f"{what} is no list of records")
    return value


def _insert(c: sa.Connection, table: sa.Table, values: dict[str, Any]) -> int:
    key = c.execute(table.insert().values(values)).inserted_primary_key
    assert key is not None
    return int(key[0])


def _add_missing(
    c: sa.Connection, table: sa.Table, drive_id: int, records: list[dict[str, Any]]
) -> int:
    """Add the records of a drive that are not there.

    Units are the same by their serial, all others by everything they say.
    """
    same = (
        ["serial_hash"]
        if table is unit
        else [n for n in columns_of(table) if n not in PRIVATE_COLUMNS]
    )
    present = {
        tuple(_comparable(row[n]) for n in same)
        for row in c.execute(sa.select(table).where(table.c.drive_id == drive_id)).mappings()
    }
    count = 0
    for values in records:
        key = tuple(_comparable(values[n]) for n in same)
        if key not in present:
            present.add(key)
            _insert(c, table, values | {"drive_id": drive_id})
            count += 1
    return count


def _comparable(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


def _merge_run(
    c: sa.Connection,
    archive: Archive,
    name: str,
    record: dict[str, Any],
    drives: Mapping[str, int],
    rigs: Mapping[str, dict[str, Any]],
) -> tuple[int, int]:
    """Import a run with its missing steps and passes.

    How many runs (0 or 1) and passes that added.
    """
    key, steps = record.get("id"), _list(record.get("steps"), f"the steps of {name}")
    if not isinstance(key, str) or not RUN_ID.fullmatch(key) or name != f"runs/{key}.json":
        raise InvalidRecord(f"{name} is not named like its run")
    values = checked(
        run,
        {k: v for k, v in record.items() if k not in ("id", "drive", "rig", "unit", "steps")},
        PRIVATE_COLUMNS,
    )
    if record.get("drive") not in drives or record.get("rig") not in rigs:
        raise InvalidRecord(f"{name} is of a drive or a rig that is not in the archive")
    drive_id = drives[record["drive"]]
    existing = c.execute(sa.select(run.c.drive_id, run.c.state).where(run.c.id == key)).first()
    if existing is not None and existing.drive_id != drive_id:
        raise InvalidRecord(f"run {key} is of another drive on this shelf")
    check_run(values)
    if existing is None:
        of = sa.select(unit.c.id).where(
            unit.c.drive_id == drive_id, unit.c.serial_hash == str(record.get("unit"))
        )
        rig_key = c.execute(sa.select(rig.c.id).where(rig.c.name == record["rig"])).scalar()
        rig_key = _insert(c, rig, rigs[record["rig"]]) if rig_key is None else rig_key
        links = {
            "id": key,
            "drive_id": drive_id,
            "rig_id": rig_key,
            "unit_id": c.execute(of).scalar(),
            "arrival": next_arrival(),
            "imported": archive.path.name,
        }
        c.execute(run.insert().values(values | links))
    is_done = existing is not None and existing.state == "done"
    count = sum(_merge_step(c, archive, key, one, is_done) for one in steps)
    if existing is not None and count:
        of_here = run.update().where(run.c.id == key, run.c.imported.is_(None))
        c.execute(of_here.values(imported=archive.path.name))
    if existing is not None and _is_whole(c, key):
        ended = {k: values[k] for k in ("state", "ended", "health_after", "notes")}
        c.execute(run.update().where(run.c.id == key, run.c.state != "done").values(ended))
    return int(existing is None), count


def _is_whole(c: sa.Connection, key: str) -> bool:
    """Return True if every step of a run that is here is finished."""
    unfinished = sa.select(step.c.id).where(step.c.run_id == key, step.c.finished.is_not(True))
    return c.execute(unfinished.limit(1)).first() is None


def _merge_step(
    c: sa.Connection, archive: Archive, key: str, one: dict[str, Any], is_done: bool
) -> int:
    """Import a step with its missing passes, and return their number.

    A run that is done here takes no more steps.
    """
    about = checked(step, {k: v for k, v in one.items() if k != "passes"}, PRIVATE_COLUMNS)
    at = f"step {about['position'] + 1} of run {key}"
    with _naming(f"a step of run {key} cannot be read (step {about['position'] + 1})"):
        check_step(about)
    existing = (
        c.execute(sa.select(step).where(step.c.run_id == key, step.c.position == about["position"]))
        .mappings()
        .first()
    )
    if existing is None and is_done:
        raise InvalidRecord(f"run {key} is finished on this shelf, and the archive has {at} more")
    if existing is not None and (existing["phrase"], existing["kind"]) != (
        about["phrase"],
        about["kind"],
    ):
        raise InvalidRecord(f"{at} is '{existing['phrase']}' on this shelf")
    step_id = existing["id"] if existing is not None else _insert(c, step, about | {"run_id": key})
    known = {
        p["number"]: p
        for p in c.execute(
            sa.select(*(one_pass.c[n] for n in ("number", *PASS_FIELDS))).where(
                one_pass.c.step_id == step_id
            )
        ).mappings()
    }
    added = 0
    for each in _list(one.get("passes"), f"the passes of {at}"):
        figures = checked(
            one_pass,
            {k: v for k, v in each.items() if k != "latencies"},
            PRIVATE_COLUMNS | {"slices", "latencies"},
        )
        number = figures["number"]
        member = f"{key}/{about['position']}-{number}.csv"
        whole = figures | _series(archive, member, each.get("latencies"))
        with _naming(f"a pass of run {key} cannot be read (pass {number} of {at})"):
            check_figures(whole, read_trace(whole | {"conditions": about["conditions"]}))
        if number in known:
            if any(figures[n] != known[number][n] for n in PASS_FIELDS):
                raise InvalidRecord(f"pass {number} of {at} has other figures on this shelf")
            continue
        if existing is not None and existing["finished"]:
            raise InvalidRecord(
                f"{at} is finished on this shelf, and the archive has a pass {number} of it more"
            )
        c.execute(one_pass.insert().values(whole | {"step_id": step_id}))
        added += 1
    if existing is not None and about["finished"] and not existing["finished"]:
        done = {k: about[k] for k in ("finished", "notes", "limits", "facts")}
        c.execute(step.update().where(step.c.id == step_id).values(done))
    return added


@contextlib.contextmanager
def _naming(what: str) -> Iterator[None]:
    try:
        yield
    except DamagedRecord as error:
        raise InvalidRecord(f"{what}: {error}") from None


def _series(archive: Archive, at: str, edges: object) -> dict[str, bytes]:
    """Return the slices and histograms of a pass from their files."""
    try:
        slices = archive.series(f"series/{at}", SLICE_COLUMNS)
        if not isinstance(edges, dict) or (slices < 0).any():
            raise ValueError("negative counts, or no latencies")
        counts = {direction: np.zeros(histogram.COUNT, np.int64) for direction in edges}
        for direction, low, _, count in archive.rows(f"latencies/{at}", HISTOGRAM):
            counts[direction][histogram.bucket_of(int(low))] += int(count)
        series = {
            direction: Latencies(
                counts[direction], int(e["minimum_ns"]), int(e["maximum_ns"]), int(e["sum_ns"])
            )
            for direction, e in edges.items()
        }
        return {"slices": pack(slices=slices), "latencies": pack_latencies(series)}
    except (ValueError, KeyError, TypeError, OverflowError) as error:
        raise InvalidRecord(f"the series of {at} is invalid: {error}") from None
