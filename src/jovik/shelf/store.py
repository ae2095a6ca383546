"""The shelf: sheets in and out, runs written as they happen, results read back."""

from __future__ import annotations

import contextlib
import logging
import secrets
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from jovik.analysis.step_result import StepResult
from jovik.base.circumstances import Circumstance
from jovik.base.errors import ShelfError, UnknownNameError, UsageError
from jovik.base.page_address import is_address, new_address
from jovik.base.trace import Trace
from jovik.hardware.rig import Rig
from jovik.sheets.changes import Change, with_claim
from jovik.sheets.instrument_log import RunLog
from jovik.sheets.reading import Note, Reading
from jovik.sheets.sheet import Claim, Drive, Sheet
from jovik.shelf import notes as noting
from jovik.shelf import read_results, read_runs
from jovik.shelf.corrections import Corrections
from jovik.shelf.postgresql import is_server
from jovik.shelf.read_runs import RunFigures, RunRecord, StoredPass
from jovik.shelf.recordings import Recordings
from jovik.shelf.records import DamagedRecord, read_claim, read_drive, read_rig
from jovik.shelf.refusals import refuse
from jovik.shelf.schema import claim, drive, rig, run, step, unit
from jovik.shelf.spool import flush_spool, spool_name
from jovik.shelf.sqlite import WRITE_OPTIONS, open_engine, shown_place
from jovik.shelf.writer import RunWriter, insert_if_absent, next_arrival, utc_now
from jovik.steps.replay import LIBRARIES

if TYPE_CHECKING:
    from jovik.shelf.integrity import IntegrityReport
    from jovik.shelf.merge import ImportCounts


log = logging.getLogger(__name__)


RECENT_RESULTS = 3
"""Results of a kind that determine the differences between runs of a drive."""


_CLAIM_FIELDS = tuple(Claim.__dataclass_fields__)
_DRIVE_FIELDS = tuple(Drive.__dataclass_fields__)


@dataclass(frozen=True)
class Sample:
    """One physical sample of a drive. Its serial is stored as a digest and its last letters."""

    id: int
    name: str
    serial_hash: str
    serial_tail: str
    firmware: str


