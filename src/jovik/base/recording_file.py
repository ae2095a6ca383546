"""The form of a recording: a zip with ``head.json`` and ``requests.csv``, read within bounds."""

from __future__ import annotations

import hashlib
import io
import json
import lzma
import zipfile
import zlib
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from jovik.base import limits
from jovik.base.atomic_files import write_output
from jovik.base.errors import UsageError
from jovik.base.recording import COLUMNS, Asker, Kind, Recording

FORMS = {"jovik recording 1": COLUMNS[:-1], "jovik recording 2": COLUMNS}
"""The columns of each form. Where no request was queued, the first is written."""
HEAD, REQUESTS = "head.json", "requests.csv"
BYTE_COLUMNS = ("kind", "flags", "asker")
"""Columns whose numbers take a byte."""
DIGEST_LETTERS = 12
PIECE_BYTES = 2**22


def write_recording(recording: Recording, out: Path, *, force: bool = False) -> None:
    """Write a recording. `jovik.base.atomic_files.output` describes errors."""
    head, content = parts_of(recording)
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(HEAD, json.dumps(head, indent=2))
        archive.writestr(REQUESTS, content)
    write_output(out, buffer.getvalue(), force=force)


def parts_of(recording: Recording) -> tuple[dict[str, Any], bytes]:
    """Return a recording as its head and its table of requests."""
    queued = bool((recording.queued_ns != recording.issue_ns).any())
    form, names = list(FORMS.items())[queued]
    rows = np.column_stack([getattr(recording, c) for c in names])
    text = io.StringIO()
    text.write(",".join(names) + "\n")
    np.savetxt(text, rows, fmt="%d", delimiter=",")
    content = text.getvalue().encode()
    head: dict[str, Any] = {
        "form": form,
        "name": recording.name,
        "made": recording.made,
        "drive": recording.drive,
        "elapsed_ns": recording.elapsed_ns,
        "lost": recording.lost,
        "status": recording.status,
        "requests": len(recording),
        "sha256": hashlib.sha256(content).hexdigest(),
    }
    if recording.command:
        head["command"] = list(recording.command)
    if recording.files:
        head["files"] = list(recording.files)
    return head, content


