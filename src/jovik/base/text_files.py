"""Text files that people write or bring along: read within bounds, or refused in one line."""

from __future__ import annotations

from pathlib import Path

from jovik.base.errors import UsageError
from jovik.base.limits import TEXT_BYTES


def read_text(path: Path, most_bytes: int = TEXT_BYTES) -> str:
    """Return the user's UTF-8 text, with or without a byte order mark.

    Raises
    ------
    UsageError
        It cannot be read, is longer than any such file, or is no UTF-8.
    """
    try:
        with path.open("rb") as file:
            content = file.read(most_bytes + 1)
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}") from None
    return decoded(content, str(path), most_bytes)


def decoded(content: bytes, where: str, most_bytes: int = TEXT_BYTES) -> str:
    """Return the same of bytes that were read from `where`."""
    if len(content) > most_bytes:
        raise UsageError(f"{where} is longer than {most_bytes:,} bytes", "is it the right file?")
    try:
        return content.decode("utf-8-sig").replace("\r\n", "\n").replace("\r", "\n")
    except UnicodeDecodeError:
        raise UsageError(f"{where} is not UTF-8 text", "save it as UTF-8") from None
