"""`jovik health`: the drive's own log, in plain words."""

from __future__ import annotations

import click

from jovik.cli.handled_by import handled_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.argument("target")
@format_option("markdown")
@shelf_option
@handled_by("health:health")
def health() -> None:
    """Read the health log of a drive: TARGET is the device, or a folder on it.

    Most systems allow only root to send the necessary commands to a drive. A model drive has a
    simulated log. If the shelf knows that a temperature sensor of this sample does not work, its
    reading is marked.

    \b
    jovik health /dev/nvme1n1
    jovik health model:comet
    """
