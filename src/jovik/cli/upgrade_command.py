"""`jovik upgrade`: the drive there is against those that could replace it."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.base.quantities import parse_link
from jovik.cli.completion import drives, recordings
from jovik.cli.handled_by import handled_by
from jovik.cli.options import (
    UnitParam,
    force_option,
    format_option,
    language_option,
    shelf_option,
)


@click.command()
@click.argument("old", shell_complete=drives)
@click.argument("new", shell_complete=drives, nargs=-1, required=True)
@click.option(
    "--link",
    type=UnitParam("RATE", parse_link),
    help="The rate of the link for the new drive, such as 550MB/s.",
)
@click.option(
    "--load",
    metavar="RECORDING",
    shell_complete=recordings,
    help="Begin with what this recorded program takes on each (see jovik record list).",
)
@click.option(
    "--instead-of",
    "machine_price",
    type=click.FloatRange(min=0, min_open=True),
    help="The price of replacing the whole machine.",
)
@click.option(
    "--brief", is_flag=True, help="One page for a client: jobs, price and the conclusion."
)
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    help="Write that page: FILE.html (ready to print), FILE.md, or a folder for both.",
)
@language_option
@force_option
@format_option("markdown")
@shelf_option
@handled_by("upgrade:upgrade")
def upgrade() -> None:
    """Compare OLD with each NEW drive that would replace it.

    \b
    jovik upgrade "Slate 1TB" "Comet 2TB"
    jovik upgrade "Slate 1TB" "Comet 2TB" "Drift 1TB" --link 1900MB/s
    jovik upgrade "Slate 1TB" "Comet 2TB" --instead-of 900 --brief
    jovik upgrade "Slate 1TB" "Comet 2TB" --load editor-start
    jovik upgrade "Slate 1TB" "Comet 2TB" --out client.html --language de
    """
