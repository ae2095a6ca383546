"""`jovik health`: the drive's own log, in plain words."""

from __future__ import annotations

import click

from jovik.cli.handled_by import handled_by
from jovik.cli.options import format_option


@click.command()
@click.argument("target")
@format_option()
@handled_by("health:health")
def health() -> None:
    """Read the health log of the drive that TARGET is or lies on: a device, or a folder.

    It needs the right to send the drive commands; most systems give it to root. A model drive has a
    made log, to try what reads one.

    \b
    jovik health /dev/nvme1n1
    jovik health model:comet
    """
