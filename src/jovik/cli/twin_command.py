"""`jovik twin`: a model drive fitted to a drive's results."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.completion import drives
from jovik.cli.handled_by import handled_by
from jovik.cli.options import force_option, format_option, shelf_option


@click.command()
@click.argument("drive", shell_complete=drives)
@click.option(
    "--out",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE.toml",
    help="Also write the twin as a model drive.",
)
@force_option
@format_option()
@shelf_option
@handled_by("twin:twin")
def twin() -> None:
    """Fit a model drive to the results of DRIVE: its twin, which predicts what was not measured.

    Each parameter has an interval and the steps that determined it. What no step determined is the
    usual figure of the drive's class. Each step is left out in turn and predicted from the others.

    \b
    jovik twin "Comet 2TB"
    jovik twin "Comet 2TB" --out comet-twin.toml
    jovik measure model:comet-twin.toml 'replay "editor-start"'
    jovik rank --load editor-start
    """
