"""Sheets on the shelf: drives with their claims and samples, and the addresses of their pages."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import asdict, dataclass

import sqlalchemy as sa

from jovik.base.errors import ShelfError, UnknownNameError, UsageError
from jovik.base.page_address import is_address, new_address
from jovik.sheets.sheet import Claim, Drive, Sheet
from jovik.shelf.records import DamagedRecord, read_claim, read_drive
from jovik.shelf.results import naming
from jovik.shelf.schema import claim, drive, unit
from jovik.shelf.writer import insert_if_absent

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


def drive_row(c: sa.Connection, name: str) -> sa.RowMapping:
    """Return the row of a drive, or raise UnknownNameError with the nearest names."""
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


class Sheets:
    """The sheets of an open shelf."""

    def __init__(self, engine: sa.Engine, writing: sa.Engine) -> None:
        self._engine, self._writing = engine, writing

    def names(self) -> list[str]:
        """Return names of all drives, in the order they were enrolled."""
        with self._engine.connect() as c:
            return list(c.execute(sa.select(drive.c.name).order_by(drive.c.id)).scalars())

    def drives(self) -> dict[str, Drive]:
        """Return every drive as sold by its name, in the order they were enrolled."""
        with self._engine.connect() as c:
            rows = c.execute(sa.select(drive).order_by(drive.c.id)).mappings().all()
        drives = {}
        for row in rows:
            with (
                contextlib.suppress(DamagedRecord),
                naming(f"the drive '{row['name']}'"),
            ):
                drives[row["name"]] = read_drive({f: row[f] for f in _DRIVE_FIELDS})
        return drives

    def get(self, name: str) -> Sheet:
        """Return a drive with its claims. Case does not matter.

        Raises
        ------
        UnknownNameError
            With the nearest names.
        ShelfError
            It is damaged; a claim that is, is left out and named.
        """
        with self._engine.connect() as c:
            row = drive_row(c, name)
            rows = c.execute(
                sa.select(claim).where(claim.c.drive_id == row["id"]).order_by(claim.c.position)
            ).mappings()
            claims = []
            for r in rows:
                at = f"claim {r['position'] + 1} of '{row['name']}'"
                with contextlib.suppress(DamagedRecord), naming(at):
                    claims.append(read_claim({f: r[f] for f in _CLAIM_FIELDS}))
        try:
            return Sheet(read_drive({f: row[f] for f in _DRIVE_FIELDS}), tuple(claims))
        except DamagedRecord as error:
            raise ShelfError(
                f"the drive '{row['name']}' is damaged: {error}", "see jovik shelf check"
            ) from None

    def add(self, sheet: Sheet) -> None:
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

    def samples(self, name: str) -> list[Sample]:
        """Return the samples of a drive that were met so far."""
        with self._engine.connect() as c:
            key = drive_row(c, name)["id"]
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
                insert_if_absent(c, unit, values | {"drive_id": drive_row(c, name)["id"]})
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
