"""`jovik scout`: which drives are here, and what stands in the way of testing each."""

from __future__ import annotations

import click

from jovik.cli.handled_by import handled_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.argument("target", required=False)
@click.option(
    "--serials", is_flag=True, help="Show serials in full; otherwise only their last characters."
)
@click.option(
    "--all",
    "everything",
    is_flag=True,
    help="Show all that may make figures differ, with the command that changes it.",
)
@format_option()
@shelf_option
@handled_by("scout:scout")
def scout() -> None:
    """Show every drive here, or the one under TARGET.

    What it is, what it hangs on, and what stands in the way.

    TARGET is a device, a folder (then the drive under it is shown), or a model drive.

    \b
    jovik scout
    jovik scout /mnt/new
    jovik scout /mnt/new --all
    jovik scout model:pebble
    """
