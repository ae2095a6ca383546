"""What was read by hand of a drive."""

from __future__ import annotations

from jovik.queries.readings import Noted
from jovik.tables.table import Table


def readings_table(found: Noted) -> Table:
    """Each reading with its place, and how far it lies from what Jovik measured."""
    rows = [
        (
            b.reading.what,
            b.reading.shown,
            f"{b.place} of {b.of}" if b.of > 1 else "-",
            f"{100 * (b.reading.value / b.measured - 1):+.1f} %" if b.measured else "-",
            ", ".join(x for x in (b.reading.instrument, b.reading.method) if x),
        )
        for b in found.readings
    ]
    said = [
        "place: among readings of the same method; against Jovik: how far it lies from "
        "what Jovik measured"
    ]
    return Table(
        f"{found.drive}: readings",
        ["reading", "value", "place", "against Jovik", "how"],
        rows,
        right=(1,),
        notes=said,
    )
