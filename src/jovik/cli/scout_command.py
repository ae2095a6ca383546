"""`jovik scout`: attached drives, and the obstacles to testing each."""

from __future__ import annotations

import click

from jovik.cli.handled_by import handled_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.argument("target", required=False)
@click.option(
    "--serials", is_flag=True, help="Show serial numbers in full, not only their last characters."
)
@click.option(
    "--all",
    "everything",
    is_flag=True,
    help="Show every setting that can change results, with the command that changes it.",
)
@format_option()
@shelf_option
@handled_by("scout:scout")
def scout() -> None:
    """List attached drives, or the one under TARGET, and what would prevent testing them.

    For each drive: identity, link, and what would prevent testing it.

    TARGET is a device, a folder on a drive, or a model drive.

    \b
    jovik scout
    jovik scout /mnt/new
    jovik scout /mnt/new --all
    jovik scout model:pebble
    """
