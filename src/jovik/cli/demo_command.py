"""`jovik demo`: the main job on model drives, with the commands of a user."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.handled_by import handled_by


@click.command()
@click.option(
    "--out",
    type=click.Path(file_okay=False, path_type=Path),
    help="The folder to create. Default: a new jovik-demo in the current folder.",
)
@handled_by("demo:demo")
def demo() -> None:
    """Test four model drives from sheet to ranking, and show each command on the way.

    The folder then contains a shelf (shelf.db) to continue with, a chart of the ranking, and the
    review.

    \b
    jovik demo
    jovik demo --out /tmp/demo
    """
