"""`jovik record`: a program's I/O, captured and shown."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.base.quantities import parse_time
from jovik.cli.completion import recordings
from jovik.cli.handled_by import handled_by
from jovik.cli.naming_group import BareMemberGroup
from jovik.cli.options import UnitParam, format_option, shelf_option


class TakeFirst(BareMemberGroup):
    """A group whose bare form takes a recording."""

    bare = "take"


@click.group(cls=TakeFirst, name="record")
def record() -> None:
    """Capture a program's I/O: jovik record --out FILE -- COMMAND ...

    \b
    sudo jovik record --out start.jrec --on /home -- editor
    jovik record show start.jrec
    jovik record keep start.jrec --as editor
    """


@record.command("take", context_settings={"ignore_unknown_options": True})
@click.argument("words", nargs=-1, metavar="[COMMAND]...", type=click.UNPROCESSED)
@click.option(
    "--out",
    required=True,
    type=click.Path(dir_okay=False, path_type=Path),
    help="The file to write, such as start.jrec.",
)
@click.option(
    "--on",
    "target",
    default=".",
    show_default=True,
    metavar="TARGET",
    help="The drive to record, or a folder on it.",
)
@click.option("--name", help="Name of the recording. Default: the command.")
@click.option(
    "--duration",
    "time_ns",
    type=UnitParam("TIME", parse_time),
    help="Duration. Default: until the command ends, or until Ctrl-C.",
)
@click.option(
    "--repeat",
    type=click.IntRange(1, 100),
    default=1,
    show_default=True,
    metavar="N",
    help="Run the command N times and report its time with an interval.",
)
@click.option(
    "--cold",
    is_flag=False,
    flag_value="files",
    type=click.Choice(["files", "all"]),
    metavar="[files|all]",
    help="Before each run, drop the files that COMMAND opens from memory, or with 'all' everything "
    "that memory keeps of drives, which asks first.",
)
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option(
    "--keep-names",
    is_flag=True,
    help="Store the arguments of COMMAND, and the names of the files that --cold found.",
)
@click.option("--force", is_flag=True, help="Replace an existing file.")
@format_option()
@handled_by("take:take")
def take() -> None:
    """Capture every request that reaches a drive while COMMAND runs; needs root.

    Times, offsets, sizes and flags, and whether the command, the system's own threads or somebody
    else asked: no content, no names of files, no arguments. 'take' may be left out. With --cold the
    command runs once more beforehand, to see which files it opens; names and attributes of files
    stay in memory, unless with --cold all. Of several times the recording in the middle is kept.
    Ctrl-C ends the command and the recording, which is written; the exit status is 130 then.

    \b
    sudo jovik record --out start.jrec --on /home -- editor
    sudo jovik record --out evening.jrec --duration 10min
    sudo jovik record --out start.jrec --on /home --repeat 10 --cold -- editor --quit
    sudo jovik record --out start.jrec --on /home --repeat 10 --cold all -- editor --quit
    """


@record.command("show")
@click.argument("recording", shell_complete=recordings)
@format_option()
@shelf_option
@handled_by("record:show")
def show() -> None:
    """Show the requests of RECORDING, and how long the program waited for the drive.

    RECORDING is a file, or the name of one on the shelf, or of one that ships with Jovik.

    \b
    jovik record show start.jrec
    jovik record show editor-start
    """


@record.command("keep")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--as", "name", metavar="NAME", help="Name on the shelf. Default: the file's name.")
@format_option()
@shelf_option
@handled_by("record:keep")
def keep() -> None:
    """Store the recording in FILE on the shelf, so that replays find it by name.

    It is exported, imported and merged with the results.

    \b
    jovik record keep start.jrec --as editor
    jovik measure /mnt/new 'replay "editor"'
    """


@record.command("list")
@format_option()
@shelf_option
@handled_by("record:list_recordings")
def list_recordings() -> None:
    """List the recordings on the shelf, and those that ship with Jovik.

    \b
    jovik record list
    """


@record.command("remove")
@click.argument("name", shell_complete=recordings)
@shelf_option
@handled_by("record:remove")
def remove() -> None:
    """Remove the recording NAME from the shelf; results of its replays stay.

    \b
    jovik record remove editor
    """
