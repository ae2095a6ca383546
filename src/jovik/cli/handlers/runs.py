"""Carry out `jovik runs`."""

from __future__ import annotations

from jovik.base.settings import where_from
from jovik.cli.echo import echo
from jovik.queries.runs import run_key
from jovik.shelf.store import Shelf


def exclude(run: str, number: int | None, why: str, shelf_at: str | None) -> None:
    """Set RUN aside: it stays on the shelf, and is in no verdict, ranking, picture or page."""
    with Shelf(where_from(shelf_at)) as shelf:
        key = run_key(shelf, run)
        shelf.corrections.exclude(key, number, why)
    echo(
        f"{_named(key, number)} is excluded: {why.strip()}; to include it again: "
        f"{_undo(key, number)}"
    )


def include(run: str, number: int | None, shelf_at: str | None) -> None:
    """Take RUN back that was excluded: it counts again."""
    with Shelf(where_from(shelf_at)) as shelf:
        key = run_key(shelf, run)
        why = shelf.corrections.include(key, number)
    echo(f"{_named(key, number)} counts again; it had been excluded: {why}")


def _named(key: str, number: int | None) -> str:
    return f"run {key}" if number is None else f"step {number} of run {key}"


def _undo(key: str, number: int | None) -> str:
    return f"jovik runs include {key}" + (f" --step {number}" if number is not None else "")
