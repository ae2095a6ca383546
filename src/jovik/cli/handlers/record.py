"""Carry out `jovik record`."""

from __future__ import annotations

from pathlib import Path

from jovik.answers import recordings as answers
from jovik.base.errors import UsageError
from jovik.base.recording_file import read_recording
from jovik.base.settings import where_from
from jovik.cli import output
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.shelf.store import Shelf
from jovik.steps.replay import recording_names


def show(recording: str, form: str, shelf_at: str | None) -> int:
    """Show the content of RECORDING, and the time spent waiting for the drive."""
    return output.show(answers.recording(recording, shelf_at), form)


def keep(file: Path, name: str | None, form: str, shelf_at: str | None) -> int:
    """Put the recording in FILE on the shelf, where replays find it by name."""
    recording, digest = read_recording(file)
    called = (name or file.stem).strip()
    if not called or '"' in called or not called.isprintable():
        raise UsageError(f"'{called}' is no name for a recording", "give another with --as")
    if called in recording_names():
        raise UsageError(f"'{called}' ships with Jovik", "give it another name with --as")
    with Shelf(where_from(shelf_at), create=True) as shelf:
        new = shelf.additions.keep_recording(called, recording, digest)
    answer = {"name": called, "digest": digest, "added": int(new)}
    if form == "json":
        emit_json(answer, "kept-recording")
    elif form == "csv":
        emit_csv(list(answer), [tuple(answer.values())])
    else:
        echo(
            f"kept as '{called}': jovik measure TARGET 'replay \"{called}\"'"
            if new
            else f"'{called}' was there already"
        )
    return 0


def list_recordings(form: str, shelf_at: str | None) -> int:
    """List the recordings on the shelf, and those that ship with Jovik."""
    with Shelf(where_from(shelf_at), create=True) as shelf:
        answer = answers.recordings(shelf)
    return output.show(answer, form)


def remove(name: str, shelf_at: str | None) -> int:
    """Remove the recording NAME from the shelf. Results of its replays stay."""
    with Shelf(where_from(shelf_at)) as shelf:
        echo(f"removed: {shelf.additions.remove_recording(name)}")
    return 0
