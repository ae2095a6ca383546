"""`jovik repeat`: the same plan with the same seeds once more."""

from __future__ import annotations

import click

from jovik.cli.completion import run_names
from jovik.cli.handled_by import handled_by
from jovik.cli.options import destroy_options, format_option, shelf_option, unattended_options


@click.command()
@click.argument("run", required=False, shell_complete=run_names)
@click.option(
    "--target",
    "target_at",
    metavar="TARGET",
    help="Another target, such as the same drive on another cable. Default: the original one.",
)
@click.option(
    "--sample", "sample_name", metavar="NAME", help="A name for this sample of the drive."
)
@click.option(
    "--rig",
    "rig_name",
    metavar="NAME",
    help="A name for this machine, port and cable. Default: the machine's.",
)
@destroy_options
@click.option("--yes", is_flag=True, help="Do not ask.")
@unattended_options
@format_option()
@shelf_option
@handled_by("repeat:repeat")
def repeat() -> None:
    """Repeat RUN, or the last run.

    The new run has the same steps, passes and seeds.

    \b
    jovik repeat
    jovik repeat 20261123-101500-0a1b2c --target /mnt/rear --rig "rear port"
    """
