"""What is added to a shelf: drives, samples, runs, notes, readings, logs and recordings.

Each method is one transaction.
"""

from __future__ import annotations

import secrets
import zlib
from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

import sqlalchemy as sa

from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.limits import KEPT_RECORDING_BYTES
from jovik.base.recording import Recording
from jovik.base.recording_file import parts_of, recording_from
from jovik.hardware.rig import Rig
from jovik.sheets.instrument_log import RunLog
from jovik.sheets.reading import Note, Reading
from jovik.sheets.sheet import Sheet
from jovik.shelf.notes import READING_FIELDS
from jovik.shelf.schema import (
    claim,
    drive,
    instrument_log,
    note,
    reading,
    recording,
    rig,
    run,
    unit,
)
from jovik.shelf.sheets import Sample, Sheets, unknown_drive
from jovik.shelf.spool import spool_name
from jovik.shelf.writer import RunWriter, insert_if_absent, next_arrival, utc_now


class Additions:
    """Additions to one shelf.

    Parameters
    ----------
    writing : sqlalchemy Engine
        Whose transactions write.
    where : str
        The shelf's place, as `spool_name` takes it.
    """

    def __init__(self, writing: sa.Engine, where: str) -> None:
        self._writing, self._where = writing, where

    # Drives

    def enrol(self, sheet: Sheet) -> None:
        """Enrol a drive with its claims.

        Raises
        ------
        UsageError
            One of that name is there.
        """
        values = asdict(sheet.drive) | {"folded_name": sheet.drive.name.casefold()}
        with self._writing.begin() as c:
            try:
                key = c.execute(drive.insert().values(values)).inserted_primary_key
            except sa.exc.IntegrityError:
                raise UsageError(
                    f"there is a drive called '{sheet.drive.name}' on this shelf already",
                    f'see it: jovik sheet show "{sheet.drive.name}"; or use another name',
                ) from None
            assert key is not None
            for position, one in enumerate(sheet.claims):
                c.execute(
                    claim.insert().values(asdict(one) | {"drive_id": key[0], "position": position})
                )

    def meet_sample(
        self,
        sheets: Sheets,
        name: str,
        serial_hash: str,
        serial_tail: str,
        firmware: str,
        sample_name: str | None = None,
    ) -> Sample:
        """Return the sample of this serial, enrolled when it is first met.

        Its firmware is kept up to date.
        """
        known = sheets.samples(name)
        if all(u.serial_hash != serial_hash for u in known):
            values = {
                "name": sample_name or f"sample {len(known) + 1}",
                "serial_hash": serial_hash,
                "serial_tail": serial_tail,
                "firmware": firmware,
            }
            with self._writing.begin() as c:
                insert_if_absent(c, unit, values | {"drive_id": _drive_id(c, name)})
        sample = next(u for u in sheets.samples(name) if u.serial_hash == serial_hash)
        if sample.firmware != firmware or (sample_name and sample_name != sample.name):
            sample = Sample(
                sample.id, sample_name or sample.name, serial_hash, serial_tail, firmware
            )
            with self._writing.begin() as c:
                c.execute(
                    unit.update()
                    .where(unit.c.id == sample.id)
                    .values(firmware=firmware, name=sample.name)
                )
        return sample

    def keep_addresses(self, addresses: Mapping[str, str]) -> None:
        """Store the address of each drive's page, which it keeps when it is renamed."""
        with self._writing.begin() as c:
            for name, address in addresses.items():
                c.execute(drive.update().where(drive.c.name == name).values(address=address))

    # Runs

    def begin_run(
        self,
        name: str,
        here: Rig,
        target: dict[str, Any],
        plan: str,
        seed: int,
        options: dict[str, Any],
        version: str,
        *,
        sample_id: int | None = None,
        device: dict[str, Any] | None = None,
        excluded: str | None = None,
        circumstances: list[dict[str, Any]] | None = None,
    ) -> RunWriter:
        """Open a run, and return the writer that takes its passes."""
        started = utc_now()
        day, clock = started[:10].replace("-", ""), started[11:19].replace(":", "")
        key = f"{day}-{clock}-{secrets.token_hex(3)}"
        with self._writing.begin() as c:
            insert_if_absent(c, rig, {"name": here.name, "facts": here.facts, "notes": here.notes})
            rig_key = c.execute(sa.select(rig.c.id).where(rig.c.name == here.name)).scalar_one()
            c.execute(
                rig.update()
                .where(rig.c.id == rig_key)
                .values(facts=here.facts, **({"notes": here.notes} if here.notes else {}))
            )
            c.execute(
                run.insert().values(
                    id=key,
                    drive_id=_drive_id(c, name),
                    rig_id=rig_key,
                    target=target,
                    plan=plan,
                    seed=seed,
                    options=options,
                    started=started,
                    state="running",
                    laid_out_bytes=0,
                    version=version,
                    unit_id=sample_id,
                    device=device,
                    arrival=next_arrival(),
                    excluded=excluded,
                    circumstances=circumstances,
                )
            )
        return RunWriter(self._writing, spool_name(self._where), key)

    def resume_run(self, key: str, options: dict[str, Any]) -> RunWriter:
        """Open a run again that was not finished.

        What it gives back takes the passes that are left.
        """
        with self._writing.begin() as c:
            c.execute(
                run.update()
                .where(run.c.id == key)
                .values(state="running", ended=None, options=options)
            )
            laid_out = c.execute(
                sa.select(run.c.laid_out_bytes).where(run.c.id == key)
            ).scalar_one()
        return RunWriter(self._writing, spool_name(self._where), key, laid_out)

    # What was noted

    def note(self, name: str, notes: list[Note], readings: list[Reading]) -> None:
        """Write notes and readings down for a drive."""
        with self._writing.begin() as c:
            _add(c, _drive_id(c, name), notes, readings, utc_now())

    def log(self, name: str, found: RunLog, means: list[Reading]) -> bool:
        """Store an instrument's log with its means. Return True if it replaced an earlier one.

        A log of the same quantity beside the same run is the same log, laid anew.
        """
        same = (
            instrument_log.c.run == found.run,
            sa.func.lower(instrument_log.c.quantity) == found.quantity.lower(),
        )
        with self._writing.begin() as c:
            drive_id, now = _drive_id(c, name), utc_now()
            replaced = c.execute(instrument_log.delete().where(*same)).rowcount > 0
            for method in {m.method for m in means}:
                prefix = f"{found.quantity}, "
                old = (
                    reading.c.drive_id == drive_id,
                    reading.c.method == method,
                    sa.func.lower(sa.func.substr(reading.c.what, 1, len(prefix))) == prefix.lower(),
                )
                c.execute(reading.delete().where(*old))
            values = asdict(found) | {"drive_id": drive_id, "written": now}
            series = {k: list(values[k]) for k in ("seconds", "readings")}
            c.execute(instrument_log.insert().values(values | series))
            _add(c, drive_id, [], means, now)
        return replaced

    # Recordings

    def keep_recording(self, name: str, found: Recording, digest: str) -> bool:
        """Store a recording. Return True if it is new.

        Raises
        ------
        UsageError
            Another recording has this name, or it is too large.
        """
        with self._writing.begin() as c:
            row = c.execute(_recording(name)).mappings().first()
            if row is not None and row["digest"] == digest:
                return False
            if row is not None:
                raise UsageError(
                    f"the shelf has another recording called '{row['name']}'",
                    "keep it under another name with --as, or take the other away: "
                    "jovik record remove",
                )
            head, requests = parts_of(found)
            add_recording(c, name, head, requests, utc_now())
        return True

    def remove_recording(self, name: str) -> str:
        """Remove a recording from the shelf, and return its exact name.

        Raises
        ------
        UnknownNameError
            There is none of this name.
        """
        with self._writing.begin() as c:
            row = c.execute(_recording(name)).mappings().first()
            if row is None:
                names = c.execute(sa.select(recording.c.name)).scalars().all()
                raise UnknownNameError("recording", name, names, "see: jovik record list")
            c.execute(recording.delete().where(recording.c.id == row["id"]))
        return str(row["name"])


