"""`jovik sheet`: the drive as sold and its claims, by option or as TOML."""

from __future__ import annotations

import click

from jovik.cli.completion import claimed, drives
from jovik.cli.handled_by import answered_by, handled_by
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import F, format_option, shelf_option
from jovik.sheets.drive_facts import DRIVE_FACTS


@click.group(cls=NamingGroup)
def sheet() -> None:
    """Enter a drive's advertised specifications.

    \b
    jovik sheet new "Fjord 1TB" --maker Halden --capacity 1TB --price "89 EUR"
    jovik sheet claim "Fjord 1TB" "sequential read" 7000MB/s
    jovik sheet claim "Fjord 1TB" "random read 4KiB depth 32" "900,000 IOPS"
    jovik sheet edit "Fjord 1TB" --price "79 EUR"
    """


def _drive_options(command: F) -> F:
    for fact in reversed(DRIVE_FACTS):
        command = click.option(f"--{fact.key}", help=fact.help)(command)
    return command


@sheet.command()
@click.argument("name", required=False)
@_drive_options
@click.option(
    "--from",
    "source",
    type=click.Path(exists=True, dir_okay=False, allow_dash=True),
    help="A sheet in TOML, as 'show --format toml' prints it; - is standard input.",
)
@shelf_option
@handled_by("sheet:new")
def new() -> None:
    """Add the drive NAME, from options or from a TOML file."""


@sheet.command()
@click.argument("name", shell_complete=drives)
@click.argument("what", shell_complete=claimed)
@click.argument("figure")
@click.option(
    "--up-to/--exactly",
    default=True,
    help="Whether the maker promises the best case ('up to').",
    show_default=True,
)
@click.option("--sustained", is_flag=True, help="The claim is about a long write.")
@click.option("--steady", is_flag=True, help="The claim is about the steady state.")
@click.option("--printed", default="", help="The source of the claim, such as 'box, front'.")
@click.option(
    "--conditions",
    default="",
    metavar="TEXT",
    help="Conditions that no step can repeat, such as 'as measured by the maker'.",
)
@click.option("--replace", is_flag=True, help="Replace a claim for the same from another source.")
@shelf_option
@handled_by("sheet:claim")
def claim() -> None:
    """Add a claim to the sheet of the drive NAME, or replace the same one.

    WHAT is the start of a phrase ("sequential read", "random read 4KiB depth 32") and may name the
    size of the file and the payload ("sequential write within 8GiB payload 50% compressible").
    FIGURE is a rate or an access time ("7000MB/s", "900,000 IOPS", "60us").
    """


@sheet.command()
@click.argument("name", shell_complete=drives)
@click.argument("what", shell_complete=claimed)
@click.option("--printed", metavar="TEXT", help="The source of the claim, if there are several.")
@shelf_option
@handled_by("sheet:unclaim")
def unclaim() -> None:
    """Remove a claim from the sheet of the drive NAME.

    \b
    jovik sheet unclaim "Fjord 1TB" "sequential read"
    """


@sheet.command()
@click.argument("name", shell_complete=drives)
@_drive_options
@click.option(
    "--from",
    "source",
    type=click.Path(exists=True, dir_okay=False, allow_dash=True),
    help="The whole sheet in TOML, from a file or standard input (-).",
)
@shelf_option
@handled_by("sheet:edit")
def edit() -> None:
    """Edit the sheet of the drive NAME, by option or in your editor.

    Without an option the sheet opens as TOML in $EDITOR, claims included. An empty text clears what
    an option stands for.

    \b
    jovik sheet edit "Fjord 1TB" --price "79 EUR"
    jovik sheet edit "Fjord 1TB"
    """


@sheet.command()
@click.argument("name", shell_complete=drives)
@click.argument("new_name", metavar="NEW")
@shelf_option
@handled_by("sheet:rename")
def rename() -> None:
    """Rename the drive NAME; it keeps its runs, notes and samples."""


@sheet.command()
@click.argument("name", shell_complete=drives)
@click.option("--with-runs", is_flag=True, help="Also remove its runs.")
@shelf_option
@handled_by("sheet:remove")
def remove() -> None:
    """Remove the drive NAME with its sheet and notes; --with-runs if it was measured."""


@sheet.command()
@click.argument("name", shell_complete=drives)
@format_option("toml")
@shelf_option
@handled_by("sheet:show")
def show() -> None:
    """Show the sheet of the drive NAME."""


@sheet.command("list")
@format_option()
@shelf_option
@answered_by("sheets:sheets")
def list_sheets() -> None:
    """List the drives on the shelf."""
