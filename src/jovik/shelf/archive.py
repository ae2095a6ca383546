"""Export a shelf, or one drive of it, as a zip of open formats.

Records are JSON with the columns of their tables, series and histograms are CSV, and a manifest
holds the checksum of every file. `jovik.shelf.merge` brings one onto a shelf.
"""

from __future__ import annotations

import contextlib
import csv
import hashlib
import io
import json
import zipfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import sqlalchemy as sa

from jovik.base import histogram, version
from jovik.base.atomic_files import MADE_WITH_JOVIK, output
from jovik.base.long_work import tracked
from jovik.base.trace import SLICE_COLUMNS, Latencies
from jovik.shelf.encoding import unpack, unpack_latencies
from jovik.shelf.record_kinds import PARTS
from jovik.shelf.recordings import read_kept, requests_of
from jovik.shelf.records import DamagedRecord, naming, read_drive, read_rig
from jovik.shelf.run_records import check_run, check_step, read_trace
from jovik.shelf.schema import (
    change,
    drive,
    one_pass,
    recording,
    rig,
    run,
    step,
    unit,
)
from jovik.shelf.validation import columns_of
from jovik.shelf.writer import utc_now

FORMAT = "jovik shelf"
VERSION = 3
READABLE = (1, 2, 3)
"""Versions of the form that can be read.

The first had no `excluded` yet, nor events; the second no addresses of pages and no log of changes.
"""
TWINS_FORMAT = "jovik twins"
"""Of an archive of twins: the file of a model drive for each."""
READABLE_TWINS = (1,)
HISTOGRAM = ("direction", "low_ns", "high_ns", "count")
PRIVATE_COLUMNS = {
    *("id", "drive_id", "rig_id", "unit_id", "run_id", "step_id", "folded_name"),
    *("arrival", "imported"),
}
"""Columns that mean something on one shelf only."""


def export(engine: sa.Engine, out: Path, only: str | None = None, *, force: bool = False) -> int:
    """Write a shelf, or the drive called `only`, to a zip, and return the number of its runs.

    Parameters
    ----------
    force : bool
        Whether a file that is there may be overwritten.

    Raises
    ------
    UsageError
        There is such a file.
    OutputError
        The file cannot be written.
    """
    sums: dict[str, str] = {}
    count = 0
    with (
        output(out, force=force) as file,
        zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive,
        engine.connect() as c,
    ):
        archive.comment = MADE_WITH_JOVIK
        for name, text in _files(c, only):
            archive.writestr(name, text)
            sums[name] = hashlib.sha256(text.encode()).hexdigest()
            count += name.startswith("runs/")
        archive.writestr("manifest.json", _manifest(FORMAT, VERSION, utc_now(), sums))
    return count


