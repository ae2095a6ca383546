"""Recordings on the shelf: named loads that a replay finds without a file."""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from jovik.base.errors import ShelfError, UnknownNameError, UsageError
from jovik.base.limits import KEPT_RECORDING_BYTES
from jovik.base.recording import Recording
from jovik.base.recording_file import parts_of, recording_from
from jovik.shelf.records import DamagedRecord
from jovik.shelf.schema import recording
from jovik.shelf.writer import utc_now


@dataclass(frozen=True)
class KeptRecording:
    """A recording on the shelf, without its requests."""

    name: str
    digest: str
    drive: str
    made: str
    elapsed_ns: int
    requests: int
    written: str


class Recordings:
    """The recordings of an open shelf, where a replay looks for names (`jovik.steps.replay`)."""

    def __init__(self, engine: sa.Engine, writing: sa.Engine) -> None:
        self._engine, self._writing = engine, writing

    def keep(self, name: str, found: Recording, digest: str) -> bool:
        """Store a recording. Return True if it is new.

        Raises
        ------
        UsageError
            Another recording has this name, or it is too large.
        """
        with self._writing.begin() as c:
            return keep(c, name, found, digest, utc_now())

    def kept(self) -> list[KeptRecording]:
        """Return every recording, by name."""
        with self._engine.connect() as c:
            return kept(c)

    def recording(self, name: str) -> tuple[Recording, str] | None:
        """Return the recording of this name and its digest, or None if there is none.

        Raises
        ------
        ShelfError
            It is damaged.
        """
        try:
            with self._engine.connect() as c:
                return find(c, name)
        except DamagedRecord as error:
            raise ShelfError(str(error), "keep it again from its file: jovik record keep") from None

    def remove(self, name: str) -> str:
        """Remove a recording from the shelf, and return its exact name.

        Raises
        ------
        UnknownNameError
            There is none of this name.
        """
        with self._writing.begin() as c:
            return remove(c, name)


def keep(c: sa.Connection, name: str, found: Recording, digest: str, now: str) -> bool:
    """See `Recordings.keep`."""
    row = c.execute(_named(name)).mappings().first()
    if row is not None and row["digest"] == digest:
        return False
    if row is not None:
        raise UsageError(
            f"the shelf has another recording called '{row['name']}'",
            "keep it under another name with --as, or take the other away: jovik record remove",
        )
    head, requests = parts_of(found)
    add(c, name, head, requests, now)
    return True


def add(c: sa.Connection, name: str, head: dict[str, Any], requests: bytes, now: str) -> None:
    """Add the parts of a recording under a name that is free."""
    if len(requests) > KEPT_RECORDING_BYTES:
        raise UsageError(
            f"a recording of {head.get('requests'):,} requests is too large for the shelf",
            "its file can be replayed as it is",
        )
    packed = zlib.compress(requests, 6)
    _, digest = recording_from(head, [requests], len(packed))
    c.execute(
        recording.insert().values(
            name=name,
            folded_name=name.casefold(),
            digest=digest,
            head=head,
            requests=packed,
            written=now,
        )
    )


def kept(c: sa.Connection) -> list[KeptRecording]:
    """See `Recordings.kept`."""
    columns = [x for x in recording.columns if x is not recording.c.requests]
    rows = c.execute(sa.select(*columns).order_by(recording.c.folded_name)).mappings()
    return [
        KeptRecording(
            r["name"],
            r["digest"],
            str(r["head"].get("drive", "")),
            str(r["head"].get("made", "")),
            int(r["head"].get("elapsed_ns", 0)),
            int(r["head"].get("requests", 0)),
            r["written"],
        )
        for r in rows
    ]


def find(c: sa.Connection, name: str) -> tuple[Recording, str] | None:
    """See `Recordings.recording`."""
    digest = c.execute(_named(name).with_only_columns(recording.c.digest)).scalar()
    if digest is None:
        return None
    if digest not in _last:
        row = c.execute(_named(name)).mappings().one()
        kept = read_kept(row)
        _last.clear()
        _last[digest] = kept
    return _last[digest]


def read_kept(row: Mapping[Any, Any]) -> tuple[Recording, str]:
    """Return a recording and its digest from the columns of the shelf.

    Raises
    ------
    DamagedRecord
        They give none.
    """
    try:
        recording, digest = recording_from(row["head"], [requests_of(row)], len(row["requests"]))
    except (ValueError, TypeError, KeyError, OverflowError, zlib.error) as error:
        raise DamagedRecord(f"the recording '{row['name']}' is damaged: {error}") from None
    if digest != row["digest"]:
        raise DamagedRecord(f"the recording '{row['name']}' is another one than it was")
    return recording, digest


def requests_of(row: Mapping[Any, Any]) -> bytes:
    """Return table of requests of a recording on the shelf, bounded (ValueError, zlib.error)."""
    unpacker = zlib.decompressobj()
    content = unpacker.decompress(row["requests"], KEPT_RECORDING_BYTES + 1)
    if len(content) > KEPT_RECORDING_BYTES or unpacker.unconsumed_tail:
        raise ValueError("it is larger than any recording of a shelf")
    return content


_last: dict[str, tuple[Recording, str]] = {}
"""The recording that was read last, by its digest: a step asks for its own again and again."""


def remove(c: sa.Connection, name: str) -> str:
    """See `Recordings.remove`."""
    row = c.execute(_named(name)).mappings().first()
    if row is None:
        names = c.execute(sa.select(recording.c.name)).scalars().all()
        raise UnknownNameError("recording", name, names, "see: jovik record list")
    c.execute(recording.delete().where(recording.c.id == row["id"]))
    return str(row["name"])


def _named(name: str) -> sa.Select[Any]:
    return sa.select(recording).where(recording.c.folded_name == name.casefold())
