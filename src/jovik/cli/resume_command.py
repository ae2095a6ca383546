"""`jovik resume`: continue an interrupted run after its last finished pass."""

from __future__ import annotations

import click

from jovik.cli.handled_by import handled_by
from jovik.cli.options import destroy_options, format_option, shelf_option, unattended_options


@click.command()
@click.argument("run", required=False)
@click.option(
    "--target",
    "target_at",
    metavar="TARGET",
    help="Where the drive is now. Default: the original target.",
)
@destroy_options
@unattended_options
@format_option()
@shelf_option
@handled_by("resume:resume")
def resume() -> None:
    """Resume RUN, or the last unfinished run, after its last finished pass.

    The sample and the rig must be the same.

    \b
    jovik resume
    jovik resume 20261123-101500-0a1b2c --target /mnt/new
    """
