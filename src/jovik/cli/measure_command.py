"""`jovik measure`: from a target and phrases to passes on the shelf and a table."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from jovik.base.quantities import parse_time
from jovik.cli.completion import drives, plans, targets_and_phrases
from jovik.cli.options import (
    UnitParam,
    count_range,
    destroy_options,
    format_option,
    percent,
    share,
    shelf_option,
)

if TYPE_CHECKING:
    from jovik.runs import RunRequest
    from jovik.runs.several import LeftOutDrive
    from jovik.shelf.store import Shelf


@click.command()
@click.argument(
    "words", nargs=-1, shell_complete=targets_and_phrases, metavar="TARGET... [PHRASE]..."
)
@click.option(
    "--every-drive",
    is_flag=True,
    help="Measure every drive here that is mounted, each through a folder on it.",
)
@click.option(
    "--together",
    is_flag=True,
    help="Measure each target alone, then all at the same moment, and say what they share.",
)
@click.option(
    "--drive",
    "name",
    metavar="NAME",
    shell_complete=drives,
    help="The drive on the shelf that this is. Default: the one that its identity leads to; a new "
    "one is enrolled.",
)
@click.option(
    "--plan",
    metavar="NAME",
    shell_complete=plans,
    help="A plan, or the path of its .toml file. Default, without phrases: first-look.",
)
@click.option(
    "--passes",
    type=UnitParam("N or A..B", count_range),
    help="Passes of each step. Default: what the plan says; 5 for phrases.",
)
@click.option(
    "--precision",
    type=UnitParam("SHARE", share),
    help="Stop repeating once the interval is this narrow, such as 2%.",
)
@click.option(
    "--budget",
    "budget_ns",
    type=UnitParam("TIME", parse_time),
    help="Time for all steps together, such as 5min; the plan is trimmed to it.",
)
@click.option(
    "--engine",
    type=click.Choice(["auto", "io_uring", "blocking"]),
    default="auto",
    show_default=True,
    help="How I/O is done.",
)
@click.option(
    "--on-error",
    type=click.Choice(["stop", "continue"]),
    default="stop",
    show_default=True,
    help="At an I/O error.",
)
@click.option(
    "--seed",
    type=click.IntRange(0, 2**62),
    help="Of offsets and payload; the same seed does the same I/O.",
)
@click.option(
    "--unit",
    "unit_name",
    metavar="NAME",
    help="A name for this sample of the drive. Default: unit 1, unit 2 ... by serial.",
)
@click.option(
    "--rig",
    "rig_name",
    metavar="NAME",
    help="A name for this machine, port and cable. Default: the machine's.",
)
@click.option(
    "--rig-notes",
    default="",
    metavar="TEXT",
    help="What should be known of the rig: cable, enclosure, port.",
)
@click.option(
    "--keep-serial",
    is_flag=True,
    help="Keep the unit's serial on the shelf in full, not only its digest.",
)
@destroy_options
@click.option(
    "--ask-above",
    type=UnitParam("SHARE", percent),
    default="1%",
    show_default=True,
    help="Ask before writing more of the endurance rating.",
)
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--passes-table", "each_pass", is_flag=True, help="Show each pass of each step, too.")
@click.option("--dry-run", is_flag=True, help="Say what would be done, and write nothing.")
@format_option()
@shelf_option
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
    form: str,
    shelf_at: str | None,
    **how: Any,
) -> int:
    """Measure TARGET, a folder on the drive or a model drive (model:NAME), step by step.

    A PHRASE is one step, or a ladder of steps where a number is a list or a range. Each finished
    pass is on the shelf before the next begins; no test file is left behind. Of several targets
    each has a run of its own, one after another, and they are ranked at the end.

    \b
    jovik measure .
    jovik measure /mnt/new --drive "Comet 2TB"
    jovik measure . --drive "Comet 2TB" "random read 4KiB depth 1..64 for 3s" --passes 7
    jovik measure /mnt/new --drive "Comet 2TB" --plan full-review --budget 30min
    jovik measure model:comet model:slate model:drift --plan quick-compare
    jovik measure --every-drive --plan quick-compare
    """
    from jovik.base.errors import ShelfError, UnknownRecordingError
    from jovik.cli.run_flow import EnduranceConsent, Telling, run_order
    from jovik.cli.several_targets import SeveralTargets, run_several
    from jovik.runs import fit_budget, request_for, sheet_for
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.announcement import enrolment_line

    targets, phrases, left_out = _targets(words, every_drive=every_drive)
    stop = on_error == "stop"
    where = where_from(shelf_at)

    def orders_now() -> list[RunRequest]:
        return [request_for(t, phrases, **how, stop_on_error=stop) for t in targets]

    try:
        # What is misused is refused before there is a shelf.
        orders = orders_now()
    except UnknownRecordingError as unknown:
        try:
            opened = Shelf(where)
        except ShelfError:
            raise unknown from None
        with opened:
            orders = orders_now()
    consent = EnduranceConsent(ask_above, yes)
    with Shelf(where, create=True) as shelf:
        if dry_run and form == "json":
            _costs(shelf, orders, name)
            return 0
        if len(orders) > 1 or every_drive or together:
            asked = SeveralTargets(
                tuple(orders), tuple(targets), left_out, name, together, each_pass
            )
            return run_several(shelf, asked, form, consent=consent, dry_run=dry_run)
        found = sheet_for(shelf, orders[0].target, name, enrol=not dry_run)
        return run_order(
            shelf,
            found.sheet,
            fit_budget(orders[0], found.sheet),
            form,
            consent=consent,
            dry_run=dry_run,
            told=Telling(enrolment_line(found), each_pass),
        )


def _targets(
    words: tuple[str, ...], *, every_drive: bool
) -> tuple[list[str], list[str], tuple[LeftOutDrive, ...]]:
    """Targets, phrases, and drives that are not measured."""
    from jovik.base.errors import UsageError
    from jovik.runs.several import every_drive as drives_here
    from jovik.runs.several import split_words

    if every_drive:
        here = drives_here()
        return [str(f) for f in here.folders], list(words), here.left_out
    if not words:
        raise UsageError(
            "no target is named", "name a folder on the drive, such as jovik measure .; see --help"
        )
    return *split_words(words), ()


def _costs(shelf: Shelf, orders: list[RunRequest], name: str | None) -> None:
    """What each run would cost, as JSON; nothing is written."""
    from jovik.cli.output import emit_json
    from jovik.runs import fit_budget, prepared, sheet_for
    from jovik.tables.announcement import cost_json

    rows = []
    for order in orders:
        sheet = sheet_for(shelf, order.target, name, enrol=False).sheet
        with prepared(sheet, fit_budget(order, sheet)) as ready:
            rows.append(cost_json(ready))
    emit_json({"runs": rows}, "costs")
