"""Carry out `jovik health`."""

from __future__ import annotations

from jovik.answers.health import health as ask
from jovik.base.settings import where_from
from jovik.cli import output
from jovik.queries.readiness import shelf_if_any


def health(target: str, form: str, shelf_at: str | None) -> int:
    """Read the health log of a drive."""
    with shelf_if_any(where_from(shelf_at)) as shelf:
        return output.show(ask(target, shelf), form)
