"""Carry out `jovik scout`."""

from __future__ import annotations

from jovik.answers.scout import scout as ask
from jovik.base.settings import where_from
from jovik.cli import output
from jovik.queries.readiness import shelf_if_any


def scout(
    target: str | None, serials: bool, everything: bool, form: str, shelf_at: str | None
) -> int:
    """List attached drives, or the one under TARGET, and what would prevent testing them."""
    with shelf_if_any(where_from(shelf_at)) as shelf:
        answer = ask(shelf, target, serials=serials, everything=everything)
    return output.show(answer, form)
