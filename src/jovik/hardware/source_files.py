"""The user's own files in a folder, to be copied. They are read and never changed."""

from __future__ import annotations

import os
import stat
from dataclasses import dataclass
from pathlib import Path

from jovik.base.errors import TargetError


@dataclass(frozen=True)
class SourceFile:
    """One file to be copied.

    Where it belongs, how long it is, and where it lies unless it is made up.
    """

    name: str
    size_bytes: int
    path: Path | None = None


def files_in(folder: str, *, skip: str = "") -> tuple[SourceFile, ...]:
    """Return every plain file below a folder, in order of their names.

    Parameters
    ----------
    skip : str
        How folders begin that are left out; none unless given.

    Raises
    ------
    TargetError
        The folder is not there, cannot be read, or holds no plain file.
    """
    top = Path(folder).expanduser()
    if not top.is_dir():
        raise TargetError(
            f"there is no folder {folder} to copy", 'name one in quotes: copy in "FOLDER"'
        )
    sources: list[SourceFile] = []

    def refuse(error: OSError) -> None:
        raise TargetError(
            f"the folder {folder} cannot be read: {error.strerror}: {error.filename}"
        ) from None

    for where, folders, names in os.walk(top, onerror=refuse):
        folders[:] = sorted(f for f in folders if not (skip and f.startswith(skip)))
        for name in sorted(names):
            path = Path(where) / name
            facts = path.lstat()
            # Links, sockets and devices are not copied: only what holds data of its own.
            if stat.S_ISREG(facts.st_mode):
                sources.append(SourceFile(str(path.relative_to(top)), facts.st_size, path))
    if not sources:
        raise TargetError(f"the folder {folder} holds no files to copy")
    return tuple(sources)
