"""`jovik repeat`: the same plan with the same seeds once more."""

from __future__ import annotations

import click

from jovik.cli.completion import run_names
from jovik.cli.options import destroy_options, format_option, shelf_option


@click.command()
@click.argument("run", required=False, shell_complete=run_names)
@click.option(
    "--target",
    "target_at",
    metavar="TARGET",
    help="Another place for it, such as the same drive on another cable. Default: where it was.",
)
@click.option("--unit", "unit_name", metavar="NAME", help="A name for this sample of the drive.")
@click.option(
    "--rig",
    "rig_name",
    metavar="NAME",
    help="A name for this machine, port and cable. Default: the machine's.",
)
@destroy_options
@click.option("--yes", is_flag=True, help="Do not ask.")
@format_option()
@shelf_option
def repeat(
    run: str | None,
    target_at: str | None,
    unit_name: str | None,
    rig_name: str | None,
    destroy: str | None,
    content_worthless: bool,
    yes: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Do again what RUN did, or the last run.

    The same steps, passes and seeds, as a run of its own.

    \b
    jovik repeat
    jovik repeat 20261123-101500-0a1b2c --target /mnt/rear --rig "rear port"
    """
    from jovik.cli.run_flow import EnduranceConsent, run_order
    from jovik.queries.runs import LAST, run_key
    from jovik.runs import request_from_run
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        record = shelf.run(run_key(shelf, run or LAST))
        order = request_from_run(
            record,
            target_at,
            destroy=destroy,
            content_worthless=content_worthless,
            unit_name=unit_name,
            rig_name=rig_name,
        )
        return run_order(
            shelf, shelf.sheet(record.drive), order, form, consent=EnduranceConsent(yes=yes)
        )