class Shelf:
    """An open shelf, as a context manager.

    Parameters
    ----------
    where : str
        A path, or the address of a PostgreSQL database.
    create : bool
        Make it if there is none.
    touching : bool
        Whether opening may change something: bring it to the newest revision, deliver what waits
        for it.

    `where` is its place without a password, `delivered` how many passes had waited for it on this
    machine (`jovik.shelf.spool`).

    Raises
    ------
    ShelfError
        See `jovik.shelf.sqlite.open_engine`. Every method raises it too when the shelf cannot be
        read or written.
    """

    def __init__(self, where: str, *, create: bool = False, touching: bool = True) -> None:
        self.where = shown_place(where)
        self._engine = open_engine(where, create=create, migrating=touching)
        self._writing = self._engine.execution_options(**WRITE_OPTIONS)
        # A shelf that cannot be read or written is the environment's refusal, wherever that shows.
        sa.event.listen(self._engine, "handle_error", self._refuse)
        self.delivered = self._deliver() if touching else 0
        self.recordings = Recordings(self._engine, self._writing)
        LIBRARIES.append(self.recordings)

    def _deliver(self) -> int:
        """Deliver everything that waits for it. A file that cannot be written can still be read."""
        try:
            return flush_spool(self._writing, spool_name(self.where))
        except ShelfError as error:
            if is_server(self.where):
                raise
            log.warning("passes wait that cannot be delivered now: %s", error.message)
            return 0

    def _refuse(self, context: sa.engine.ExceptionContext) -> None:
        refuse(context, self.where, served=is_server(self.where))

    def __enter__(self) -> Shelf:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """Close every connection."""
        if self.recordings in LIBRARIES:
            LIBRARIES.remove(self.recordings)
        self._engine.dispose()

    # The whole of it

    def export(self, out: Path, name: str | None = None, *, force: bool = False) -> int:
        """Write all of it, or one drive, to a zip (`jovik.shelf.archive.export`).

        How many runs are in it.
        """
        from jovik.shelf.archive import export

        only = self.sheet(name).drive.name if name is not None else None
        return export(self._engine, out, only, force=force)

    def merge(self, source: Path, name: str | None = None) -> ImportCounts:
        """Import the records of an export (`jovik.shelf.merge`)."""
        from jovik.shelf.archive_reader import Archive
        from jovik.shelf.merge import merge

        return merge(self._writing, Archive(source), name)

    def check(
        self, progress: Callable[[int, int], None] = lambda done, of: None
    ) -> IntegrityReport:
        """Return True if it is whole (`jovik.shelf.integrity.check`)."""
        from jovik.shelf.integrity import check

        return check(self._engine, progress)

    def backup(self, out: Path, *, force: bool = False) -> None:
        """Copy it to a file as it is at this moment (`jovik.shelf.backup.backup`)."""
        from jovik.shelf.backup import backup

        backup(self._engine, out, force=force)

    # Sheets

    def drive_names(self) -> list[str]:
        """Return names of all drives, in the order they were enrolled."""
        with self._engine.connect() as c:
            return list(c.execute(sa.select(drive.c.name).order_by(drive.c.id)).scalars())

    def page_addresses(self) -> dict[str, str]:
        """Return the address of each drive's page: the one it has, or else a new one."""
        with self._engine.connect() as c:
            query = sa.select(drive.c.name, drive.c.address).order_by(drive.c.id)
            known = {r.name: r.address for r in c.execute(query)}
        addresses = {name: a for name, a in known.items() if is_address(a)}
        for name in known:
            if name not in addresses:
                addresses[name] = new_address(name, set(addresses.values()))
        return {name: addresses[name] for name in known}

    def keep_addresses(self, addresses: Mapping[str, str]) -> None:
        """Store the address of each drive's page, which it keeps when it is renamed."""
        with self._engine.connect() as c:
            known = {r.name: r.address for r in c.execute(sa.select(drive.c.name, drive.c.address))}
        changed = {name: a for name, a in addresses.items() if known.get(name) != a}
        if not changed:
            return
        with self._writing.begin() as c:
            for name, address in changed.items():
                c.execute(drive.update().where(drive.c.name == name).values(address=address))

    def forget_connections(self) -> None:
        """Leave connections to the process that opened them, and open new ones when needed."""
        self._engine.dispose(close=False)

    def drives(self) -> dict[str, Drive]:
        """Return every drive as sold by its name, in the order they were enrolled."""
        with self._engine.connect() as c:
            rows = c.execute(sa.select(drive).order_by(drive.c.id)).mappings().all()
        drives = {}
        for row in rows:
            with (
                contextlib.suppress(DamagedRecord),
                read_results.naming(f"the drive '{row['name']}'"),
            ):
                drives[row["name"]] = read_drive({f: row[f] for f in _DRIVE_FIELDS})
        return drives

    def sheet(self, name: str) -> Sheet:
        """Return a drive with its claims. Case does not matter.

        Raises
        ------
        UnknownNameError
            With the nearest names.
        ShelfError
            It is damaged; a claim that is, is left out and named.
        """
        with self._engine.connect() as c:
            row = self._drive_row(c, name)
            drive_row = c.execute(
                sa.select(claim).where(claim.c.drive_id == row["id"]).order_by(claim.c.position)
            ).mappings()
            claims = []
            for r in drive_row:
                at = f"claim {r['position'] + 1} of '{row['name']}'"
                with contextlib.suppress(DamagedRecord), read_results.naming(at):
                    claims.append(read_claim({f: r[f] for f in _CLAIM_FIELDS}))
        try:
            return Sheet(read_drive({f: row[f] for f in _DRIVE_FIELDS}), tuple(claims))
        except DamagedRecord as error:
            raise ShelfError(
                f"the drive '{row['name']}' is damaged: {error}", "see jovik shelf check"
            ) from None

    def add_sheet(self, sheet: Sheet) -> None:
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

    def add_claim(self, name: str, one: Claim) -> list[Change]:
        """Put a claim on a drive's sheet, in the place of the same one from the same source."""
        sheet = self.sheet(name)
        return self.corrections.change_sheet(sheet, with_claim(sheet, one))

    @property
    def corrections(self) -> Corrections:
        """Return its corrections, and their log."""
        return Corrections(self._writing)

    def _drive_row(self, c: sa.Connection, name: str) -> sa.RowMapping:
        row = (
            c.execute(sa.select(drive).where(drive.c.folded_name == name.strip().casefold()))
            .mappings()
            .first()
        )
        if row is None:
            names = c.execute(sa.select(drive.c.name)).scalars()
            raise UnknownNameError(
                "drive", name, names, f'or write its sheet: jovik sheet new "{name}"'
            )
        return row

    # Notes and readings

    def note(self, name: str, notes: list[Note], readings: list[Reading]) -> None:
        """Write notes and readings down for a drive."""
        with self._writing.begin() as c:
            noting.add(c, self._drive_row(c, name)["id"], notes, readings, utc_now())

    def notes(self, name: str) -> list[Note]:
        """Return the notes on a drive, oldest first."""
        with self._engine.connect() as c:
            return noting.notes_of(c, self._drive_row(c, name)["id"])

    def readings(self, name: str | None = None) -> list[Reading]:
        """Return the newest reading of each quantity by each method, of one drive or of all."""
        with self._engine.connect() as c:
            return noting.readings(c, self._drive_row(c, name)["id"] if name is not None else None)

    def note_log(self, name: str, log: RunLog, means: list[Reading]) -> bool:
        """Store an instrument's log beside a run. Return True if it replaced an earlier one."""
        with self._writing.begin() as c:
            return noting.add_log(c, self._drive_row(c, name)["id"], log, means, utc_now())

    def logs(self, name: str, run: str | None = None) -> list[RunLog]:
        """Return the instrument logs beside the runs of a drive, or beside one of them."""
        with self._engine.connect() as c:
            return noting.logs(c, self._drive_row(c, name)["id"], run)

    # Units

    def samples(self, name: str) -> list[Sample]:
        """Return the samples of a drive that were met so far."""
        with self._engine.connect() as c:
            key = self._drive_row(c, name)["id"]
            rows = c.execute(
                sa.select(unit).where(unit.c.drive_id == key).order_by(unit.c.id)
            ).mappings()
            return [
                Sample(r["id"], r["name"], r["serial_hash"], r["serial_tail"], r["firmware"])
                for r in rows
            ]

    def drive_of_serial(self, serial_hash: str) -> str | None:
        """Return the drive that a sample of this serial is of.

        Of several the one that met it last.
        """
        query = (
            sa.select(drive.c.name)
            .join(unit, unit.c.drive_id == drive.c.id)
            .where(unit.c.serial_hash == serial_hash)
            .order_by(unit.c.id.desc())
            .limit(1)
        )
        with self._engine.connect() as c:
            return c.execute(query).scalar()

    def meet_sample(
        self,
        name: str,
        serial_hash: str,
        serial_tail: str,
        firmware: str,
        sample_name: str | None = None,
    ) -> Sample:
        """Return the sample of this serial, enrolled when it is first met.

        Its firmware is kept up to date.
        """
        known = self.samples(name)
        if all(u.serial_hash != serial_hash for u in known):
            values = {
                "name": sample_name or f"sample {len(known) + 1}",
                "serial_hash": serial_hash,
                "serial_tail": serial_tail,
                "firmware": firmware,
            }
            with self._writing.begin() as c:
                insert_if_absent(c, unit, values | {"drive_id": self._drive_row(c, name)["id"]})
        sample = next(u for u in self.samples(name) if u.serial_hash == serial_hash)
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

    # Runs

    def rig(self, name: str) -> Rig:
        """Return a machine that drives were measured on.

        Raises
        ------
        UnknownNameError
            There is none of that name.
        """
        with self._engine.connect() as c:
            row = c.execute(sa.select(rig).where(rig.c.name == name)).mappings().first()
            if row is None:
                raise UnknownNameError("rig", name, c.execute(sa.select(rig.c.name)).scalars())
        try:
            with read_results.naming(f"the rig '{name}'"):
                return read_rig({k: row[k] for k in ("name", "facts", "notes")})
        except DamagedRecord:
            return Rig(name, {})

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
                    drive_id=self._drive_row(c, name)["id"],
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
        return RunWriter(self._writing, spool_name(self.where), key)

    def run(self, key: str) -> RunRecord:
        """Return one run (`jovik.shelf.read_runs.run_of`)."""
        return read_runs.run_of(self._engine, key)

    def runs(self, name: str | None = None) -> list[RunRecord]:
        """Return every run of a drive (or of all), oldest first."""
        return read_runs.runs(self._engine, name)

    def run_figures(self, name: str | None = None) -> dict[str, RunFigures]:
        """Return the figures of each run of a drive, or of all."""
        return read_runs.figures(self._engine, name)

    def run_named(self, begun: str) -> str:
        """Return the full name of a run, from any unambiguous part."""
        return read_runs.named(self._engine, begun)

    def circumstances(self, keys: Sequence[str]) -> dict[str, tuple[Circumstance, ...]]:
        """Return the circumstances that mattered when each of these runs began."""
        return read_runs.circumstances(self._engine, keys)

    def latest_run(self, states: Sequence[str] = ()) -> str | None:
        """Return the run that was begun last, of these states where any are named."""
        return read_runs.latest_run(self._engine, states)

    def passes_of_run(self, key: str) -> Iterator[StoredPass]:
        """Yield the passes of a run in order, one at a time."""
        return read_runs.passes_of_run(self._engine, key)

    def traces(self, key: str, phrase: str) -> list[Trace]:
        """Return the passes of every step of a run that has this phrase, with their series."""
        where = sa.and_(step.c.run_id == key, step.c.phrase == phrase, step.c.excluded.is_(None))
        return [trace for _, trace in read_results.traces(self._engine, where)]

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
        return RunWriter(self._writing, spool_name(self.where), key, laid_out)

    # Results

    def results_of_run(self, key: str, *, counted: bool = False) -> list[StepResult]:
        """Return every step of a run that has passes, in order.

        `counted` without what was excluded.
        """
        where = run.c.id == key
        if counted:
            where = sa.and_(where, read_results.NOT_EXCLUDED)
        return read_results.results(self._engine, where, with_latencies=True)

    def passes(self, name: str | None = None, key: str | None = None) -> list[dict[str, Any]]:
        """Return every pass of a drive, of a run or of all, without series, oldest first."""
        where = (
            read_results.of_drive(name)
            if key is None
            else sa.and_(read_results.of_drive(name), run.c.id == key)
        )
        return read_results.passes(self._engine, where)

    def copied(self, name: str | None = None) -> list[str]:
        """Return the phrase of each copy that a drive (or any) was measured with, once."""
        return read_results.copied(self._engine, read_results.of_drive(name))

    def results(self, name: str | None = None, *, with_latencies: bool = False) -> list[StepResult]:
        """Return each counted step with passes of a drive, or of all, oldest first.

        A step or a run that was excluded does not count.
        """
        where = sa.and_(read_results.of_drive(name), read_results.NOT_EXCLUDED)
        return read_results.results(self._engine, where, with_latencies=with_latencies)

    def latest_results(
        self,
        name: str | None = None,
        *,
        with_latencies: bool = False,
        filled: bool = False,
        ladders: bool = False,
    ) -> list[StepResult]:
        """Return the newest result of each kind and fill level, drives by first measurement.

        Steps that measure nothing, such as a rest, are not among them; those on a drive that was
        filled on purpose only with `filled`. The rungs of a ladder are, with `ladders`, or where a
        drive has nothing else: many of them would outweigh all other steps.
        """
        return read_results.latest(
            self._engine, name, with_latencies=with_latencies, filled=filled, ladders=ladders
        )

    def recent_results(
        self, name: str | None = None, most: int = RECENT_RESULTS, *, beyond: int = 0
    ) -> list[StepResult]:
        """Return the newest few results of each kind, oldest first, to compare repeated runs.

        Of drives that were not filled on purpose, and no rungs of ladders; without the newest
        `beyond` of each kind, for who has those.
        """
        return read_results.recent(self._engine, name, most, beyond)

    def latest_by_sample(self, name: str) -> list[StepResult]:
        """For each sample of a drive the latest result of each kind of step."""
        every = self.results(name)
        latest = {
            (r.conditions.sample, r.kind): r
            for r in every
            if r.conditions.sample is not None and read_results.is_drive_result(r, filled=False)
        }
        return list(latest.values())

    def results_of_several_rigs(self, name: str | None = None) -> list[StepResult]:
        """Newest results of each sample on each rig, for drives measured on several rigs."""
        return read_results.of_several_rigs(self._engine, name)

    def results_of_sample(
        self, sample_name: str, name: str | None = None, *, by: Callable[[StepResult], object]
    ) -> list[StepResult]:
        """Return the newest result of each kind for each value of `by`, for one sample.

        Raises
        ------
        UnknownNameError
            No sample of that name was measured.
        UsageError
            Units of several drives have that name.
        """
        every = [
            r
            for r in self.results(name)
            if r.conditions.sample is not None and read_results.is_drive_result(r, filled=False)
        ]
        own = [r for r in every if r.conditions.sample == sample_name]
        if not own:
            raise UnknownNameError(
                "measured sample", sample_name, {str(r.conditions.sample) for r in every}
            )
        drives = list(dict.fromkeys(r.drive for r in own))
        if len(drives) > 1:
            raise UsageError(
                f"samples of {len(drives)} drives are called '{sample_name}': {', '.join(drives)}",
                "say which with --drive",
            )
        return list({(by(r), r.kind): r for r in own}.values())
