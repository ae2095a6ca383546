"""Carry out `jovik resume`."""

from __future__ import annotations

from jovik.base.settings import where_from
from jovik.cli.run_flow import EnduranceConsent, Telling, run_order
from jovik.cli.unattended import Unattended
from jovik.queries.runs import run_key
from jovik.runs import resume_request
from jovik.shelf.store import Shelf


def resume(
    run: str | None,
    target_at: str | None,
    destroy: str | None,
    content_worthless: bool,
    quiet: bool,
    progress: str | None,
    on_end: str | None,
    form: str,
    shelf_at: str | None,
) -> int:
    """Resume RUN, or the last unfinished one, after its last finished pass."""
    with Shelf(where_from(shelf_at)) as shelf:
        named = run_key(shelf, run) if run is not None else None
        record, request = resume_request(
            shelf, named, target_at, destroy=destroy, content_worthless=content_worthless
        )
        return run_order(
            shelf,
            shelf.sheets.get(record.drive),
            request,
            form,
            consent=EnduranceConsent(yes=True),
            resumed=record.id,
            telling=Telling(unattended=Unattended(quiet, progress, on_end)),
        )
