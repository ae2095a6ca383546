"""`jovik record`: what a program asks of its drive, taken down and looked at."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.base.quantities import parse_time
from jovik.cli.naming_group import BareMemberGroup
from jovik.cli.options import UnitParam, format_option


class TakeFirst(BareMemberGroup):
    """A group whose bare form takes a recording."""

    bare = "take"


@click.group(cls=TakeFirst, name="record")
def record() -> None:
    """Record what a program asks of its drive: jovik record --out FILE -- COMMAND ...

    \b
    sudo jovik record --out start.jrec --on /home -- editor
    jovik record show start.jrec
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
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@format_option()
def take(
    words: tuple[str, ...],
    out: Path,
    target: str,
    name: str | None,
    time_ns: int | None,
    force: bool,
    form: str,
) -> int:
    """Take down every request that reaches a drive while COMMAND runs; needs root.

    Times, offsets, sizes and flags, and whether the command, the system's own threads or somebody
    else asked: no content, no names of files, no arguments. 'take' may be left out.

    \b
    sudo jovik record --out start.jrec --on /home -- editor
    sudo jovik record --out evening.jrec --for 10min
    """
    from jovik.base.errors import OutputError, UsageError
    from jovik.base.recording_file import write_recording
    from jovik.runs.recorder import record as take_down

    if out.exists() and not force:
        raise UsageError(f"{out} is there already", "give another name, or --force")
    if not out.resolve().parent.is_dir():
        raise OutputError(f"there is no folder {out.parent} to put the recording in")
    made = take_down(words, target, name=name, time_ns=time_ns)
    write_recording(made, out)
    _show(out, form)
    return 0


@record.command("show")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@format_option()
def show(file: Path, form: str) -> int:
    """Show what a recording in FILE holds, and how long the drive was waited for.

    \b
    jovik record show start.jrec
    """
    _show(file, form)
    return 0


def _show(file: Path, form: str) -> None:
    from jovik.analysis.recording import summary_of
    from jovik.base.recording_file import read_recording
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.tables.recording import recording_json, recording_table

    found, digest = read_recording(file)
    summary = summary_of(found)
    if form == "json":
        emit_json(recording_json(found, summary, digest), "recording")
    elif form == "csv":
        said = recording_json(found, summary, digest)
        plain = {k: v for k, v in said.items() if not isinstance(v, list)}
        emit_csv(list(plain), [tuple(plain.values())])
    else:
        show_table(recording_table(found, summary))
