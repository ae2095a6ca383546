"""Copy real files onto the drive and off it with the buffered calls of a desktop copy.

Made-up files come from memory, so that no source is in the way; a person's own folder is read from
a cold cache and its time is kept apart. The copies lie in a folder of their own
(`jovik.engine.own_folder`), which goes with the session.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import numpy.typing as npt

from jovik.base.errors import TargetError
from jovik.base.io_session import CopyJob, Progress, ProgressCallback
from jovik.base.quantities import show_size
from jovik.base.trace import SLICE_COLUMNS, SLICE_NS, CopyRecord, IoFault, Trace
from jovik.engine.own_folder import NAME_PREFIX, OwnFolder
from jovik.hardware.source_files import SourceFile, files_in

CHUNK_BYTES = 2**20
POOL_BYTES = 64 * 2**20
CONTENT_SHIFT = 7919
"""Bytes by which the content of each chunk is moved on.

Being odd, no two blocks of the copies begin alike.
"""
ENGINE = "buffered calls"
GLANCE_NS = 100_000_000


@dataclass
class _Clock:
    """Count the bytes of a copy in time slices, and report them from time to time."""

    inward: bool
    watch: ProgressCallback
    began_ns: int = field(default_factory=time.monotonic_ns)
    rows: list[list[int]] = field(default_factory=list)
    bytes: int = 0
    source_ns: int = 0
    glanced_ns: int = 0

    def count(self, size: int, files: int = 0) -> None:
        """So many bytes and files more."""
        at = time.monotonic_ns() - self.began_ns
        row = at // SLICE_NS
        while len(self.rows) <= row:
            self.rows.append([0, 0, 0, 0, 0])
        base = 2 if self.inward else 0
        self.rows[row][base] += size
        self.rows[row][base + 1] += files
        self.bytes += size
        if at - self.glanced_ns > GLANCE_NS:
            self.glanced_ns = at
            lately = self.rows[-11:-1]
            rate = sum(r[base] for r in lately) / (len(lately) * SLICE_NS) * 1e9 if lately else 0.0
            self.watch(
                Progress(at, self.bytes, rate, written_bytes=self.bytes if self.inward else 0)
            )

    def slices(self, elapsed_ns: int) -> npt.NDArray[np.int64]:
        """As a trace has them, to the end of the pass."""
        rows = max(-(-elapsed_ns // SLICE_NS), len(self.rows), 1)
        slices = np.zeros((rows, len(SLICE_COLUMNS)), np.int64)
        if self.rows:
            slices[: len(self.rows)] = self.rows
        return slices


class CopyFolder:
    """The target folder of copies, created when it is first needed.

    Parameters
    ----------
    target : Path
        The folder that is being measured.
    """

    def __init__(self, target: Path) -> None:
        self.target = target
        self._folder: OwnFolder | None = None
        self._there: tuple[SourceFile, ...] = ()
        self._pool = b""

    def size(self, job: CopyJob, free_bytes: int) -> tuple[int, int]:
        """Return files and bytes of a job (`jovik.base.io_session.Session.copy_size`)."""
        sources = files_of(job)
        total = sum(s.size_bytes for s in sources)
        if total > free_bytes + sum(s.size_bytes for s in self._there):
            raise TargetError(
                f"{self.target} has no room for {show_size(total)} of files",
                "copy less, or free some space",
            )
        return len(sources), total

    def run(self, job: CopyJob, free_bytes: int, watch: ProgressCallback) -> Trace:
        """Return one pass of a copy (`jovik.base.io_session.Session.copy`)."""
        _, total = self.size(job, free_bytes)
        sources = files_of(job)
        if not self._pool:
            self._pool = np.random.default_rng(job.seed).bytes(POOL_BYTES)
        laid_out = 0
        if job.inward:
            self._clear()
            elapsed, sync_ns, clock, fault = self._copy_in(sources, watch)
        else:
            if self._there != sources:
                self._clear()
                *_, fault = self._copy_in(sources, lambda _: None)
                laid_out = total
            self._drop_copies(sources)
            elapsed, sync_ns, clock, fault = self._copy_out(sources, watch)
        return Trace(
            engine=ENGINE,
            direct=False,
            seed=job.seed,
            elapsed_ns=elapsed,
            flush_ns=0,
            cpu_ns=0,
            slices=clock.slices(elapsed),
            latencies={},
            first_fault=fault,
            copy=CopyRecord(
                files=len(sources),
                bytes=total,
                sync_ns=sync_ns,
                source_ns=clock.source_ns,
                laid_out_bytes=laid_out,
            ),
        )

    def close(self) -> None:
        """Remove every copy."""
        self._there = ()
        if self._folder is not None:
            self._folder.close()
            self._folder = None

    def _own(self) -> OwnFolder:
        """Return the folder, creating it if there is none yet."""
        if self._folder is None:
            try:
                self._folder = OwnFolder(self.target)
            except OSError as error:
                raise TargetError(
                    f"cannot make a folder for copies in {self.target}: {error.strerror}"
                ) from None
        return self._folder

    def _clear(self) -> None:
        if self._folder is not None:
            self._folder.clear()
            _sync(self._folder.fd)
        self._there = ()

    def _drop_copies(self, sources: tuple[SourceFile, ...]) -> None:
        """Drop the copies from the page cache."""
        folder = self._own()
        for source in sources:
            with contextlib.suppress(OSError):
                _forget(folder.open(source.name))

    def _copy_in(
        self, sources: tuple[SourceFile, ...], watch: ProgressCallback
    ) -> tuple[int, int, _Clock, IoFault | None]:
        folder = self._own()
        drop_page_cache([s.path for s in sources if s.path is not None])
        clock = _Clock(True, watch)
        fault = None
        number = 0
        for source in sources:
            try:
                number = self._write(source, folder, clock, number)
            except OSError as error:
                fault = IoFault(
                    error.errno or 0,
                    error.strerror or str(error),
                    0,
                    "write",
                    time.monotonic_ns() - clock.began_ns,
                )
                break
        before = time.monotonic_ns()
        _sync(folder.fd)
        ended = time.monotonic_ns()
        self._there = sources if fault is None else ()
        return ended - clock.began_ns, ended - before, clock, fault

    def _write(self, source: SourceFile, folder: OwnFolder, clock: _Clock, number: int) -> int:
        """Copy one file, and return the number of the next chunk."""
        out = folder.create(source.name)
        try:
            for chunk in self._content(source, clock, number):
                view = memoryview(chunk)
                while view:
                    view = view[os.write(out, view) :]
                clock.count(len(chunk))
                number += 1
        finally:
            os.close(out)
        clock.count(0, 1)
        return number

    def _content(
        self, source: SourceFile, clock: _Clock, number: int
    ) -> Iterator[bytes | memoryview]:
        if source.path is None:
            remaining = source.size_bytes
            pool = memoryview(self._pool)
            while remaining > 0:
                at = number * CONTENT_SHIFT % (POOL_BYTES - CHUNK_BYTES)
                size = min(remaining, CHUNK_BYTES)
                yield pool[at : at + size]
                remaining -= size
                number += 1
            return
        before = time.monotonic_ns()
        with source.path.open("rb", buffering=0) as file:
            while True:
                chunk = file.read(CHUNK_BYTES)
                clock.source_ns += time.monotonic_ns() - before
                if not chunk:
                    return
                yield chunk
                before = time.monotonic_ns()

    def _copy_out(
        self, sources: tuple[SourceFile, ...], watch: ProgressCallback
    ) -> tuple[int, int, _Clock, IoFault | None]:
        room = bytearray(CHUNK_BYTES)
        clock = _Clock(False, watch)
        fault = None
        for source in sources:
            try:
                with os.fdopen(self._own().open(source.name), "rb", buffering=0) as file:
                    while got := file.readinto(room):
                        clock.count(got)
            except OSError as error:
                fault = IoFault(
                    error.errno or 0,
                    error.strerror or str(error),
                    0,
                    "read",
                    time.monotonic_ns() - clock.began_ns,
                )
                break
            clock.count(0, 1)
        return time.monotonic_ns() - clock.began_ns, 0, clock, fault


def _forget(fd: int) -> None:
    """Drop a file from the page cache, and close it."""
    try:
        if hasattr(os, "posix_fadvise"):
            os.posix_fadvise(fd, 0, 0, os.POSIX_FADV_DONTNEED)
    finally:
        os.close(fd)


def drop_page_cache(paths: list[Path]) -> None:
    """Drop these files from the page cache."""
    for path in paths:
        with contextlib.suppress(OSError):
            _forget(os.open(path, os.O_RDONLY | os.O_CLOEXEC))


def files_of(job: CopyJob) -> tuple[SourceFile, ...]:
    """Return the files of a job.

    Raises
    ------
    TargetError
        The person's folder is not there, cannot be read, or holds no plain file.
    """
    if job.folder is None:
        # A hundred to a folder, as in a library of pictures.
        return tuple(
            SourceFile(f"{n // 100:05d}/{n:07d}.bin", size) for n, size in enumerate(job.sizes)
        )
    return files_in(job.folder, skip=NAME_PREFIX)


def _sync(fd: int) -> None:
    """Flush the whole file system to the medium, as a user does before removing a drive."""
    libc = ctypes.CDLL(None, use_errno=True)
    if hasattr(libc, "syncfs"):
        libc.syncfs(fd)
    else:
        os.sync()
