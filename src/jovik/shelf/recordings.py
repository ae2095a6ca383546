"""Recordings on the shelf: named loads that a replay finds without a file."""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from jovik.base.errors import ShelfError
from jovik.base.limits import KEPT_RECORDING_BYTES
from jovik.base.recording import Recording
from jovik.base.recording_file import recording_from
from jovik.shelf.reader import Reader
from jovik.shelf.records import DamagedRecord


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

    def __init__(self, reader: Reader) -> None:
        self._reader = reader

    def kept(self) -> list[KeptRecording]:
        """Return every recording, by name."""
        query = "SELECT name, digest, head, written FROM recording ORDER BY folded_name"
        with self._reader.reading() as r:
            return [
                KeptRecording(
                    name,
                    digest,
                    str(head.get("drive", "")),
                    str(head.get("made", "")),
                    int(head.get("elapsed_ns", 0)),
                    int(head.get("requests", 0)),
                    written,
                )
                for name, digest, head, written in r.tuples(query)
            ]

    def recording(self, name: str) -> tuple[Recording, str] | None:
        """Return the recording of this name and its digest, or None if there is none.

        Raises
        ------
        ShelfError
            It is damaged.
        """
        where, folded = "FROM recording WHERE folded_name = ?", name.casefold()
        with self._reader.reading() as r:
            for digest in r.column(f"SELECT digest {where}", folded):
                if digest not in _last:
                    try:
                        kept = read_kept(r.rows(f"SELECT * {where}", folded)[0])
                    except DamagedRecord as error:
                        hint = "keep it again from its file: jovik record keep"
                        raise ShelfError(str(error), hint) from None
                    _last.clear()
                    _last[digest] = kept
                return _last[digest]
        return None


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
