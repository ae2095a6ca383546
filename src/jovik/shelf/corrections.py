"""Corrections of a shelf after the fact.

Each method is one transaction: the change and its entry in the log are there together or not.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

import sqlalchemy as sa

from jovik.base.errors import UsageError
from jovik.sheets.changes import Change, differences
from jovik.sheets.reading import Note, Reading
from jovik.sheets.sheet import Claim, Sheet
from jovik.shelf.schema import (
    change,
    claim,
    drive,
    instrument_log,
    note,
    one_pass,
    reading,
    run,
    step,
    unit,
)
from jovik.shelf.writer import utc_now


class Corrections:
    """Corrections of one shelf.

    Parameters
    ----------
    writing : sqlalchemy Engine
        Whose transactions write.
    """

    def __init__(self, writing: sa.Engine) -> None:
        self._writing = writing

    # Runs

    def exclude(self, key: str, number: int | None, why: str) -> None:
        """Set a run aside, or one step of it (counted from 1): it counts for nothing from now on.

        Raises
        ------
        UsageError
            No reason is given, it was excluded before, or the run has no such step.
        """
        if not why.strip():
            raise UsageError("no reason is given", 'say why: --why "wrong cable"')
        with self._writing.begin() as c:
            before = self._excluded(c, key, number)
            if before is not None:
                raise UsageError(
                    f"{_named(key, number)} is excluded already: {before}",
                    "take it back first: jovik runs include",
                )
            self._set_excluded(c, key, number, why.strip())
            log_change(c, f"run {key}", Change(_what("excluded", number), None, why.strip()))

    def include(self, key: str, number: int | None) -> str:
        """Undo `exclude`, and return the reason that it had.

        Raises
        ------
        UsageError
            It was not excluded, or the run has no such step.
        """
        with self._writing.begin() as c:
            before = self._excluded(c, key, number)
            if before is None:
                raise UsageError(f"{_named(key, number)} is not excluded")
            self._set_excluded(c, key, number, None)
            log_change(c, f"run {key}", Change(_what("excluded", number), before, None))
        return before

    def remove_run(self, key: str) -> int:
        """Remove a run with all its passes, and return their number."""
        with self._writing.begin() as c:
            row = c.execute(sa.select(run, drive.c.name).join(drive).where(run.c.id == key))
            about = row.mappings().one()
            count = _delete_runs(c, run.c.id == key)
            summary = (
                f"{about['name']}, {about['plan']}, begun {about['started'][:16]}, {count} passes"
            )
            log_change(c, f"run {key}", Change("run", summary, None))
        return count

    def _excluded(self, c: sa.Connection, key: str, number: int | None) -> str | None:
        if number is None:
            whole: str | None = c.execute(
                sa.select(run.c.excluded).where(run.c.id == key)
            ).scalar_one()
            return whole
        rows = c.execute(
            sa.select(step.c.position, step.c.excluded).where(step.c.run_id == key)
        ).all()
        reasons: dict[int, str | None] = {position + 1: why for position, why in rows}
        if number not in reasons:
            numbers = ", ".join(map(str, sorted(reasons))) or "none"
            raise UsageError(f"run {key} has no step {number}", f"it has steps: {numbers}")
        return reasons[number]

    def _set_excluded(
        self, c: sa.Connection, key: str, number: int | None, why: str | None
    ) -> None:
        if number is None:
            c.execute(run.update().where(run.c.id == key).values(excluded=why))
        else:
            which = (step.c.run_id == key, step.c.position == number - 1)
            c.execute(step.update().where(*which).values(excluded=why))

    # Sheets

    def change_sheet(self, before: Sheet, after: Sheet) -> list[Change]:
        """Replace a sheet with its edited form, and return the changes.

        Claims that were not changed, and those that cannot be read, stay as they are.

        Raises
        ------
        UsageError
            Another drive has the new name.
        """
        changes = differences(before, after)
        if not changes:
            return []
        old = before.drive.name
        try:
            with self._writing.begin() as c:
                key = c.execute(sa.select(drive.c.id).where(drive.c.name == old)).scalar_one()
                values = asdict(after.drive) | {"folded_name": after.drive.name.casefold()}
                c.execute(drive.update().where(drive.c.id == key).values(values))
                _replace_claims(c, key, before.claims, after.claims)
                for one in changes:
                    log_change(c, old, one)
        except sa.exc.IntegrityError:
            raise UsageError(
                f"there is a drive called '{after.drive.name}' on this shelf already",
                "use another name",
            ) from None
        return changes

    def remove_drive(self, name: str, *, with_runs: bool = False) -> dict[str, int]:
        """Remove a drive with its sheet, notes, readings and samples, and return their numbers.

        Parameters
        ----------
        with_runs : bool
            Whether its runs go too.

        Raises
        ------
        UsageError
            It has runs, and they were not to go.
        """
        with self._writing.begin() as c:
            key = c.execute(sa.select(drive.c.id).where(drive.c.name == name)).scalar_one()
            of_drive = run.c.drive_id == key
            count = c.execute(sa.select(sa.func.count()).where(of_drive)).scalar_one()
            if count and not with_runs:
                raise UsageError(
                    f"{name} has {count} {'run' if count == 1 else 'runs'}",
                    "add --with-runs to remove them too; jovik shelf export keeps a copy",
                )
            gone = {"runs": count, "passes": _delete_runs(c, of_drive)}
            for table in (claim, note, reading, instrument_log, unit):
                deleted = c.execute(table.delete().where(table.c.drive_id == key))
                gone[f"{table.name}s"] = deleted.rowcount
            c.execute(drive.delete().where(drive.c.id == key))
            words = ", ".join(f"{n} {what}" for what, n in gone.items() if n) or "nothing noted"
            log_change(c, name, Change("drive", words, None))
        return gone

    # Notes and readings

    def remove_noted(self, name: str, noted: Note | Reading, number: int) -> None:
        """Remove a note or a reading of a drive, the `number`-th of those that are the same."""
        table, fields = (
            (note, ("sort", "text", "written"))
            if isinstance(noted, Note)
            else (reading, ("what", "value", "unit", "method", "instrument", "written"))
        )
        same = [table.c[f] == getattr(noted, f) for f in fields]
        ids = sa.select(table.c.id).join(drive).where(drive.c.name == name, *same)
        with self._writing.begin() as c:
            key = c.execute(ids.order_by(table.c.id)).scalars().all()[number]
            c.execute(table.delete().where(table.c.id == key))
            log_change(c, name, Change(table.name, noted_words(noted), None))


def log_change(c: sa.Connection, subject: str, one: Change) -> None:
    """Enter a change."""
    c.execute(change.insert().values(asdict(one) | {"made": utc_now(), "subject": subject}))


def noted_words(noted: Note | Reading) -> str:
    """Return a note or a reading in one line."""
    if isinstance(noted, Note):
        return f"{noted.sort}: {noted.text}"
    how = f" ({noted.method})" if noted.method else ""
    return f"{noted.what} = {noted.value:g} {noted.unit}".rstrip() + how


def _named(key: str, number: int | None) -> str:
    return f"run {key}" if number is None else f"step {number} of run {key}"


def _what(word: str, number: int | None) -> str:
    return word if number is None else f"step {number} {word}"


def _delete_runs(c: sa.Connection, mine: sa.ColumnElement[bool]) -> int:
    """Delete runs with their steps and passes, and return the number of passes."""
    keys = sa.select(run.c.id).where(mine)
    steps = sa.select(step.c.id).where(step.c.run_id.in_(keys))
    count = c.execute(one_pass.delete().where(one_pass.c.step_id.in_(steps))).rowcount
    c.execute(step.delete().where(step.c.run_id.in_(keys)))
    c.execute(instrument_log.delete().where(instrument_log.c.run.in_(keys)))
    c.execute(run.delete().where(mine))
    return count


def _replace_claims(
    c: sa.Connection, key: int, before: Sequence[Claim], after: Sequence[Claim]
) -> None:
    rows = c.execute(
        sa.select(claim).where(claim.c.drive_id == key).order_by(claim.c.position)
    ).mappings()
    fields = Claim.__dataclass_fields__
    positions: dict[Claim, list[int]] = {}
    for row in rows:
        positions.setdefault(Claim(**{f: row[f] for f in fields}), []).append(row["position"])
    gone = [p for one, at in positions.items() if one in before and one not in after for p in at]
    c.execute(claim.delete().where(claim.c.drive_id == key, claim.c.position.in_(gone)))
    last = max([p for at in positions.values() for p in at], default=-1)
    free = sorted(gone)
    for one in (x for x in after if x not in before):
        # A corrected claim stands where the wrong one stood.
        last, position = (last, free.pop(0)) if free else (last + 1, last + 1)
        c.execute(claim.insert().values(asdict(one) | {"drive_id": key, "position": position}))