def add_recording(
    c: sa.Connection, name: str, head: dict[str, Any], requests: bytes, now: str
) -> None:
    """Add the parts of a recording under a name that is free."""
    if len(requests) > KEPT_RECORDING_BYTES:
        raise UsageError(
            f"a recording of {head.get('requests'):,} requests is too large for the shelf",
            "its file can be replayed as it is",
        )
    packed = zlib.compress(requests, 6)
    _, digest = recording_from(head, [requests], len(packed))
    c.execute(
        recording.insert().values(
            name=name,
            folded_name=name.casefold(),
            digest=digest,
            head=head,
            requests=packed,
            written=now,
        )
    )


def _recording(name: str) -> sa.Select[Any]:
    columns = (recording.c.id, recording.c.name, recording.c.digest)
    return sa.select(*columns).where(recording.c.folded_name == name.casefold())


def _drive_id(c: sa.Connection, name: str) -> int:
    """Return the key of a drive, or raise UnknownNameError with the nearest names."""
    folded = name.strip().casefold()
    key: int | None = c.execute(sa.select(drive.c.id).where(drive.c.folded_name == folded)).scalar()
    if key is None:
        raise unknown_drive(name, list(c.execute(sa.select(drive.c.name)).scalars()))
    return key


def _add(
    c: sa.Connection, drive_id: int, notes: list[Note], readings: list[Reading], now: str
) -> None:
    """Write them down for a drive."""
    written = {"drive_id": drive_id, "written": now}
    if notes:
        c.execute(note.insert(), [asdict(one) | written for one in notes])
    if readings:
        values = [{f: getattr(one, f) for f in READING_FIELDS} | written for one in readings]
        c.execute(reading.insert(), values)
