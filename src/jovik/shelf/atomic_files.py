"""Files written whole or not at all, leaving nothing when the process is killed."""

from __future__ import annotations

import contextlib
import os
import re
from pathlib import Path


def create_atomically(path: Path, content: bytes) -> None:
    """Put a file in its place at once, unless there is one already: then that one stands.

    Raises
    ------
    OSError
        It cannot be written.
    """
    try:
        # A file without a name goes with the process that has it open.
        fd = os.open(path.absolute().parent, os.O_TMPFILE | os.O_WRONLY, 0o644)
    except (OSError, AttributeError):
        _put_named(path, content)
        return
    with os.fdopen(fd, "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(fd)
        with contextlib.suppress(FileExistsError):
            # Without a folder's descriptor Python calls link(2), which would link the entry in
            # /proc itself; a whole path makes it ignored.
            os.link(f"/proc/self/fd/{fd}", path.absolute(), src_dir_fd=fd, follow_symlinks=True)


def _put_named(path: Path, content: bytes) -> None:
    """The same on file systems that know no file without a name."""
    part = scratch_beside(path)
    try:
        with part.open("wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        try:
            os.link(part, path)
        except FileExistsError:
            return
        except OSError:
            # Some file systems know no second name for a file.
            if not path.exists():
                part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def scratch_beside(path: Path) -> Path:
    """A name for a file that will be moved to `path`.

    What a process that is gone left under such a name is taken away.
    """
    mark = re.compile(rf"\.{re.escape(path.name)}\.(\d+)\.part(-journal|-wal|-shm)?")
    for entry in path.absolute().parent.iterdir():
        found = mark.fullmatch(entry.name)
        if found and not _alive(int(found[1])):
            entry.unlink(missing_ok=True)
    return path.with_name(f".{path.name}.{os.getpid()}.part")


def _alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True
