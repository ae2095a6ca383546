"""Sheets on the shelf: drives with their claims and samples, and the addresses of their pages."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass

from jovik.base.errors import ShelfError, UnknownNameError
from jovik.base.page_address import is_address, new_address
from jovik.sheets.sheet import Claim, Drive, Sheet
from jovik.shelf.reader import Reader, Reading, Row
from jovik.shelf.records import DamagedRecord, naming, read_claim, read_drive

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


def drive_row(r: Reading, name: str) -> Row:
    """Return the row of a drive, or raise UnknownNameError with the nearest names."""
    row = r.first("SELECT * FROM drive WHERE folded_name = ?", name.strip().casefold())
    if row is None:
        raise unknown_drive(name, r.column("SELECT name FROM drive"))
    return row


def unknown_drive(name: str, names: list[str]) -> UnknownNameError:
    """Return the error for a drive that a shelf does not have."""
    return UnknownNameError("drive", name, names, f'or write its sheet: jovik sheet new "{name}"')


class Sheets:
    """The sheets of an open shelf."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader

    def names(self) -> list[str]:
        """Return names of all drives, in the order they were enrolled."""
        with self._reader.reading() as r:
            return r.column("SELECT name FROM drive ORDER BY id")

    def drives(self) -> dict[str, Drive]:
        """Return every drive as sold by its name, in the order they were enrolled."""
        with self._reader.reading() as r:
            rows = r.rows("SELECT * FROM drive ORDER BY id")
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
        with self._reader.reading() as r:
            row = drive_row(r, name)
            rows = r.rows("SELECT * FROM claim WHERE drive_id = ? ORDER BY position", row["id"])
        claims = []
        for one in rows:
            at = f"claim {one['position'] + 1} of '{row['name']}'"
            with contextlib.suppress(DamagedRecord), naming(at):
                claims.append(read_claim({f: one[f] for f in _CLAIM_FIELDS}))
        try:
            return Sheet(read_drive({f: row[f] for f in _DRIVE_FIELDS}), tuple(claims))
        except DamagedRecord as error:
            raise ShelfError(
                f"the drive '{row['name']}' is damaged: {error}", "see jovik shelf check"
            ) from None

    def samples(self, name: str) -> list[Sample]:
        """Return the samples of a drive that were met so far."""
        fields = "id, name, serial_hash, serial_tail, firmware"
        query = f"SELECT {fields} FROM unit WHERE drive_id = ? ORDER BY id"
        with self._reader.reading() as r:
            return [Sample(*row) for row in r.tuples(query, drive_row(r, name)["id"])]

    def drive_of_serial(self, serial_hash: str) -> str | None:
        """Return the drive that a sample of this serial is of.

        Of several the one that met it last.
        """
        query = (
            "SELECT drive.name FROM drive JOIN unit ON unit.drive_id = drive.id "
            "WHERE unit.serial_hash = ? ORDER BY unit.id DESC LIMIT 1"
        )
        with self._reader.reading() as r:
            return next(iter(r.column(query, serial_hash)), None)

    def stored_addresses(self) -> dict[str, str | None]:
        """Return the address of each drive's page as it is stored, in the order of enrolment."""
        with self._reader.reading() as r:
            return dict(r.tuples("SELECT name, address FROM drive ORDER BY id"))

    def page_addresses(self) -> dict[str, str]:
        """Return the address of each drive's page: the one it has, or else a new one."""
        known = self.stored_addresses()
        addresses = {name: a for name, a in known.items() if a is not None and is_address(a)}
        for name in known:
            if name not in addresses:
                addresses[name] = new_address(name, set(addresses.values()))
        return {name: addresses[name] for name in known}
