"""The form of a recording: a zip with ``head.json`` and ``requests.csv``, read within bounds."""

from __future__ import annotations

import hashlib
import io
import json
import lzma
import zipfile
import zlib
from pathlib import Path
from typing import Any

import numpy as np

from jovik.base.atomic_files import write_output
from jovik.base.errors import UsageError
from jovik.base.recording import COLUMNS, Asker, Kind, Recording

FORM = "jovik recording 1"
HEAD, REQUESTS = "head.json", "requests.csv"
MOST_HEAD, MOST_REQUESTS = 20_000_000, 2 * 10**9
"""Bytes of the two members, unpacked; more is no recording."""
MOST_ROWS = 20_000_000
MOST_WORDS, MOST_FILES = 1_000, 100_000
"""Of the names that a recording keeps where it was asked to."""
SMALL = ("kind", "flags", "asker")
"""Columns whose numbers take a byte."""
DIGEST_LETTERS = 12


def write_recording(recording: Recording, out: Path, *, force: bool = False) -> None:
    """Write a recording; see `jovik.base.atomic_files.output` for errors."""
    head, content = parts_of(recording)
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(HEAD, json.dumps(head, indent=2))
        archive.writestr(REQUESTS, content)
    write_output(out, made.getvalue(), force=force)


def parts_of(recording: Recording) -> tuple[dict[str, Any], bytes]:
    """A recording as its head and its table of requests."""
    rows = np.column_stack([getattr(recording, c) for c in COLUMNS])
    text = io.StringIO()
    text.write(",".join(COLUMNS) + "\n")
    np.savetxt(text, rows, fmt="%d", delimiter=",")
    content = text.getvalue().encode()
    head: dict[str, Any] = {
        "form": FORM,
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
    """A recording and the digest of its requests, which tells it from any other.

    Raises
    ------
    UsageError
        It cannot be read, is no recording, or is damaged: with what is wrong.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            head = _member(archive, HEAD, MOST_HEAD)
            content = _member(archive, REQUESTS, MOST_REQUESTS)
        return recording_from(json.loads(head), content)
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror or error}") from None
    except (
        *(zipfile.BadZipFile, zlib.error, lzma.LZMAError),
        *(KeyError, EOFError, NotImplementedError, RuntimeError),
    ) as error:
        raise UsageError(f"{path} is no recording: {error}") from None
    except (ValueError, TypeError, OverflowError) as error:
        raise UsageError(f"{path} is a damaged recording: {error}") from None


def _member(archive: zipfile.ZipFile, name: str, most: int) -> bytes:
    with archive.open(name) as member:
        content = member.read(most + 1)
    if len(content) > most:
        raise ValueError(f"{name} is longer than {most:,} bytes")
    return content


def recording_from(head: Any, content: bytes) -> tuple[Recording, str]:
    """A recording from what `parts_of` gave, and its digest.

    Raises
    ------
    ValueError, TypeError, KeyError, OverflowError
        They are not such parts, or were changed.
    """
    if not isinstance(head, dict) or head.get("form") != FORM:
        raise ValueError(f"its form is not '{FORM}'")
    digest = hashlib.sha256(content).hexdigest()
    if head.get("sha256") != digest:
        raise ValueError("its requests are not as they were written")
    lines = io.BytesIO(content)
    if lines.readline().rstrip(b"\r\n").decode("ascii", "replace") != ",".join(COLUMNS):
        raise ValueError("its columns are not those of a recording")
    if content.count(b"\n") > MOST_ROWS + 1:
        raise ValueError(f"it has more than {MOST_ROWS:,} requests")
    table = np.zeros((0, len(COLUMNS)), np.int64)
    if content[lines.tell() : lines.tell() + 1].strip():
        table = np.loadtxt(lines, dtype=np.int64, delimiter=",", ndmin=2)
    columns = dict(zip(COLUMNS, table.T, strict=True))
    _check(columns)
    last = int(table[:, 1].max(initial=0))
    # A recording may have millions of requests: what is small is kept small.
    columns = {k: v.astype(np.uint8 if k in SMALL else np.int64) for k, v in columns.items()}
    del table
    elapsed = head["elapsed_ns"]
    if not isinstance(elapsed, int) or not 0 <= elapsed < 2**62:
        raise ValueError("its duration is none")
    status = head.get("status")
    found = Recording(
        name=str(head.get("name", ""))[:200],
        elapsed_ns=max(elapsed, last),
        lost=int(head.get("lost", 0)),
        drive=str(head.get("drive", ""))[:200],
        status=status if isinstance(status, int) else None,
        made=str(head.get("made", ""))[:40],
        command=_words(head.get("command"), MOST_WORDS),
        files=_words(head.get("files"), MOST_FILES),
        **columns,
    )
    return found, digest[:DIGEST_LETTERS]


def _words(found: Any, most: int) -> tuple[str, ...]:
    return tuple(str(w)[:4096] for w in found[:most]) if isinstance(found, list) else ()


def _check(columns: dict[str, Any]) -> None:
    """Refuse what no recorder writes (ValueError)."""
    issue, done = columns["issue_ns"], columns["done_ns"]
    if (issue < 0).any() or (done < issue).any() or (np.diff(issue) < 0).any():
        raise ValueError("its times are not in order")
    if not np.isin(columns["kind"], [int(k) for k in Kind]).all():
        raise ValueError("a request asks for what there is not")
    if not np.isin(columns["asker"], [int(a) for a in Asker]).all():
        raise ValueError("a request was asked for by nobody")
    if (columns["flags"] < 0).any() or (columns["flags"] > 255).any():
        raise ValueError("a request has flags that there are not")
    moves = columns["kind"] <= Kind.WRITE
    size, offset = columns["bytes"][moves], columns["offset"][moves]
    if (size <= 0).any() or (size > 2**30).any() or (size % 512).any():
        raise ValueError("a request has a size that no drive takes")
    if (offset < 0).any() or (offset > 2**50).any() or (offset % 512).any():
        raise ValueError("a request lies where no drive is")