def read_recording(path: Path) -> tuple[Recording, str]:
    """Return a recording and the digest of its requests, which identifies it.

    Raises
    ------
    UsageError
        It cannot be read, is no recording, or is damaged, with the reason.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            head = _head(archive)
            with archive.open(REQUESTS) as member:
                pieces = iter(lambda: member.read(PIECE_BYTES), b"")
                return recording_from(head, pieces, path.stat().st_size)
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror or error}") from None
    except (
        *(zipfile.BadZipFile, zlib.error, lzma.LZMAError),
        *(KeyError, EOFError, NotImplementedError, RuntimeError),
    ) as error:
        raise UsageError(f"{path} is no recording: {error}") from None
    except (ValueError, TypeError, OverflowError) as error:
        raise UsageError(f"{path} is a damaged recording: {error}") from None


def _head(archive: zipfile.ZipFile) -> Any:
    with archive.open(HEAD) as member:
        content = member.read(limits.RECORDING_HEAD_BYTES + 1)
    if len(content) > limits.RECORDING_HEAD_BYTES:
        raise ValueError(f"{HEAD} is longer than {limits.RECORDING_HEAD_BYTES:,} bytes")
    if limits.json_memory(content) > limits.JSON_MEMORY_BYTES:
        raise ValueError(f"{HEAD} has more parts than any of a recording")
    return json.loads(content)


def recording_from(head: Any, pieces: Iterable[bytes], packed_bytes: int) -> tuple[Recording, str]:
    """Return a recording from the parts of `parts_of`, and its digest.

    Parameters
    ----------
    pieces : iterable of bytes
        The table of requests, in pieces of any size.
    packed_bytes : int
        The size of the file that they came from, which limits the number of requests.

    Raises
    ------
    ValueError, TypeError, KeyError, OverflowError
        They are not such parts, or were changed.
    """
    if not isinstance(head, dict) or head.get("form") not in FORMS:
        raise ValueError(f"its form is not one of {', '.join(FORMS)}")
    names = FORMS[head["form"]]
    elapsed = head["elapsed_ns"]
    if not isinstance(elapsed, int) or not 0 <= elapsed < 2**62:
        raise ValueError("its duration is invalid")
    columns, digest = _columns(pieces, names, limits.recording_rows(packed_bytes))
    if head.get("sha256") != digest:
        raise ValueError("its requests are not as they were written")
    _check(columns)
    last = int(columns["done_ns"].max(initial=0))
    status = head.get("status")
    recording = Recording(
        name=str(head.get("name", ""))[:200],
        elapsed_ns=max(elapsed, last),
        lost=int(head.get("lost", 0)),
        drive=str(head.get("drive", ""))[:200],
        status=status if isinstance(status, int) else None,
        made=str(head.get("made", ""))[:40],
        command=_words(head.get("command"), limits.RECORDING_WORDS),
        files=_words(head.get("files"), limits.RECORDING_FILES),
        **columns,
    )
    return recording, digest[:DIGEST_LETTERS]


def _columns(
    pieces: Iterable[bytes], names: Sequence[str], most_rows: int
) -> tuple[dict[str, Any], str]:
    """Return columns of a table of requests, and its SHA-256: read piece by piece (ValueError)."""
    summed, rest, header = hashlib.sha256(), b"", False
    parts: dict[str, list[Any]] = {name: [] for name in names}
    count = 0

    def take(lines: bytes) -> None:
        nonlocal count, header
        if not header:
            first, _, lines = lines.partition(b"\n")
            if first.rstrip(b"\r").decode("ascii", "replace") != ",".join(names):
                raise ValueError("its columns are not those of a recording")
            header = True
        if not lines.strip():
            if lines:
                raise ValueError("it has empty lines")
            return
        table = np.loadtxt(io.BytesIO(lines), np.int64, delimiter=",", comments=None, ndmin=2)
        count += len(table)
        if count > most_rows:
            raise ValueError(f"it has more than {most_rows:,} requests")
        for name, column in zip(names, table.T, strict=True):
            # A recording may have millions of requests: what is small is kept small.
            if name in BYTE_COLUMNS and ((column < 0) | (column > 255)).any():
                raise ValueError("a request has flags that there are not")
            parts[name].append(column.astype(np.uint8 if name in BYTE_COLUMNS else np.int64))

    for piece in pieces:
        summed.update(piece)
        whole, end, rest = (rest + piece).rpartition(b"\n")
        if len(rest) > limits.RECORDING_LINE_BYTES:
            raise ValueError("a line of it is longer than any request")
        if end:
            take(whole + end)
    if rest or not header:
        take(rest)
    columns = {}
    for name in names:
        # Joined one by one, so that no second copy of all of them exists.
        empty = np.zeros(0, np.uint8 if name in BYTE_COLUMNS else np.int64)
        columns[name] = np.concatenate([empty, *parts.pop(name)])
    return columns, summed.hexdigest()


def _words(found: Any, most: int) -> tuple[str, ...]:
    return tuple(str(w)[:4096] for w in found[:most]) if isinstance(found, list) else ()


def _check(columns: dict[str, Any]) -> None:
    """Refuse content that no recorder writes (ValueError)."""
    issue, done = columns["issue_ns"], columns["done_ns"]
    if (issue < 0).any() or (done < issue).any() or (np.diff(issue) < 0).any():
        raise ValueError("its times are not in order")
    queued = columns.get("queued_ns", issue)
    if (queued < 0).any() or (queued > issue).any():
        raise ValueError("a request was issued before it was queued")
    if not np.isin(columns["kind"], [int(k) for k in Kind]).all():
        raise ValueError("a request has an unknown kind")
    if not np.isin(columns["asker"], [int(a) for a in Asker]).all():
        raise ValueError("a request was asked for by nobody")
    moves = columns["kind"] <= Kind.WRITE
    size, offset = columns["bytes"][moves], columns["offset"][moves]
    if (size <= 0).any() or (size > 2**30).any() or (size % 512).any():
        raise ValueError("a request has a size that no drive takes")
    if (offset < 0).any() or (offset > 2**50).any() or (offset % 512).any():
        raise ValueError("a request lies beyond any drive")
