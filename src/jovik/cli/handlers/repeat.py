"""Carry out `jovik repeat`."""

from __future__ import annotations

from jovik.base.settings import where_from
from jovik.cli.run_flow import EnduranceConsent, Telling, run_order
from jovik.cli.unattended import Unattended
from jovik.queries.runs import LAST, run_key
from jovik.runs import request_from_run
from jovik.shelf.store import Shelf


def repeat(
    run: str | None,
    target_at: str | None,
    sample_name: str | None,
    rig_name: str | None,
    destroy: str | None,
    content_worthless: bool,
    yes: bool,
    quiet: bool,
    progress: str | None,
    on_end: str | None,
    form: str,
    shelf_at: str | None,
) -> int:
    """Repeat RUN, or the last run."""
    with Shelf(where_from(shelf_at)) as shelf:
        record = shelf.runs.get(run_key(shelf, run or LAST))
        request = request_from_run(
            record,
            target_at,
            destroy=destroy,
            content_worthless=content_worthless,
            sample_name=sample_name,
            rig_name=rig_name,
        )
        return run_order(
            *(shelf, shelf.sheets.get(record.drive), request, form),
            consent=EnduranceConsent(yes=yes),
            telling=Telling(unattended=Unattended(quiet, progress, on_end)),
        )
