"""Standard output and error, with defined behaviour if they cannot be written.

Results that cannot be written are the environment's refusal. Whoever read them and has gone (as in
`| head`) has what was wanted. Messages that nobody can see any more, of a terminal that was closed,
stop nothing.
"""

from __future__ import annotations

import codecs
import contextlib
import io
import os
import sys
import tempfile
import unicodedata
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TextIO

from jovik.base.errors import OutputError
from jovik.base.limits import TEXT_BYTES
from jovik.base.text_files import decoded, read_text


def given_text(source: str) -> str:
    """Return the user's text from a file, or from standard input for ``-``.

    Raises
    ------
    UsageError
        See `jovik.base.text_files.read_text`.
    """
    if source != "-":
        return read_text(Path(source))
    return decoded(sys.stdin.buffer.read(TEXT_BYTES + 1), "standard input")


@contextlib.contextmanager
def file_or_output(out: Path, suffix: str) -> Iterator[Path]:
    """Yield the file to write.

    For ``-`` one of that ending that goes to standard output afterwards.
    """
    if str(out) != "-":
        yield out
        return
    with tempfile.TemporaryDirectory(prefix="jovik-") as folder:
        file = Path(folder) / f"output{suffix}"
        yield file
        sys.stdout.flush()
        sys.stdout.buffer.write(file.read_bytes())
        sys.stdout.buffer.flush()


PLAIN_LETTERS_HANDLER = "jovik.plain"
"""How letters are written that a terminal's encoding lacks."""
PLAIN_LETTERS = {
    "\N{MICRO SIGN}": "u",
    "\N{DEGREE SIGN}": "deg ",
    "\N{MULTIPLICATION SIGN}": "x",
    "\N{EN DASH}": "-",
    "\N{LATIN SMALL LETTER SHARP S}": "ss",
}


class ReaderGone(Exception):
    """The reader of standard output has closed it."""


class _Results(io.FileIO):
    def write(self, data: Any) -> int:
        try:
            return super().write(data)
        except BrokenPipeError:
            raise ReaderGone from None
        except OSError as error:
            raise cannot_write(error.strerror or str(error)) from None


class _Messages(io.FileIO):
    def write(self, data: Any) -> int:
        try:
            return super().write(data)
        except OSError:
            return len(data)


def cannot_write(why: str) -> OutputError:
    """Return the refusal of standard output."""
    return OutputError(f"cannot write to standard output: {why}")


def guard() -> None:
    """Put the two in place of Python's own.

    A closed descriptor is taken by `/dev/null`: the next file that is opened would get its number
    otherwise, and whatever is printed would go into it.

    Raises
    ------
    OutputError
        Standard output is closed.
    """
    closed = [fd for fd in (0, 1, 2) if not _is_open(fd)]
    for _ in closed:
        os.open(os.devnull, os.O_RDWR)  # the lowest number that is free
    sys.stderr = _guarded(sys.stderr, 2, _Messages)
    if 1 in closed:
        sys.stdout = _guarded(None, 1, _Messages)
        raise cannot_write("it is closed")
    sys.stdout = _guarded(sys.stdout, 1, _Results)


def _in_plain_letters(error: UnicodeError) -> tuple[str, int]:
    """Replace letters that the terminal's encoding lacks: ``us`` for ``µs``."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    letters = []
    for letter in error.object[error.start : error.end]:
        # The micro sign and the degree sign have no decomposition that a reader would recognise.
        plain = PLAIN_LETTERS.get(letter) or unicodedata.normalize("NFKD", letter)
        letters.append(plain.encode("ascii", "ignore").decode() or "?")
    return "".join(letters), error.end


codecs.register_error(PLAIN_LETTERS_HANDLER, _in_plain_letters)


def _is_open(fd: int) -> bool:
    try:
        os.fstat(fd)
    except OSError:
        return False
    return True


def _guarded(stream: TextIO | None, fd: int, sort: type[io.FileIO]) -> TextIO:
    """Return the stream anew over a raw file of this sort, or as it is if it is not a real file."""
    if stream is not None:
        try:
            if stream.fileno() != fd:
                return stream
            stream.flush()
        except (OSError, ValueError):
            return stream
    raw = sort(fd, "w", closefd=False)
    encoding = stream.encoding if stream is not None else "utf-8"
    return io.TextIOWrapper(
        io.BufferedWriter(raw),
        encoding=encoding,
        errors=PLAIN_LETTERS_HANDLER,
        line_buffering=os.isatty(fd) or fd == 2,
    )


def finish() -> None:
    """Write the remaining output.

    Raises
    ------
    OutputError, ReaderGone
        See above; nothing is held back any more then.
    """
    try:
        sys.stdout.flush()
    except (OutputError, ReaderGone):
        give_up()
        raise


def give_up() -> None:
    """Discard the remaining output, because Python would try again at its exit."""
    null = os.open(os.devnull, os.O_WRONLY)
    os.dup2(null, 1)
    os.close(null)
