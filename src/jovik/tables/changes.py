"""The log of a shelf's corrections."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.shelf.change_log import LoggedCorrection
from jovik.tables.table import Table


def log_table(found: Sequence[LoggedCorrection]) -> Table:
    """Return every change, in the order given."""
    rows = [
        (x.made[:16].replace("T", " "), x.subject, x.what, x.before or "-", x.after or "-")
        for x in found
    ]
    return Table(
        "Changes" if rows else "Changes: none",
        ["when (UTC)", "of", "what", "from", "to"],
        rows,
    )