def twins_archive(files: Mapping[str, str]) -> bytes:
    """Return an archive of twins, which depends on nothing but its files.

    Parameters
    ----------
    files : mapping
        Files of model drives by their names.
    """
    content = io.BytesIO()
    sums = {name: hashlib.sha256(text.encode()).hexdigest() for name, text in files.items()}
    with zipfile.ZipFile(content, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.comment = MADE_WITH_JOVIK
        about = _manifest(TWINS_FORMAT, READABLE_TWINS[-1], None, sums)
        for name, text in {**files, "manifest.json": about}.items():
            # Always the same date.
            archive.writestr(zipfile.ZipInfo(name), text, zipfile.ZIP_DEFLATED)
    return content.getvalue()


def _manifest(form: str, number: int, made: str | None, sums: Mapping[str, str]) -> str:
    about = {"format": form, "version": number, "jovik": version.VERSION, "files": dict(sums)}
    return json.dumps(about | ({"made": made} if made is not None else {}), indent=1)


def _files(c: sa.Connection, only: str | None) -> Iterator[tuple[str, str]]:
    """Yield every file but the manifest, by name."""
    drives = [
        d
        for d in _rows(c, drive)
        if (only is None or d["name"] == only)
        and _sound(f"the drive '{d['name']}'", lambda d: read_drive(_open(drive, d)), d)
    ]
    names = {d["id"]: d["name"] for d in drives}
    all_rigs = {}
    for r in _rows(c, rig):
        sound = _sound(f"the rig '{r['name']}'", lambda r: read_rig(_open(rig, r)), r)
        # Its runs are whole, whatever was known of the machine.
        all_rigs[r["id"]] = r if sound else r | {"facts": {}, "notes": None}
    runs = [
        r
        for r in _rows(c, run)
        if r["drive_id"] in names and _sound(f"run {r['id']}", lambda r: _check_run(r, all_rigs), r)
    ]
    used = {r["rig_id"] for r in runs}
    rigs = [r for key, r in all_rigs.items() if only is None or key in used]
    units = {u["id"]: u for u in _rows(c, unit)}
    yield "drives.json", _text(_drive_records(c, drives))
    yield "rigs.json", _text([_open(rig, r) for r in rigs])
    phrases: list[str] = []
    for r in tracked(runs, "runs", len(runs)):
        sample = units.get(r["unit_id"])
        about = {
            "id": r["id"],
            "drive": names[r["drive_id"]],
            "rig": all_rigs[r["rig_id"]]["name"],
            "unit": sample["serial_hash"] if sample else None,
        }
        steps: list[dict[str, Any]] = []
        for s in c.execute(
            sa.select(step).where(step.c.run_id == r["id"]).order_by(step.c.position)
        ).mappings():
            if _sound(f"run {r['id']}, step {s['position'] + 1}", check_step, dict(s)):
                passes: list[dict[str, Any]] = []
                yield from _passes(c, s, passes)
                steps.append(_open(step, s) | {"passes": passes})
                phrases.append(s["phrase"])
        yield f"runs/{r['id']}.json", _text(about | _open(run, r) | {"steps": steps})
    yield from _recordings(c, None if only is None else phrases)
    if only is None and (changes := _rows(c, change)):
        yield "changes.json", _text([_open(change, x) for x in changes])


def _recordings(c: sa.Connection, phrases: Sequence[str] | None) -> Iterator[tuple[str, str]]:
    """Yield the files of recordings: of all, or of those that the steps of these phrases replay."""
    heads = []
    for r in _rows(c, recording):
        if phrases is not None and not any(r["digest"] in p for p in phrases):
            continue
        if not _sound(f"the recording '{r['name']}'", read_kept, r):
            continue
        yield f"recordings/{r['digest']}.csv", requests_of(r).decode("ascii")
        heads.append(_open(recording, r))
    if heads:
        yield "recordings.json", _text(heads)


def _drive_records(c: sa.Connection, drives: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return drives with all that was written down of them."""
    records = [_open(drive, d) for d in drives]
    for name, kind in PARTS.items():
        of = _by(_rows(c, kind.table), "drive_id")
        for d, record in zip(drives, records, strict=True):
            opened = [_open(kind.table, x) for x in of.get(d["id"], [])]
            at = f"a {kind.table.name} of '{d['name']}'"
            record[name] = [x for x in opened if _sound(at, kind.read, x)]
    return records


def _passes(
    c: sa.Connection, s: sa.RowMapping, records: list[dict[str, Any]]
) -> Iterator[tuple[str, str]]:
    """Yield the files of a step's passes, and add their records to `records`."""
    query = sa.select(one_pass).where(one_pass.c.step_id == s["id"]).order_by(one_pass.c.number)
    for p in c.execute(query).mappings():
        where = f"run {s['run_id']}, step {s['position'] + 1}, pass {p['number']}"
        if not _sound(where, read_trace, dict(p) | {"conditions": s["conditions"]}):
            continue
        latencies = unpack_latencies(p["latencies"])
        at = f"{s['run_id']}/{s['position']}-{p['number']}.csv"
        yield f"series/{at}", _csv(SLICE_COLUMNS, unpack(p["slices"])["slices"].tolist())
        yield f"latencies/{at}", _csv(HISTOGRAM, _histogram(latencies))
        edges = {
            k: {"minimum_ns": v.minimum_ns, "maximum_ns": v.maximum_ns, "sum_ns": v.sum_ns}
            for k, v in latencies.items()
        }
        records.append(
            {k: v for k, v in _open(one_pass, p).items() if k != "slices"} | {"latencies": edges}
        )


def _check_run(row: dict[str, Any], rigs: Mapping[int, Any]) -> None:
    check_run(row)
    if row["rig_id"] not in rigs:
        raise DamagedRecord("it refers to a rig that is not there")


def _sound(at: str, look: Callable[..., object], row: dict[str, Any]) -> bool:
    """Return True if a record can be read. Otherwise name it and leave it out."""
    with contextlib.suppress(DamagedRecord), naming(at):
        look(row)
        return True
    return False


def _rows(c: sa.Connection, table: sa.Table) -> list[dict[str, Any]]:
    return [dict(r) for r in c.execute(sa.select(table).order_by(table.c.id)).mappings()]


def _by(rows: Sequence[dict[str, Any]], key: str) -> dict[Any, list[dict[str, Any]]]:
    groups: dict[Any, list[dict[str, Any]]] = {}
    for row in rows:
        groups.setdefault(row[key], []).append(row)
    return groups


def _open(table: sa.Table, row: Mapping[Any, Any]) -> dict[str, Any]:
    """Return the columns of a row that mean something elsewhere."""
    return {n: row[n] for n in columns_of(table) if n not in PRIVATE_COLUMNS}


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
