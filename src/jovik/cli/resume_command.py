"""`jovik resume`: go on with a run that was interrupted, after its last finished pass."""

from __future__ import annotations

import click

from jovik.cli.options import destroy_options, format_option, shelf_option


@click.command()
@click.argument("run", required=False)
@click.option(
    "--target",
    "target_at",
    metavar="TARGET",
    help="Where the drive hangs now. Default: where it was.",
)
@destroy_options
@format_option()
@shelf_option
def resume(
    run: str | None,
    target_at: str | None,
    destroy: str | None,
    content_worthless: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Go on with RUN, or the last one that was not finished, after its last finished pass.

    It has to be the same unit on the same rig.

    \b
    jovik resume
    jovik resume 20261123-101500-0a1b2c --target /mnt/new
    """
    from jovik.cli.run_flow import EnduranceConsent, run_order
    from jovik.queries.runs import run_key
    from jovik.runs import resume_request
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        named = run_key(shelf, run) if run is not None else None
        record, order = resume_request(
            shelf, named, target_at, destroy=destroy, content_worthless=content_worthless
        )
        return run_order(
            shelf,
            shelf.sheet(record.drive),
            order,
            form,
            consent=EnduranceConsent(yes=True),
            resumed=record.id,
        )
