"""Export a shelf, or one drive of it, as a zip of open formats, and import one.

Records are JSON with the columns of their tables, series and histograms are CSV, and a manifest
holds the checksum of every file. What comes in is held against the tables' own columns before
anything is written; it is read from the archive in memory, bounded, and never unpacked to disk.
"""

from __future__ import annotations

import csv
import hashlib
import io
import json
import re
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import sqlalchemy as sa

from jovik.base import histogram, version
from jovik.base.atomic_files import MADE, cannot_write, refuse_foreign, replacing
from jovik.base.errors import UsageError
from jovik.base.trace import SLICE_COLUMNS, Latencies
from jovik.shelf.encoding import (
    pack,
    pack_latencies,
    pass_fault,
    step_fault,
    unpack,
    unpack_latencies,
)
from jovik.shelf.schema import claim, drive, note, one_pass, reading, rig, run, step, unit
from jovik.shelf.validation import InvalidRecord, checked, columns_of
from jovik.shelf.writer import utc_now

FORMAT = "jovik shelf"
VERSION = 1
MARKS = (MADE,)
"""What tells an export from any other zip."""
MOST_FILES = 2_000_000
MOST_FILE_BYTES = 64_000_000
MOST_BYTES = 8_000_000_000
"""Bounds on an archive from elsewhere.

Files, bytes of one file and of all together once they are read.
"""
RUN_ID = re.compile(r"[A-Za-z0-9-]{1,64}")
HISTOGRAM = ("direction", "low_ns", "high_ns", "count")
OWN = {"id", "drive_id", "rig_id", "unit_id", "run_id", "step_id", "folded_name"}
"""Columns that mean something on one shelf only."""


@dataclass(frozen=True)
class ImportCounts:
    """What an import added: records that were there already are not counted."""

    drives: int = 0
    runs: int = 0
    passes: int = 0
    notes: int = 0


# Out


def export(engine: sa.Engine, out: Path, only: str | None = None, *, force: bool = False) -> int:
    """Write a shelf, or the drive called `only`, to a zip; how many runs are in it.

    Parameters
    ----------
    force : bool
        Whether a file that Jovik did not make may be overwritten.

    Raises
    ------
    UsageError
        There is a file that Jovik did not make.
    OutputError
        The file cannot be written.
    """
    sums: dict[str, str] = {}
    refuse_foreign(out, MARKS, force=force)
    count = 0
    try:
        with (
            replacing(out) as file,
            zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive,
            engine.connect() as c,
        ):
            archive.comment = MADE
            for name, text in _files(c, only):
                archive.writestr(name, text)
                sums[name] = hashlib.sha256(text.encode()).hexdigest()
                count += name.startswith("runs/")
            about = {
                "format": FORMAT,
                "version": VERSION,
                "made": utc_now(),
                "jovik": version.VERSION,
                "files": sums,
            }
            archive.writestr("manifest.json", json.dumps(about, indent=1))
    except OSError as error:
        raise cannot_write(out, error) from None
    return count


