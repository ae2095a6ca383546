"""Files by their names alone, for systems on which a folder cannot be opened (Windows).

`jovik.base.atomic_files` describes what a caller can rely on. There a rename replaces no file, and
a file that a process has open cannot be removed: neither needs a lock or a descriptor.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import time
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

WITHOUT_DESCRIPTORS = os.open not in os.supports_dir_fd
"""Files are reached by their names here."""
OLD_S = 60.0
"""An unfinished file that nobody has open belongs to a killed process from this age on."""


@contextlib.contextmanager
def replacing(path: Path, part: Path, *, overwrite: bool) -> Iterator[BinaryIO]:
    """Yield a new file at `part` that becomes `path` if the context ends without an exception."""
    try:
        with part.open("xb+") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        _take_place(part, path, overwrite=overwrite)
    finally:
        part.unlink(missing_ok=True)


@contextlib.contextmanager
def replacing_by_path(path: Path, part: Path, *, overwrite: bool) -> Iterator[Path]:
    """Yield a path in a new folder at `part`; the file made there becomes `path`."""
    part.mkdir(mode=0o700)
    try:
        yield part / "file"
        _take_place(part / "file", path, overwrite=overwrite)
    finally:
        shutil.rmtree(part, ignore_errors=True)


def sweep(folder: Path, prefix: str) -> None:
    """Remove unfinished files with a prefix that no process has open."""
    for entry in folder.iterdir():
        with contextlib.suppress(OSError):
            old = time.time() - entry.stat().st_mtime > OLD_S
            if entry.name.startswith(prefix) and entry.suffix == ".part" and old:
                shutil.rmtree(entry) if entry.is_dir() else entry.unlink()


def _take_place(part: Path, path: Path, *, overwrite: bool) -> None:
    if overwrite:
        os.replace(part, path)
    else:
        os.rename(part, path)
