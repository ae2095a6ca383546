"""Recordings by name: in a file, on the shelf, or among those that ship with Jovik."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from jovik.base.recording import Recording
from jovik.base.recording_file import read_recording
from jovik.base.settings import where_from
from jovik.base.shipped import shipped_path
from jovik.shelf.store import Shelf
from jovik.steps.replay import ReplayStep, recording_names


@dataclass(frozen=True)
class KnownRecording:
    """A recording that a replay finds by name. `shipped` ones are simulated."""

    name: str
    digest: str
    drive: str
    elapsed_ns: int
    requests: int
    shipped: bool


def known_recordings(shelf: Shelf) -> list[KnownRecording]:
    """Return those on the shelf by name, then those that ship."""
    recordings = [
        KnownRecording(k.name, k.digest, k.drive, k.elapsed_ns, k.requests, shipped=False)
        for k in shelf.recordings.kept()
    ]
    for name in recording_names():
        one, digest = read_recording(shipped_path("recording", name))
        recordings.append(
            KnownRecording(name, digest, one.drive, one.elapsed_ns, len(one), shipped=True)
        )
    return recordings


def recording_called(name: str, shelf_at: str | None = None) -> tuple[Recording, str]:
    """Return a recording and its digest, by the path of a file or by its name.

    Raises
    ------
    UnknownNameError
        There is none.
    UsageError
        It cannot be read.
    """
    if Path(name).is_file():
        return read_recording(Path(name))
    if name in recording_names():
        return read_recording(shipped_path("recording", name))
    with Shelf(where_from(shelf_at), create=True):
        step = ReplayStep(name)
        return step.recording(), step.pinned().digest
