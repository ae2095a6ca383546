"""Sheets: the advertised specifications."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.base.quantities import show_size
from jovik.sheets.sheet import Drive, Sheet
from jovik.tables.table import Table

MEDIA = {"solid state": "SSD", "spinning": "HDD"}
"""The trade's words for the media that Jovik can tell."""


def medium_word(medium: str) -> str:
    """Return a medium in the words of the trade, or as the user wrote it."""
    return MEDIA.get(medium.casefold(), medium)


def sheet_table(found: Sheet) -> Table:
    """Return the claims of a drive, and the drive itself in a line below."""
    rows = [(c.label, c.shown(), "up to" if c.up_to else "", c.printed) for c in found.claims]
    return Table(
        found.drive.name,
        ["claim", "figure", "", "source"],
        rows,
        right=(1,),
        notes=[
            facts_line(found.drive),
            *(f"{c.label}: {c.conditions}" for c in found.claims if c.conditions),
        ],
    )


def sheets_table(found: Sequence[Sheet]) -> Table:
    """Return every drive in a line."""
    rows = [
        (
            s.drive.name,
            s.drive.maker,
            show_size(s.drive.capacity_bytes) if s.drive.capacity_bytes is not None else "",
            s.drive.interface,
            s.drive.spelled_price,
            str(len(s.claims)),
        )
        for s in found
    ]
    header = ["drive", "manufacturer", "capacity", "interface", "price", "claims"]
    return Table(
        "Drives",
        header,
        rows,
        right=(2, 4, 5),
        notes=[] if rows else ['none yet; add one: jovik sheet new "NAME"'],
    )


def facts_line(drive: Drive) -> str:
    """Return the drive itself in one line."""
    facts = [
        " ".join(x for x in (drive.maker, drive.model) if x),
        show_size(drive.capacity_bytes) if drive.capacity_bytes is not None else "",
        drive.interface,
        medium_word(drive.medium),
        drive.spelled_price,
        f"warranty {drive.warranty_years:g} years" if drive.warranty_years is not None else "",
        f"endurance {show_size(drive.endurance_bytes)} written"
        if drive.endurance_bytes is not None
        else "",
        over_provisioning_words(drive),
    ]
    return "; ".join(f for f in facts if f)


def over_provisioning_words(drive: Drive) -> str:
    """Return raw flash and its reserved part, or nothing if the sheet does not state it."""
    share = drive.over_provisioning
    if share is None or drive.flash_bytes is None:
        return ""
    return f"raw flash {show_size(drive.flash_bytes)}, over-provisioning {100 * share:.1f} %"
