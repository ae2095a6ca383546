"""Every drive on the shelf on one page: the ranking, step by step, and the way to each review."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from jovik.base.sanitize import file_name
from jovik.base.version import VERSION
from jovik.queries.ranking import Ranked, ranked
from jovik.report.document import Document, Links, Paragraph, Section
from jovik.report.pictures import ranking_picture
from jovik.shelf.store import Shelf
from jovik.tables.ranking import overall_table, ranking_foot, step_table
from jovik.tables.sheets import sheets_table

DRAWN = 16
"""So many bars a picture has room for."""
NEAR, TOP = 4, 3
"""Among many, a drive is shown with so many before and behind it, and the best so many."""


def page_names(drives: Sequence[str]) -> dict[str, str]:
    """For each drive, in the order of the shelf, the name of its page without an ending.

    No two alike.
    """
    names: dict[str, str] = {}
    taken = {"index"}
    for drive in drives:
        plain = file_name(drive)
        name = next(
            n
            for n in (plain, *(f"{plain}-{number}" for number in range(2, len(drives) + 3)))
            if n not in taken
        )
        taken.add(name)
        names[drive] = name
    return names


def comparison(shelf: Shelf, pages: Sequence[tuple[str, str]]) -> Document:
    """The page of the whole shelf.

    Parameters
    ----------
    pages : sequence of (drive, file)
        Reviews that lie beside it.

    Raises
    ------
    UsageError
        Nothing was measured.
    """
    found = ranked(shelf)
    ranking = found.ranking
    placed = [d for d in ranking.drives if d.place is not None]
    some = replace(ranking, drives=tuple(placed[:DRAWN]))
    more = f" The picture shows the first {DRAWN}." if len(placed) > DRAWN else ""
    sections = [
        Section(
            "ranking",
            "The ranking",
            (
                Paragraph(f"{len(placed)} drives in {len(ranking.kinds)} kinds of step.{more}"),
                ranking_picture(some),
                replace(overall_table(found), notes=ranking_foot(found)),
            ),
        ),
        Section("reviews", "The reviews", (Links(tuple(pages)),) if pages else ()),
        Section("steps", "Step by step", tuple(step_table(found, kind) for kind in ranking.kinds)),
        Section(
            "sheets", "The drives", (sheets_table([shelf.sheet(n) for n in shelf.drive_names()]),)
        ),
    ]
    days = sorted({s.result.started[:10] for d in ranking.drives for s in d.steps})
    when = days[0] if len(days) == 1 else f"{days[0]} to {days[-1]}"
    return Document(
        "Drives compared",
        f"Measured {when}",
        tuple(s for s in sections if s.blocks),
        f"Made by Jovik {VERSION}",
    )


def around(found: Ranked, drive: str) -> Ranked:
    """The ranking as one drive's review shows it.

    All of a few, of many the best and those next to it.
    """
    rows = found.ranking.drives
    at = next(n for n, d in enumerate(rows) if d.drive == drive)
    kept = [d for n, d in enumerate(rows) if n < TOP or abs(n - at) <= NEAR]
    if len(rows) <= DRAWN:
        kept = list(rows)
    return replace(found, ranking=replace(found.ranking, drives=tuple(kept)))