def _files(c: sa.Connection, only: str | None) -> Iterator[tuple[str, str]]:
    """Every file but the manifest, by name."""
    drives = [d for d in _rows(c, drive) if only is None or d["name"] == only]
    kept = {d["id"] for d in drives}
    runs = [r for r in _rows(c, run) if r["drive_id"] in kept]
    rigs = [r for r in _rows(c, rig) if only is None or r["id"] in {x["rig_id"] for x in runs}]
    units = {u["id"]: u for u in _rows(c, unit)}
    parts = {"claims": claim, "units": unit, "notes": note, "readings": reading}
    of = {name: _by(_rows(c, table), "drive_id") for name, table in parts.items()}
    yield (
        "drives.json",
        _text(
            [
                _open(drive, d)
                | {n: [_open(t, x) for x in of[n].get(d["id"], [])] for n, t in parts.items()}
                for d in drives
            ]
        ),
    )
    yield "rigs.json", _text([_open(rig, r) for r in rigs])
    names, benches = {d["id"]: d["name"] for d in drives}, {r["id"]: r["name"] for r in rigs}
    for r in runs:
        found = units.get(r["unit_id"])
        steps = []
        for s in c.execute(
            sa.select(step).where(step.c.run_id == r["id"]).order_by(step.c.position)
        ).mappings():
            passes = []
            for p in c.execute(
                sa.select(one_pass).where(one_pass.c.step_id == s["id"]).order_by(one_pass.c.number)
            ).mappings():
                latencies = unpack_latencies(p["latencies"])
                at = f"{r['id']}/{s['position']}-{p['number']}.csv"
                yield f"series/{at}", _csv(SLICE_COLUMNS, unpack(p["slices"])["slices"].tolist())
                yield f"latencies/{at}", _csv(HISTOGRAM, _histogram(latencies))
                edges = {
                    k: {"minimum_ns": v.minimum_ns, "maximum_ns": v.maximum_ns, "sum_ns": v.sum_ns}
                    for k, v in latencies.items()
                }
                passes.append(
                    {k: v for k, v in _open(one_pass, p).items() if k != "slices"}
                    | {"latencies": edges}
                )
            steps.append(_open(step, s) | {"passes": passes})
        about = {
            "id": r["id"],
            "drive": names[r["drive_id"]],
            "rig": benches[r["rig_id"]],
            "unit": found["serial_hash"] if found else None,
        }
        yield f"runs/{r['id']}.json", _text(about | _open(run, r) | {"steps": steps})


def _rows(c: sa.Connection, table: sa.Table) -> list[dict[str, Any]]:
    return [dict(r) for r in c.execute(sa.select(table).order_by(table.c.id)).mappings()]


def _by(rows: Sequence[dict[str, Any]], key: str) -> dict[Any, list[dict[str, Any]]]:
    found: dict[Any, list[dict[str, Any]]] = {}
    for row in rows:
        found.setdefault(row[key], []).append(row)
    return found


def _open(table: sa.Table, row: Mapping[Any, Any]) -> dict[str, Any]:
    """The columns of a row that mean something elsewhere."""
    return {n: row[n] for n in columns_of(table) if n not in OWN}


def _text(value: object) -> str:
    return json.dumps(value, indent=1, ensure_ascii=False, allow_nan=False)


