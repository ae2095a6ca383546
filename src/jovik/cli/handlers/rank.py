"""Carry out `jovik rank`."""

from __future__ import annotations

from typing import Any

from jovik.answers import rank as answers
from jovik.cli.output import show
from jovik.shelf.sqlite import where_from
from jovik.shelf.store import Shelf


def rank(form: str, shelf_at: str | None, **options: Any) -> int:
    """Rank the drives of the shelf."""
    with Shelf(where_from(shelf_at)) as shelf:
        answer = answers.rank(shelf, **options)
    return show(answer, form)
