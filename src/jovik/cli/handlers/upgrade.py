"""Carry out `jovik upgrade`."""

from __future__ import annotations

from pathlib import Path

from jovik.answers import upgrade as answers
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.cli.output import show
from jovik.cli.written_files import say_written
from jovik.shelf.store import Shelf


def upgrade(
    old: str,
    new: tuple[str, ...],
    link: float | None,
    load: str | None,
    machine_price: float | None,
    brief: bool,
    out: Path | None,
    language: str,
    force: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Compare the drive in use with those that would replace it."""
    with Shelf(where_from(shelf_at)) as shelf:
        answer = answers.upgrade(
            shelf, old, *new, link=link, machine_price=machine_price, brief=brief, load=load
        )
        if out is None:
            if language != "en":
                raise UsageError("--language is of a page", "say where: --out upgrade.html")
            return show(answer, form)
        # A page loads more than all the rest.
        from jovik.report.client_page import publish_client_page
        from jovik.report.language import translator_for

        translator = translator_for(shelf, language)
    written = publish_client_page(answer.found, out, machine_price, translator, force=force)
    say_written(form, written)
    return 0