def _csv(header: Sequence[str], rows: Sequence[Sequence[object]]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    writer.writerows(rows)
    return out.getvalue()


def _histogram(latencies: Mapping[str, Latencies]) -> list[list[object]]:
    return [
        [direction, int(histogram.LOW_NS[b]), int(histogram.HIGH_NS[b]), int(one.counts[b])]
        for direction, one in latencies.items()
        for b in np.flatnonzero(one.counts)
    ]


# In


class Archive:
    """A zip from elsewhere, read within bounds and held against its manifest.

    Raises
    ------
    UsageError
        It is no such archive, a file of it is missing or was changed, or it is larger than any
        shelf.
    """

    def __init__(self, path: Path) -> None:
        self.path, self._read = path, 0
        try:
            self._zip = zipfile.ZipFile(path)
        except (OSError, zipfile.BadZipFile, ValueError, NotImplementedError) as error:
            raise self.wrong(f"it is no zip: {error}") from None
        if len(self._zip.infolist()) > MOST_FILES:
            raise self.wrong(f"it holds more than {MOST_FILES:,} files")
        about = self.json("manifest.json", checked=False)
        if not isinstance(about, dict) or about.get("format") != FORMAT:
            raise self.wrong("it is no export of a Jovik shelf")
        if about.get("version") != VERSION:
            raise self.wrong(
                f"its form is version {about.get('version')}, and this Jovik reads {VERSION}: "
                "update Jovik"
            )
        sums = about.get("files")
        if not isinstance(sums, dict):
            raise self.wrong("its manifest names no files")
        self.sums: dict[str, Any] = sums

    def wrong(self, why: str) -> UsageError:
        """The refusal of this archive."""
        return UsageError(f"{self.path} cannot be imported: {why}", "nothing was changed")

    def text(self, name: str, *, checked: bool = True) -> str:
        """A file of it; `checked` against the manifest."""
        try:
            with self._zip.open(name) as file:
                content = file.read(MOST_FILE_BYTES + 1)
        except KeyError:
            raise self.wrong(f"{name} is missing") from None
        except (
            Exception
        ) as error:  # the archive's own, the disk's, and those of each way to compress
            raise self.wrong(f"{name} cannot be unpacked: {error}") from None
        self._read += len(content)
        if len(content) > MOST_FILE_BYTES or self._read > MOST_BYTES:
            raise self.wrong(f"{name} is larger than any file of a shelf")
        if checked and hashlib.sha256(content).hexdigest() != self.sums.get(name):
            raise self.wrong(f"{name} is not what its manifest says")
        try:
            return content.decode()
        except UnicodeDecodeError:
            raise self.wrong(f"{name} is not UTF-8") from None

    def json(self, name: str, *, checked: bool = True) -> Any:
        """A JSON file of it."""
        try:
            return json.loads(self.text(name, checked=checked))
        except (
            ValueError,
            RecursionError,
        ) as error:  # an integer of thousands of digits is no JSONDecodeError
            raise self.wrong(f"{name} is no JSON: {error}") from None

    def table(self, name: str, header: Sequence[str]) -> list[list[str]]:
        """The rows of a CSV file of it."""
        try:
            rows = list(csv.reader(io.StringIO(self.text(name))))
        except csv.Error as error:
            raise self.wrong(f"{name}: {error}") from None
        if not rows or tuple(rows[0]) != tuple(header) or any(len(r) != len(header) for r in rows):
            raise self.wrong(f"{name} does not have the columns {', '.join(header)}")
        return rows[1:]

    def runs(self) -> list[str]:
        """Names of the files that hold runs."""
        return sorted(n for n in self.sums if n.startswith("runs/"))


def merge(engine: sa.Engine, archive: Archive, only: str | None = None) -> ImportCounts:
    """Bring what an archive holds onto a shelf, in one transaction.

    What is there already stays as it is.

    Drives are the same by name, units by serial, rigs by name, runs by their id, passes by their
    step and number; so merging twice changes nothing the second time.

    Raises
    ------
    UsageError
        The archive is not whole, or holds what no shelf does; nothing is changed then.
    """
    try:
        with engine.begin() as c:
            return _merge(c, archive, only)
    except InvalidRecord as error:
        raise archive.wrong(str(error)) from None


def _merge(c: sa.Connection, archive: Archive, only: str | None) -> ImportCounts:
    added = {"drives": 0, "runs": 0, "passes": 0, "notes": 0}
    drives: dict[str, int] = {}
    for record in _list(archive.json("drives.json"), "drives.json"):
        values = checked(drive, {k: v for k, v in record.items() if k not in PARTS}, OWN)
        if only is not None and values["name"].casefold() != only.casefold():
            continue
        folded = values["name"].casefold()
        key = c.execute(sa.select(drive.c.id).where(drive.c.folded_name == folded)).scalar()
        fresh = key is None
        if key is None:
            key = _insert(c, drive, values | {"folded_name": folded})
            added["drives"] += 1
        drives[values["name"]] = key
        for name, table in PARTS.items():
            if table is claim and not fresh:
                continue  # the shelf's own sheet stands
            new = _add_missing(
                c, table, key, _list(record.get(name), f"{name} of {values['name']}")
            )
            added["notes"] += new if table in (note, reading) else 0
    rigs = {}
    for record in _list(archive.json("rigs.json"), "rigs.json"):
        values = checked(rig, record, OWN)
        rigs[values["name"]] = values
    for name in archive.runs():
        record = archive.json(name)
        if not isinstance(record, dict):
            raise InvalidRecord(f"{name} is no run")
        if only is not None and record.get("drive") not in drives:
            continue
        new_run, new_passes = _merge_run(c, archive, name, record, drives, rigs)
        added["runs"] += new_run
        added["passes"] += new_passes
    return ImportCounts(**added)


PARTS = {"claims": claim, "units": unit, "notes": note, "readings": reading}


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
    same = ["serial_hash"] if table is unit else [n for n in columns_of(table) if n not in OWN]
    there = {
        tuple(row[n] for n in same)
        for row in c.execute(sa.select(table).where(table.c.drive_id == drive_id)).mappings()
    }
    count = 0
    for record in records:
        values = checked(table, record, OWN)
        key = tuple(values[n] for n in same)
        if key not in there:
            there.add(key)
            _insert(c, table, values | {"drive_id": drive_id})
            count += 1
    return count


def _merge_run(
    c: sa.Connection,
    archive: Archive,
    name: str,
    record: dict[str, Any],
    drives: Mapping[str, int],
    rigs: Mapping[str, dict[str, Any]],
) -> tuple[int, int]:
    """A run with what of its steps and passes is missing.

    How many runs (0 or 1) and passes that added.
    """
    key, steps = record.get("id"), _list(record.get("steps"), f"the steps of {name}")
    if not isinstance(key, str) or not RUN_ID.fullmatch(key) or name != f"runs/{key}.json":
        raise InvalidRecord(f"{name} is not named like its run")
    values = checked(
        run,
        {k: v for k, v in record.items() if k not in ("id", "drive", "rig", "unit", "steps")},
        OWN,
    )
    if record.get("drive") not in drives or record.get("rig") not in rigs:
        raise InvalidRecord(f"{name} is of a drive or a rig that is not in the archive")
    drive_id = drives[record["drive"]]
    there = c.execute(sa.select(run.c.drive_id).where(run.c.id == key)).scalar()
    if there is not None and there != drive_id:
        raise InvalidRecord(f"run {key} is of another drive on this shelf")
    if there is None:
        of = sa.select(unit.c.id).where(
            unit.c.drive_id == drive_id, unit.c.serial_hash == str(record.get("unit"))
        )
        bench = c.execute(sa.select(rig.c.id).where(rig.c.name == record["rig"])).scalar()
        bench = _insert(c, rig, rigs[record["rig"]]) if bench is None else bench
        links = {
            "id": key,
            "drive_id": drive_id,
            "rig_id": bench,
            "unit_id": c.execute(of).scalar(),
        }
        c.execute(run.insert().values(values | links))
    count = 0
    for one in steps:
        about = checked(step, {k: v for k, v in one.items() if k != "passes"}, OWN)
        if fault := step_fault(about):
            raise InvalidRecord(f"a step of run {key} cannot be read: {fault}")
        found = c.execute(
            sa.select(step.c.id).where(step.c.run_id == key, step.c.position == about["position"])
        ).scalar()
        step_id = found if found is not None else _insert(c, step, about | {"run_id": key})
        numbers = set(
            c.execute(sa.select(one_pass.c.number).where(one_pass.c.step_id == step_id)).scalars()
        )
        for each in _list(one.get("passes"), f"the passes of {name}"):
            figures = checked(
                one_pass,
                {k: v for k, v in each.items() if k != "latencies"},
                OWN | {"slices", "latencies"},
            )
            if fault := pass_fault(figures):
                raise InvalidRecord(f"a pass of run {key} cannot be read: {fault}")
            if figures["number"] in numbers:
                continue
            at = f"{key}/{about['position']}-{figures['number']}.csv"
            c.execute(
                one_pass.insert().values(
                    figures | _series(archive, at, each.get("latencies")) | {"step_id": step_id}
                )
            )
            count += 1
    return int(there is None), count


def _series(archive: Archive, at: str, edges: object) -> dict[str, bytes]:
    """The slices and histograms of a pass from their files."""
    try:
        slices = (
            np.array(archive.table(f"series/{at}", SLICE_COLUMNS), dtype=object)
            .astype(np.int64)
            .reshape(-1, len(SLICE_COLUMNS))
        )
        if not isinstance(edges, dict) or (slices < 0).any():
            raise ValueError("negative counts, or no latencies")
        counts = {direction: np.zeros(histogram.COUNT, np.int64) for direction in edges}
        for direction, low, _, count in archive.table(f"latencies/{at}", HISTOGRAM):
            counts[direction][histogram.bucket_of(int(low))] += int(count)
        found = {
            direction: Latencies(
                counts[direction], int(e["minimum_ns"]), int(e["maximum_ns"]), int(e["sum_ns"])
            )
            for direction, e in edges.items()
        }
        return {"slices": pack(slices=slices), "latencies": pack_latencies(found)}
    except (ValueError, KeyError, TypeError, OverflowError) as error:
        raise InvalidRecord(f"the series of {at} are none: {error}") from None
