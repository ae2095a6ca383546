"""Readings of a drive taken by hand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from jovik.queries.readings import ComparedReading, Noted
from jovik.sheets.reading import Note, Reading
from jovik.tables.table import Table


def readings_table(found: Noted) -> Table:
    """Return each reading with its place, and its distance from Jovik's measurement."""
    rows = [
        (
            b.reading.what,
            b.reading.shown,
            _span(b),
            str(len(b.each)),
            f"{b.place} of {b.of}" if b.of > 1 else "-",
            f"{100 * (b.reading.value / b.measured - 1):+.1f} %" if b.measured else "-",
            ", ".join(x for x in (b.reading.instrument, b.reading.method) if x),
        )
        for b in found.readings
    ]
    words = [
        "value: the median of several readings; place: among readings by the same "
        "method; against Jovik: the distance from Jovik's measurement"
    ]
    return Table(
        f"{found.drive}: readings",
        ["reading", "value", "95 % interval", "readings", "place", "against Jovik", "how"],
        rows,
        right=(1, 2, 3),
        optional_columns=(3,),
        notes=words,
    )


def _span(found: ComparedReading) -> str:
    if found.value.low is None or found.value.high is None:
        return "-"
    low, high = (replace(found.reading, value=v) for v in (found.value.low, found.value.high))
    return f"{low.shown} to {high.shown}"


def note_line(note: Note) -> str:
    """Return a note with when it happened and which run it is about, if it is known."""
    about = [note.happened.replace("T", " ")] if note.happened else []
    about += [f"run {note.run}"] if note.run else []
    return note.text + (f" ({', '.join(about)})" if about else "")


def listed_table(drive: str, found: Sequence[Note | Reading]) -> Table:
    """Return everything that was noted of a drive, numbered."""
    rows = [
        (
            str(number),
            n.written[:10],
            n.sort if isinstance(n, Note) else "reading",
            note_line(n) if isinstance(n, Note) else f"{n.what} = {n.shown}",
            "" if isinstance(n, Note) else ", ".join(x for x in (n.instrument, n.method) if x),
        )
        for number, n in enumerate(found, 1)
    ]
    return Table(
        f"{drive}: {len(rows) or 'nothing'} noted",
        ["", "noted", "sort", "note", "how"],
        rows,
        right=(0,),
        optional_columns=(4, 1),
        notes=["to remove one: jovik note DRIVE --remove NUMBER"] if rows else [],
    )


def listed_json(found: Sequence[Note | Reading]) -> list[dict[str, Any]]:
    """Return the same as documented."""
    return [
        {
            "number": number,
            "written": n.written,
            "sort": n.sort if isinstance(n, Note) else "reading",
            "text": n.text if isinstance(n, Note) else n.what,
            "value": None if isinstance(n, Note) else n.value,
            "unit": None if isinstance(n, Note) else n.unit,
            "method": None if isinstance(n, Note) else n.method,
            "instrument": None if isinstance(n, Note) else n.instrument,
            "happened": n.happened if isinstance(n, Note) else None,
            "run": n.run if isinstance(n, Note) else None,
        }
        for number, n in enumerate(found, 1)
    ]
