"""`jovik shelf`: keep, move, merge and share the library."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.completion import drives
from jovik.cli.handled_by import handled_by
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import force_option, format_option, shelf_option


@click.group(cls=NamingGroup)
def shelf() -> None:
    """Back up, move, merge and share the shelf.

    \b
    jovik shelf export --out everything.zip
    jovik shelf import everything.zip --shelf postgresql://me@bench/lab
    jovik shelf backup --out copy.db
    jovik shelf log
    """


@shelf.command("export")
@click.option(
    "--drive", metavar="NAME", shell_complete=drives, help="Only this drive and its runs."
)
@click.option(
    "--out",
    required=True,
    type=click.Path(dir_okay=False, allow_dash=True, path_type=Path),
    help="The zip to write; - is standard output.",
)
@force_option
@format_option()
@shelf_option
@handled_by("shelf:export_command")
def export_command() -> None:
    """Export the shelf to a zip of JSON and CSV, which `import` reads anywhere."""


@shelf.command("import")
@click.argument("source", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option(
    "--drive", metavar="NAME", shell_complete=drives, help="Only this drive and its runs."
)
@click.option(
    "--mapping",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="SOURCE is foreign CSV; this TOML explains its columns.",
)
@format_option()
@shelf_option
@handled_by("shelf:import_command")
def import_command() -> None:
    """Import the records in SOURCE.

    Existing records stay, so that a second import changes nothing.

    SOURCE is a zip that `export` wrote, or with --mapping a CSV table from elsewhere, whose figures
    are noted as readings, not as measured.
    """


quiet_option = click.option("--quiet", is_flag=True, help="Print nothing if the shelf is intact.")


@shelf.command()
@quiet_option
@format_option()
@shelf_option
@handled_by("shelf:check")
def check() -> None:
    """Check the shelf: the database, and every record, series and histogram in it.

    The exit status is 1 if it is not.
    """


@shelf.command()
@click.option(
    "--out",
    required=True,
    type=click.Path(dir_okay=False, path_type=Path),
    help="The file to write; it is a shelf itself.",
)
@click.option("--force", is_flag=True, help="Replace a file that is there, a shelf included.")
@quiet_option
@format_option()
@shelf_option
@handled_by("shelf:backup")
def backup() -> None:
    """Back up the shelf to a file, while others continue to write to it."""


@shelf.command("log")
@click.option("--drive", metavar="NAME", help="Only changes of this drive, removed or not.")
@format_option("markdown")
@shelf_option
@handled_by("shelf:log_command")
def log_command() -> None:
    """List corrections of the shelf, newest first: when, what, from and to.

    \b
    jovik shelf log --drive "Comet 2TB"
    """
