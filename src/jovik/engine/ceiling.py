"""The tester's own limits on this machine.

The same loops with nothing behind them, or with memory behind them.

A figure near such a ceiling is the tester's, not the drive's.
"""

from __future__ import annotations

import os
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jovik.base.io_session import Workload
from jovik.base.trace import SLICE_NS
from jovik.engine.buffers import Buffers
from jovik.engine.worker_pool import BlockingPool, UringPool, WorkerPool

BLOCK_BYTES = 4096
MEMORY_SPAN_BYTES = 64 * 2**20
MEMORY_FOLDER = Path("/dev/shm")


@dataclass(frozen=True)
class Ceiling:
    """One thing the tester did: behind the loop `nothing` or a `file in memory`."""

    engine: str
    behind: str
    depth: int
    workers: int
    block_bytes: int
    iops: float

    @property
    def rate_bytes_s(self) -> float:
        """Return the same as throughput."""
        return self.iops * self.block_bytes


def null_backend_iops(crew_type: type[WorkerPool], depth: int, workers: int, time_ns: int) -> float:
    """Return I/Os a second with nothing behind the loop.

    No-op requests on a ring, or writes to the null device.

    Raises
    ------
    EngineUnavailableError
        io_uring is refused here.
    """
    ring = crew_type is UringPool
    work = Workload(
        random=True,
        read_percent=100 if ring else 0,
        block_bytes=BLOCK_BYTES,
        depth=depth,
        workers=workers,
        span_bytes=2**24,
        seed=1,
        time_ns=time_ns,
    )
    buffers = Buffers(1)
    buffers.fit(depth * workers, BLOCK_BYTES, 0)
    fd = -1 if ring else os.open(os.devnull, os.O_WRONLY)
    try:
        return _iops(crew_type(work, fd, buffers, np.zeros(1, np.int32), no_op=ring))
    finally:
        if fd >= 0:
            os.close(fd)


def memory_iops(
    crew_type: type[WorkerPool], depth: int, workers: int, block_bytes: int, time_ns: int
) -> float | None:
    """Return I/Os a second of reads from a file in memory.

    None if there is no such place, or the blocks do not fit it.
    """
    span = max(MEMORY_SPAN_BYTES // block_bytes, workers) * block_bytes
    if (
        not os.access(MEMORY_FOLDER, os.W_OK)
        or span > MEMORY_SPAN_BYTES * 4
        or depth * workers * block_bytes > MEMORY_SPAN_BYTES * 4
    ):
        return None
    work = Workload(
        random=True,
        read_percent=100,
        block_bytes=block_bytes,
        depth=depth,
        workers=workers,
        span_bytes=span,
        seed=1,
        time_ns=time_ns,
    )
    buffers = Buffers(1)
    buffers.fit(depth * workers, block_bytes, 0)
    with tempfile.TemporaryFile(dir=MEMORY_FOLDER) as file:
        # Written in full: a hole would be read from a page that every hole shares.
        content = buffers.pool[: min(buffers.pool.nbytes, 2**20)].tobytes()
        for _ in range(-(-span // len(content))):
            file.write(content)
        file.flush()
        return _iops(crew_type(work, file.fileno(), buffers, np.zeros(1, np.int32)))


def _iops(pool: WorkerPool) -> float:
    """Run a crew to its end."""
    pool.start()
    while not pool.wait(0.5):
        pass
    if pool.failure is not None:
        raise pool.failure
    elapsed = pool.elapsed_ns()
    return float(pool.slices(-(-elapsed // SLICE_NS))[:, [1, 3]].sum()) / elapsed * 1e9


def survey(engine: str, time_ns: int) -> list[Ceiling]:
    """Ceilings of one implementation (``io_uring`` or ``blocking``).

    Depth 1 and 32, one worker and one for each core.
    """
    pool_type = UringPool if engine == "io_uring" else BlockingPool
    cores = os.cpu_count() or 1
    shapes = [(1, 1), (32, 1)] + ([(32, cores)] if cores > 1 else [])
    ceilings = [
        Ceiling(
            pool_type.name,
            "nothing",
            d,
            w,
            BLOCK_BYTES,
            null_backend_iops(pool_type, d, w, time_ns),
        )
        for d, w in shapes
    ]
    for block in (BLOCK_BYTES, 2**20):
        for depth, workers in shapes:
            iops = memory_iops(pool_type, depth, workers, block, time_ns)
            if iops is not None:
                ceilings.append(
                    Ceiling(pool_type.name, "file in memory", depth, workers, block, iops)
                )
    return ceilings
