"""Carry out `jovik measure`."""

from __future__ import annotations

from typing import Any

from jovik.base.errors import ShelfError, UnknownRecordingError, UsageError
from jovik.base.settings import where_from
from jovik.cli.output import emit_json
from jovik.cli.run_flow import EnduranceConsent, Telling, run_order
from jovik.cli.several_targets import SeveralTargets, run_several
from jovik.cli.unattended import Unattended
from jovik.runs import RunRequest, fit_budget, prepared, request_for, sheet_for
from jovik.runs.several import LeftOutDrive, split_words
from jovik.runs.several import every_drive as drives_here
from jovik.shelf.store import Shelf
from jovik.tables.announcement import cost_json, enrolment_line


def measure(
    words: tuple[str, ...],
    every_drive: bool,
    together: bool,
    name: str | None,
    on_error: str,
    ask_above: float,
    yes: bool,
    dry_run: bool,
    each_pass: bool,
    quiet: bool,
    progress: str | None,
    on_end: str | None,
    form: str,
    shelf_at: str | None,
    **how: Any,
) -> int:
    """Measure TARGET, a folder on the drive or a model drive (model:NAME), step by step."""
    targets, phrases, left_out = _targets(words, every_drive=every_drive)
    stop = on_error == "stop"
    where = where_from(shelf_at)

    def requests_now() -> list[RunRequest]:
        return [request_for(t, phrases, **how, stop_on_error=stop) for t in targets]

    try:
        # What is misused is refused before there is a shelf.
        requests = requests_now()
    except UnknownRecordingError as unknown:
        try:
            opened = Shelf(where)
        except ShelfError:
            raise unknown from None
        with opened:
            requests = requests_now()
    consent = EnduranceConsent(ask_above, yes)
    with Shelf(where, create=True) as shelf:
        if dry_run and form == "json":
            _costs(shelf, requests, name)
            return 0
        if len(requests) > 1 or every_drive or together:
            if quiet or progress or on_end:
                raise UsageError(
                    "--quiet, --progress and --on-end are of one target",
                    "measure one after the other, each by a command of its own",
                )
            asked = SeveralTargets(
                tuple(requests), tuple(targets), left_out, name, together, each_pass
            )
            return run_several(shelf, asked, form, consent=consent, dry_run=dry_run)
        enrolment = sheet_for(shelf, requests[0].target, name, enrol=not dry_run)
        return run_order(
            shelf,
            enrolment.sheet,
            fit_budget(requests[0], enrolment.sheet),
            form,
            consent=consent,
            dry_run=dry_run,
            telling=Telling(
                enrolment_line(enrolment), each_pass, Unattended(quiet, progress, on_end)
            ),
        )


def _targets(
    words: tuple[str, ...], *, every_drive: bool
) -> tuple[list[str], list[str], tuple[LeftOutDrive, ...]]:
    """Targets, phrases, and drives that are not measured."""
    if every_drive:
        here = drives_here()
        return [str(f) for f in here.folders], list(words), here.left_out
    if not words:
        raise UsageError(
            "there is no target", "name a folder on the drive, such as jovik measure .; see --help"
        )
    return *split_words(words), ()


def _costs(shelf: Shelf, requests: list[RunRequest], name: str | None) -> None:
    """Print the cost of each run as JSON, without writing anything."""
    rows = []
    for request in requests:
        sheet = sheet_for(shelf, request.target, name, enrol=False).sheet
        with prepared(sheet, fit_budget(request, sheet)) as ready:
            rows.append(cost_json(ready))
    emit_json({"runs": rows}, "costs")
