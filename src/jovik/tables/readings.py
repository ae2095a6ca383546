"""What was read by hand of a drive."""

from __future__ import annotations

from dataclasses import replace

from jovik.queries.readings import ComparedReading, Noted
from jovik.tables.table import Table


def readings_table(found: Noted) -> Table:
    """Each reading with its place, and how far it lies from what Jovik measured."""
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
    said = [
        "value: the median where it was read more than once; place: among readings of the same "
        "method; against Jovik: how far it lies from what Jovik measured"
    ]
    return Table(
        f"{found.drive}: readings",
        ["reading", "value", "95 % interval", "readings", "place", "against Jovik", "how"],
        rows,
        right=(1, 2, 3),
        spare=(3,),
        notes=said,
    )


def _span(found: ComparedReading) -> str:
    if found.value.low is None or found.value.high is None:
        return "-"
    low, high = (replace(found.reading, value=v) for v in (found.value.low, found.value.high))
    return f"{low.shown} to {high.shown}"
