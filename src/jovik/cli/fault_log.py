"""Data for a bug report: the last fault in the state folder, and `--debug-log FILE`.

Neither holds serials, paths of the person, names of drives or secrets: of what was typed only
commands, options and step phrases are kept, of a message only words that cannot be any of those.
"""

from __future__ import annotations

import datetime
import logging
import os
import platform
import re
import sqlite3
import stat
import sys
import traceback
from collections.abc import Sequence
from importlib import metadata
from pathlib import Path

from jovik.base.version import VERSION

PACKAGES = ("numpy", "numba", "sqlalchemy", "click", "matplotlib", "psycopg")
LOGGER = "jovik"
_HIDDEN = (
    (re.compile(r"\w+://\S+"), "<address>"),
    (re.compile(r"'[^'\n]*'|\"[^\"\n]*\""), "<text>"),
    (re.compile(r"(?<![\w<])[~.]{0,2}/[^\s:;,()]+"), "<path>"),
    (re.compile(r"\b(?=\w*[A-Za-z])(?=\w*\d)[\w-]{6,}\b"), "<id>"),
)


def fault_path() -> Path:
    """Return where the last fault is kept."""
    from platformdirs import user_state_path

    return user_state_path("jovik") / "last-fault.txt"


def hidden(message: str) -> str:
    """Return a message without names and paths that may be private."""
    for pattern, instead in _HIDDEN:
        message = pattern.sub(instead, message)
    return message


def message_of(error: BaseException) -> str:
    """Return an error's message in one line, without the statement of a database that it is about.

    The statement and its parameters may contain any data of a user.
    """
    cause = getattr(error, "orig", None) if hasattr(error, "statement") else None
    lines = str(cause if cause is not None else error).strip().splitlines()
    return lines[0] if lines else ""


def typed(words: Sequence[str]) -> str:
    """Return the typed words: commands, options and phrases.

    Of other words only their sort.
    """
    from jovik.cli import COMMANDS

    at = next((n for n, word in enumerate(words) if word in COMMANDS), None)
    return " ".join(word if n == at else _sort_of(word) for n, word in enumerate(words))


def _sort_of(word: str) -> str:
    if word.startswith("-"):
        return word.split("=", 1)[0] if re.fullmatch(r"--?[a-z-]+(=.*)?", word, re.S) else "<text>"
    if word.startswith("model:"):
        return "<model drive>"
    if phrase := _phrase(word):
        return f"'{phrase}'"
    try:
        mode = os.stat(word).st_mode
    except (OSError, ValueError):
        return "<text>"
    if stat.S_ISBLK(mode):
        return "<device>"
    return "<folder>" if stat.S_ISDIR(mode) else "<file>"


def _phrase(word: str) -> str:
    from jovik.base.errors import JovikError
    from jovik.steps import parse_all

    try:
        parsed = parse_all(word)
    except JovikError:
        return ""
    return re.sub(r'"[^"]*"', '"..."', "; ".join(s.canonical for s in parsed))


def report(error: BaseException, words: Sequence[str]) -> str:
    """Return all that a bug report needs, as text."""
    lines = [
        *installation(),
        datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
        f"typed: jovik {typed(words)}",
    ]
    visited: set[int] = set()
    cause: BaseException | None = error
    while cause is not None and id(cause) not in visited:
        visited.add(id(cause))
        lines.append(f"{type(cause).__name__}: {hidden(message_of(cause))}")
        for frame in traceback.extract_tb(cause.__traceback__):
            lines.append(f"  {_module(frame.filename)}:{frame.lineno} {frame.name}")
        cause = cause.__cause__ or cause.__context__
    return "\n".join(lines) + "\n"


def installation() -> list[str]:
    """Return versions of Jovik, of the system and of packages, and where the loops come from."""
    from jovik.engine.loops import LIBRARY

    loops = LIBRARY.name if LIBRARY.exists() else "compiled at each start"
    return [
        f"jovik {VERSION}, Python {platform.python_version()}, {platform.system()} "
        f"{platform.release()} {platform.machine()}",
        ", ".join(f"{name} {_version(name)}" for name in PACKAGES),
        f"measuring loops: {loops}; SQLite {sqlite3.sqlite_version}",
    ]


def _version(name: str) -> str:
    try:
        return metadata.version(name)
    except metadata.PackageNotFoundError:
        return "-"


def _module(path: str) -> str:
    """Return a file of a package from the package's own name on."""
    parts = Path(path).parts
    for anchor in ("site-packages", "src", f"python{sys.version_info[0]}.{sys.version_info[1]}"):
        if anchor in parts:
            return "/".join(parts[len(parts) - parts[::-1].index(anchor) :])
    return parts[-1] if parts else "?"


def keep(error: BaseException, words: Sequence[str]) -> Path | None:
    """Store a fault for a report. Return its place, or None if it cannot be stored."""
    from jovik.base.atomic_files import write_atomically

    path = fault_path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        write_atomically(path, report(error, words).encode())
    except OSError:
        return None
    return path


class _Discreet(logging.Formatter):
    """Hide everything private in the core's messages, such as the folder of a copy."""

    def formatMessage(self, record: logging.LogRecord) -> str:
        if record.name != LOGGER:
            record.message = hidden(record.message)
        return super().formatMessage(record)


def start_debug_log(path: Path) -> None:
    """Append the progress of the program to a file.

    Raises
    ------
    OSError
        It cannot be written, or is a link.
    """
    no_link = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0)
    fd = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | no_link, 0o600)
    handler = logging.StreamHandler(os.fdopen(fd, "a", encoding="utf-8"))
    handler.setFormatter(_Discreet("%(asctime)s %(name)s %(message)s"))
    logger = logging.getLogger(LOGGER)
    logger.setLevel(logging.DEBUG)
    logger.addHandler(handler)
    logger.debug("jovik %s, Python %s, %s", VERSION, platform.python_version(), platform.release())
    logger.debug("typed: jovik %s", typed(sys.argv[1:]))


def log_error(error: BaseException) -> None:
    """Log the reason why the program ended, for `--debug-log`."""
    logger = logging.getLogger(LOGGER)
    if logger.isEnabledFor(logging.DEBUG) and logger.handlers:
        logger.debug("ended by:\n%s", report(error, sys.argv[1:]))
