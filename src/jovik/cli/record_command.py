"""`jovik record`: what a program asks of its drive, taken down and looked at."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jovik.base.quantities import parse_time
from jovik.cli.completion import recordings
from jovik.cli.naming_group import BareMemberGroup
from jovik.cli.options import UnitParam, format_option, shelf_option

if TYPE_CHECKING:
    from jovik.runs.recorder import Taken


class TakeFirst(BareMemberGroup):
    """A group whose bare form takes a recording."""

    bare = "take"


@click.group(cls=TakeFirst, name="record")
def record() -> None:
    """Record what a program asks of its drive: jovik record --out FILE -- COMMAND ...

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
    help="A folder on the drive, or the drive, whose requests are taken down.",
)
@click.option("--name", help="What it is called. Default: the command.")
@click.option(
    "--for",
    "time_ns",
    type=UnitParam("TIME", parse_time),
    help="How long. Default: until the command ends, or until Ctrl-C.",
)
@click.option(
    "--repeat",
    type=click.IntRange(1, 100),
    default=1,
    show_default=True,
    metavar="N",
    help="Run the command N times and say how long it took, with its interval.",
)
@click.option(
    "--cold",
    is_flag=True,
    help="Before each time, drop from memory the files that COMMAND opens.",
)
@click.option(
    "--keep-names",
    is_flag=True,
    help="Keep the arguments of COMMAND, and the names of the files that --cold found.",
)
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@format_option()
def take(
    words: tuple[str, ...],
    out: Path,
    target: str,
    name: str | None,
    time_ns: int | None,
    repeat: int,
    cold: bool,
    keep_names: bool,
    force: bool,
    form: str,
) -> int:
    """Take down every request that reaches a drive while COMMAND runs; needs root.

    Times, offsets, sizes and flags, and whether the command, the system's own threads or somebody
    else asked: no content, no names of files, no arguments. 'take' may be left out. With --cold the
    command runs once more beforehand, to see which files it opens; names and attributes of files
    stay in memory. Of several times the recording in the middle is kept. Ctrl-C ends the command
    and the recording, which is written; the exit status is 130 then.

    \b
    sudo jovik record --out start.jrec --on /home -- editor
    sudo jovik record --out evening.jrec --for 10min
    sudo jovik record --out start.jrec --on /home --repeat 10 --cold -- editor --quit
    """
    from jovik.base.atomic_files import refuse_foreign
    from jovik.base.errors import OutputError
    from jovik.base.recording_file import write_recording
    from jovik.cli.echo import echo
    from jovik.runs.recorder import ended_by_signals
    from jovik.runs.recorder import take as take_down

    refuse_foreign(out, None, force=force)
    if not out.resolve().parent.is_dir():
        raise OutputError(f"there is no folder {out.parent} to put the recording in")
    with ended_by_signals():
        taken = take_down(
            words,
            target,
            name=name,
            time_ns=time_ns,
            repeat=repeat,
            cold=cold,
            keep_names=keep_names,
            told=lambda line: echo(line, err=True),
        )
        write_recording(taken.middle, out, force=force)
    _show(str(out), form, None, taken)
    return 130 if taken.interrupted else 0


@record.command("show")
@click.argument("recording", shell_complete=recordings)
@format_option()
@shelf_option
def show(recording: str, form: str, shelf_at: str | None) -> int:
    """Show what RECORDING holds, and how long the drive was waited for.

    RECORDING is a file, or the name of one on the shelf, or of one that ships with Jovik.

    \b
    jovik record show start.jrec
    jovik record show editor-start
    """
    _show(recording, form, shelf_at)
    return 0


@record.command("keep")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--as", "name", metavar="NAME", help="What it is called there. Default: the file's.")
@format_option()
@shelf_option
def keep(file: Path, name: str | None, form: str, shelf_at: str | None) -> int:
    """Put the recording in FILE on the shelf, where replays find it by name.

    It is exported, imported and merged with the results.

    \b
    jovik record keep start.jrec --as editor
    jovik measure /mnt/new 'replay "editor"'
    """
    from jovik.base.errors import UsageError
    from jovik.base.recording_file import read_recording
    from jovik.cli.echo import echo
    from jovik.cli.output import emit_csv, emit_json
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.steps.replay import recording_names

    found, digest = read_recording(file)
    called = (name or file.stem).strip()
    if not called or '"' in called or not called.isprintable():
        raise UsageError(f"'{called}' is no name for a recording", "give another with --as")
    if called in recording_names():
        raise UsageError(f"'{called}' ships with Jovik", "give it another name with --as")
    with Shelf(where_from(shelf_at), create=True) as shelf:
        new = shelf.recordings.keep(called, found, digest)
    said = {"name": called, "digest": digest, "added": int(new)}
    if form == "json":
        emit_json(said, "kept-recording")
    elif form == "csv":
        emit_csv(list(said), [tuple(said.values())])
    else:
        echo(
            f"kept as '{called}': jovik measure TARGET 'replay \"{called}\"'"
            if new
            else f"'{called}' was there already"
        )
    return 0


@record.command("list")
@format_option()
@shelf_option
def list_recordings(form: str, shelf_at: str | None) -> int:
    """List the recordings on the shelf, and those that ship with Jovik.

    \b
    jovik record list
    """
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.queries.recordings import known_recordings
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.recording import known_json, known_table

    with Shelf(where_from(shelf_at), create=True) as shelf:
        found = known_recordings(shelf)
    if form == "json":
        emit_json({"recordings": known_json(found)}, "recordings")
    elif form == "csv":
        rows = known_json(found)
        emit_csv(list(rows[0]), [tuple(r.values()) for r in rows])
    else:
        show_table(known_table(found))
    return 0


@record.command("remove")
@click.argument("name", shell_complete=recordings)
@shelf_option
def remove(name: str, shelf_at: str | None) -> int:
    """Take the recording called NAME off the shelf; results of its replays stay.

    \b
    jovik record remove editor
    """
    from jovik.cli.echo import echo
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        echo(f"removed: {shelf.recordings.remove(name)}")
    return 0


def _show(recording: str, form: str, shelf_at: str | None, taken: Taken | None = None) -> None:
    from jovik.analysis.recording import summary_of
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.queries.recordings import recording_called
    from jovik.tables.recording import recording_json, recording_table

    found, digest = recording_called(recording, shelf_at)
    summary = summary_of(found)
    if form == "json":
        emit_json(recording_json(found, summary, digest, taken), "recording")
    elif form == "csv":
        said = recording_json(found, summary, digest)
        plain = {k: v for k, v in said.items() if not isinstance(v, list | dict)}
        emit_csv(list(plain), [tuple(plain.values())])
    else:
        show_table(recording_table(found, summary, taken))
