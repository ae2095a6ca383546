"""`jovik health`: the drive's own log, in plain words."""

from __future__ import annotations

import click

from jovik.cli.handled_by import answered_by
from jovik.cli.options import format_option


@click.command()
@click.argument("target")
@format_option("markdown")
@answered_by("health:health")
def health() -> None:
    """Read the health log of a drive: TARGET is the device, or a folder on it.

    Most systems allow only root to send the necessary commands to a drive. A model drive has a
    simulated log.

    \b
    jovik health /dev/nvme1n1
    jovik health model:comet
    """
