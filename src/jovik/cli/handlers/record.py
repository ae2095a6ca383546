"""Carry out `jovik record`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from jovik.analysis.recording import summary_of
from jovik.base.errors import UsageError
from jovik.base.recording_file import read_recording
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table
from jovik.queries.recordings import known_recordings, recording_called
from jovik.shelf.sqlite import where_from
from jovik.shelf.store import Shelf
from jovik.steps.replay import recording_names
from jovik.tables.recording import known_json, known_table, recording_json, recording_table

if TYPE_CHECKING:
    from jovik.runs.recorder import Taken


def show(recording: str, form: str, shelf_at: str | None) -> int:
    """Show the content of RECORDING, and the time spent waiting for the drive."""
    show_recording(recording, form, shelf_at)
    return 0


def keep(file: Path, name: str | None, form: str, shelf_at: str | None) -> int:
    """Put the recording in FILE on the shelf, where replays find it by name."""
    stored, digest = read_recording(file)
    called = (name or file.stem).strip()
    if not called or '"' in called or not called.isprintable():
        raise UsageError(f"'{called}' is no name for a recording", "give another with --as")
    if called in recording_names():
        raise UsageError(f"'{called}' ships with Jovik", "give it another name with --as")
    with Shelf(where_from(shelf_at), create=True) as shelf:
        new = shelf.recordings.keep(called, stored, digest)
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
        recordings = known_recordings(shelf)
    if form == "json":
        emit_json({"recordings": known_json(recordings)}, "recordings")
    elif form == "csv":
        rows = known_json(recordings)
        emit_csv(list(rows[0]), [tuple(r.values()) for r in rows])
    else:
        show_table(known_table(recordings))
    return 0


def remove(name: str, shelf_at: str | None) -> int:
    """Remove the recording NAME from the shelf. Results of its replays stay."""
    with Shelf(where_from(shelf_at)) as shelf:
        echo(f"removed: {shelf.recordings.remove(name)}")
    return 0


def show_recording(
    recording: str, form: str, shelf_at: str | None, taken: Taken | None = None
) -> None:
    """Print the content of a recording, and the durations of several takes."""
    shown, digest = recording_called(recording, shelf_at)
    summary = summary_of(shown)
    if form == "json":
        emit_json(recording_json(shown, summary, digest, taken), "recording")
    elif form == "csv":
        answer = recording_json(shown, summary, digest)
        plain = {k: v for k, v in answer.items() if not isinstance(v, list | dict)}
        emit_csv(list(plain), [tuple(plain.values())])
    else:
        show_table(recording_table(shown, summary, taken))
