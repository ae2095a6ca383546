"""Write files whole or not at all: every file that Jovik writes goes through this module.

What a user keeps (pages, pictures, tables, archives) is written by `output` and its two siblings,
which never replace a file that Jovik did not make unless told to. `write_atomically` is for files
of Jovik's own, such as settings. `tests/test_house.py` forbids every other way.

The content goes to a new file of a random name in the same folder, opened exclusively and without
following links, is brought onto the medium, and takes its place by a rename. All of it goes through
the folder's own descriptor, so that nobody who may write to the folder can turn it elsewhere. A new
file that needs a name before it is whole is listed in Jovik's state folder: the next command of any
kind removes what a killed process left.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import re
import secrets
import shutil
import stat
import time
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from jovik.base import by_name
from jovik.base.by_name import WITHOUT_DESCRIPTORS
from jovik.base.errors import OutputError, UsageError
from jovik.base.own_files import make_own_folder, open_own, read_own

if not WITHOUT_DESCRIPTORS:
    import fcntl

YOUNG_S = 5.0
"""Younger leftovers may belong to a process that has not locked them yet."""
LOOKED_AT_BYTES = 2**16
"""Of a file, at its beginning and at its end, to see whether Jovik made it."""
READ_FLAGS = os.O_RDONLY | sum(
    getattr(os, name, 0) for name in ("O_NOFOLLOW", "O_NONBLOCK", "O_CLOEXEC", "O_BINARY")
)
"""Of a file at a path that another user may have made."""
READY = "ready"
"""Of a folder that is locked."""
MADE_WITH_JOVIK = b"made with Jovik"
"""The mark in pictures and archives."""


def write_atomically(path: Path, content: bytes, *, mode: int = 0o666) -> None:
    """Put a file in its place at once, replacing the previous one.

    Raises
    ------
    OSError
        It cannot be written. The previous file stays, and nothing is left behind.
    """
    with replacing(path, mode=mode) as file:
        file.write(content)


def create_atomically(path: Path, content: bytes) -> None:
    """Put a file in its place at once, unless there is one already: then that one stands.

    Raises
    ------
    OSError
        It cannot be written.
    """
    with contextlib.suppress(FileExistsError), replacing(path, overwrite=False) as file:
        file.write(content)


@contextlib.contextmanager
def replacing(path: Path, *, mode: int = 0o666, overwrite: bool = True) -> Iterator[BinaryIO]:
    """Yield a file to write in, which takes its place when the context ends without an exception.

    Raises
    ------
    FileExistsError
        There is one, and it is not to be overwritten.
    OSError
        It cannot be written.
    """
    if WITHOUT_DESCRIPTORS:
        with by_name.replacing(*_by_name(path), overwrite=overwrite) as file:
            yield file
        return
    with _folder_of(path) as folder:
        sweep_in(folder, path.name)
        part = _part_name(path.name)
        fd, is_named = _new_file(part, mode, folder)
        entry = _enter(path) if is_named else None
        try:
            with os.fdopen(fd, "w+b") as file:
                _lock(fd)
                yield file
                file.flush()
                os.fsync(fd)
                if is_named:
                    _take_place(folder, part, path.name, folder, overwrite=overwrite)
                elif overwrite:
                    _link(fd, part, folder)
                    is_named = True
                    os.rename(part, path.name, src_dir_fd=folder, dst_dir_fd=folder)
                else:
                    _link(fd, path.name, folder)
        except BaseException:
            if is_named:
                with contextlib.suppress(OSError):
                    os.unlink(part, dir_fd=folder)
            raise
        finally:
            _strike(entry)
        os.fsync(folder)


def _new_file(part: str, mode: int, folder: int) -> tuple[int, bool]:
    """Return a new file, and whether it has its name already.

    One without a name goes with its process; it gets one when it is whole and locked.
    """
    flags = os.O_RDWR | os.O_CLOEXEC
    try:
        return os.open(".", flags | os.O_TMPFILE, mode, dir_fd=folder), False
    except (OSError, AttributeError):
        flags |= os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW
        return os.open(part, flags, mode, dir_fd=folder), True


def _link(fd: int, name: str, folder: int) -> None:
    """Give an open file a name (`linkat(2)` through /proc, as its manual page describes)."""
    os.link(f"/proc/self/fd/{fd}", name, dst_dir_fd=folder, follow_symlinks=True)


@contextlib.contextmanager
def replacing_by_path(path: Path, *, overwrite: bool = True) -> Iterator[Path]:
    """Yield the same for a writer that needs a path of its own, such as a database.

    The path leads through the descriptor of a private folder beside `path`, where the system can.
    """
    if WITHOUT_DESCRIPTORS:
        with by_name.replacing_by_path(*_by_name(path), overwrite=overwrite) as place:
            yield place
        return
    with _folder_of(path) as folder:
        sweep_in(folder, path.name)
        part = _part_name(path.name)
        entry = _enter(path)
        os.mkdir(part, 0o700, dir_fd=folder)
        own = os.open(part, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=folder)
        try:
            _lock(own)
            os.close(os.open(READY, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600, dir_fd=own))
            through = Path(f"/proc/self/fd/{own}")
            yield (through if through.exists() else path.absolute().parent / part) / "file"
            fd = os.open("file", os.O_RDONLY | os.O_NOFOLLOW, dir_fd=own)
            try:
                os.fsync(fd)
            finally:
                os.close(fd)
            _take_place(own, "file", path.name, folder, overwrite=overwrite)
            os.fsync(folder)
        finally:
            shutil.rmtree(part, ignore_errors=True, dir_fd=folder)
            os.close(own)
            _strike(entry)


def unfinished_folder() -> Path:
    """Return the folder that lists files whose writing has begun under a name of their own."""
    from platformdirs import user_state_path

    return user_state_path("jovik") / "unfinished"


def sweep_unfinished() -> None:
    """Remove unfinished files that killed processes of this user left behind.

    A file that a living process writes is locked, and stays.
    """
    if WITHOUT_DESCRIPTORS:  # nothing is listed there
        return
    listed = unfinished_folder()
    try:
        entries = os.listdir(listed)
    except OSError:
        return
    for entry in entries:
        # A folder that is gone or closed takes its entry along.
        with contextlib.suppress(OSError):
            path = Path(os.fsdecode(read_own(listed / entry)))
            with contextlib.suppress(FileNotFoundError), _folder_of(path) as folder:
                sweep_in(folder, path.name)
                if any(name.startswith(_stem(path.name)) for name in os.listdir(folder)):
                    continue
            (listed / entry).unlink()


def _enter(path: Path) -> Path | None:
    """Record a file that is about to be written, or return None if there is no place for that."""
    try:
        make_own_folder(unfinished_folder())
        entry = unfinished_folder() / secrets.token_hex(8)
        fd = open_own(entry, os.O_WRONLY | os.O_CREAT | os.O_EXCL)
        with os.fdopen(fd, "wb") as file:
            file.write(os.fsencode(path.absolute()))
    except OSError:
        return None
    return entry


def _strike(entry: Path | None) -> None:
    if entry is not None:
        with contextlib.suppress(OSError):
            entry.unlink()


@contextlib.contextmanager
def output(path: Path, *, mark: bytes | None = None, force: bool = False) -> Iterator[BinaryIO]:
    """Open a file that a user asked for. It takes its place when the context ends.

    Parameters
    ----------
    mark : bytes, optional
        Bytes that every file of this kind contains within `LOOKED_AT_BYTES` of its beginning or
        end. A file that contains them is replaced. Without a mark no file is replaced.
    force : bool
        If true, replace any existing file.

    Raises
    ------
    UsageError
        There is a file that must not be replaced.
    OutputError
        The file cannot be written. Nothing is left behind.
    """
    with _refusals(path, mark, force) as overwrite, replacing(path, overwrite=overwrite) as file:
        yield file
        if mark is not None and mark not in _ends_of(file):
            raise ValueError(f"{path} lacks the mark by which Jovik would know it again")


@contextlib.contextmanager
def output_by_path(path: Path, *, force: bool = False) -> Iterator[Path]:
    """Do the same for a writer that needs a path of its own, such as a database."""
    with (
        _refusals(path, None, force) as overwrite,
        replacing_by_path(path, overwrite=overwrite) as target,
    ):
        yield target


def write_output(
    path: Path, content: bytes, *, mark: bytes | None = None, force: bool = False
) -> None:
    """Write a file that a user asked for. `output` describes parameters and errors."""
    with output(path, mark=mark, force=force) as file:
        file.write(content)


def refuse_foreign(path: Path, mark: bytes | None, *, force: bool) -> None:
    """Refuse a path at which `output` would refuse to write (UsageError)."""
    if force or not os.path.lexists(path) or (mark is not None and mark in ends_of(path)):
        return
    maker = "" if mark is None else ", and Jovik did not make it"
    raise UsageError(
        f"{path} is there already{maker}", "name another file, or overwrite it with --force"
    )


@contextlib.contextmanager
def _refusals(path: Path, mark: bytes | None, force: bool) -> Iterator[bool]:
    """Check a path, tell whether its file may be replaced, and name a failure to write it."""
    # Looked at first: a file that appears after the check is not replaced.
    exists = os.path.lexists(path)
    refuse_foreign(path, mark, force=force)
    try:
        yield force or exists
    except FileExistsError:
        # Another process made it since.
        refuse_foreign(path, None, force=False)
        raise
    except OSError as error:
        raise OutputError(f"{path} cannot be written: {error.strerror or error}") from None


def ends_of(path: Path) -> bytes:
    """Return the beginning and the end of a regular file, or nothing if there is none."""
    try:
        fd = os.open(path, READ_FLAGS)
    except OSError:
        return b""
    with os.fdopen(fd, "rb") as file:
        return _ends_of(file) if stat.S_ISREG(os.fstat(fd).st_mode) else b""


def _ends_of(file: BinaryIO) -> bytes:
    """Return the beginning and the end of a file."""
    size = file.seek(0, os.SEEK_END)
    file.seek(0)
    content = file.read(LOOKED_AT_BYTES)
    file.seek(max(size - LOOKED_AT_BYTES, 0))
    return content + file.read(LOOKED_AT_BYTES)


@contextlib.contextmanager
def _folder_of(path: Path) -> Iterator[int]:
    folder = os.open(path.absolute().parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        yield folder
    finally:
        os.close(folder)


def _stem(name: str) -> str:
    """Return the name prefix of the files that become `name`, short even if `name` is long."""
    digest = hashlib.blake2b(os.fsencode(name), digest_size=4)
    return f".jovik-{digest.hexdigest()}-"


def _part_name(name: str) -> str:
    return f"{_stem(name)}{secrets.token_hex(8)}.part"


def _by_name(path: Path) -> tuple[Path, Path]:
    """Return a path and its unfinished file, where files are reached by their names."""
    by_name.sweep(path.absolute().parent, _stem(path.name))
    return path, path.with_name(_part_name(path.name))


def _take_place(source: int, part: str, name: str, folder: int, *, overwrite: bool) -> None:
    if overwrite:
        os.rename(part, name, src_dir_fd=source, dst_dir_fd=folder)
        return
    try:
        os.link(part, name, src_dir_fd=source, dst_dir_fd=folder, follow_symlinks=False)
    except FileExistsError:
        raise
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS):
            raise
        # Some file systems know no second name for a file.
        if _there(name, folder):
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), name) from None
        os.rename(part, name, src_dir_fd=source, dst_dir_fd=folder)
        return
    os.unlink(part, dir_fd=source)


def _there(name: str, folder: int) -> bool:
    try:
        os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return False
    return True


def _lock(fd: int) -> None:
    with contextlib.suppress(OSError):  # some file systems know no locks
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)


def sweep_in(folder: int, name: str) -> None:
    """Remove the unfinished files of `name` in an open folder that no process has locked."""
    leftover = re.compile(re.escape(_stem(name)) + r"[0-9a-f]{16}\.part")
    for entry in os.listdir(folder):
        if leftover.fullmatch(entry):
            with contextlib.suppress(OSError):
                _sweep_one(entry, folder)


def _sweep_one(entry: str, folder: int) -> None:
    fd = os.open(entry, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK, dir_fd=folder)
    try:
        facts = os.fstat(fd)
        is_folder = stat.S_ISDIR(facts.st_mode)
        if facts.st_uid != os.geteuid():
            return
        # What has its name before it is locked may belong to a process that is about to.
        was_locked = READY in os.listdir(fd) if is_folder else hasattr(os, "O_TMPFILE")
        if not was_locked and time.time() - facts.st_mtime < YOUNG_S:
            return
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        if is_folder:
            shutil.rmtree(entry, ignore_errors=True, dir_fd=folder)
        else:
            os.unlink(entry, dir_fd=folder)
    finally:
        os.close(fd)
