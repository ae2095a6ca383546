"""Circumstances that can make figures differ: one line before a run, all on request."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.base.circumstances import Circumstance
from jovik.tables.table import Table


def circumstance_lines(found: Sequence[Circumstance]) -> list[str]:
    """Return one line for the circumstances that matter, or none."""
    matters = [c for c in found if c.matters]
    if not matters:
        return []
    words = "; ".join(c.value + (f" ({c.effect})" if c.effect else "") for c in matters)
    return [f"figures may differ here: {words}; see jovik scout --all"]


def circumstances_table(found: Sequence[Circumstance], title: str = "Circumstances") -> Table:
    """Return all circumstances, those that matter first, with their remedies."""
    rows = [
        (
            str(c.kind),
            c.value,
            "warning" if c.matters else "",
            c.effect,
            c.remedy,
        )
        for c in found
    ]
    return Table(
        title if rows else f"{title}: none found",
        ["circumstance", "value", "", "effect", "remedy"],
        rows,
        notes=["Jovik does not change them"] if any(c.remedy for c in found) else [],
    )
