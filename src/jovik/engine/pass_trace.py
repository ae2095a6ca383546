"""The counts of a pass's threads: a look while it runs, a trace at its end."""

from __future__ import annotations

import errno
from dataclasses import replace

from jovik.base.io_session import Progress, Workload
from jovik.base.trace import SLICE_COLUMNS, SLICE_NS, IoFault, Latencies, StampFaults, Trace
from jovik.engine.kernel import layout
from jovik.engine.worker_pool import WorkerPool


def live_latency_ns(pool: WorkerPool) -> tuple[float | None, float | None]:
    """p50 and p99 of a pass so far, ns, both directions together."""
    whole = Latencies.merged(pool.latencies().values())
    return (
        (whole.percentile_ns(0.5), whole.percentile_ns(0.99))
        if whole is not None and whole.total
        else (None, None)
    )


def progress_of(
    pool: WorkerPool, elapsed_s: float, latency_ns: tuple[float | None, float | None]
) -> tuple[Progress, int]:
    """Return a glance at a pass in progress, and how many I/Os have completed or failed."""
    slices = pool.slices(int(elapsed_s * 1e9) // SLICE_NS + 1)
    lately = slices[-11:-1]
    rate = float(lately[:, [0, 2]].sum()) / (len(lately) * SLICE_NS) * 1e9 if len(lately) else 0.0
    read, written, errors = (int(slices[:, column].sum()) for column in (0, 2, 4))
    p50, p99 = latency_ns
    live = Progress(
        int(elapsed_s * 1e9), read + written, rate, errors, p50, p99, written_bytes=written
    )
    return live, int(slices[:, [1, 3, 4]].sum())


def trace_of(
    pool: WorkerPool,
    work: Workload,
    *,
    engine: str,
    direct: bool,
    flush_ns: int,
    silent_s: float | None,
    has_space: bool,
    notes: tuple[str, ...],
) -> Trace:
    """Return the trace of a pass that has ended.

    Parameters
    ----------
    silent_s : float or None
        The time after which it was given up because nothing completed any more.
    has_space : bool
        Whether the file system has space left, so that a refusal for want of it is the drive's.
    """
    elapsed = pool.elapsed_ns()
    rows = max(1, -(-elapsed // SLICE_NS))
    slices = pool.slices(rows)
    fault = pool.first_fault()
    if fault is not None and fault.errno == errno.ENOSPC and has_space:
        fault = replace(
            fault, errno=errno.EIO, what=f"{fault.what}, though the file system has space"
        )
    if silent_s is not None:
        slices[-1, SLICE_COLUMNS.index("errors")] += 1
        fault = fault or IoFault(
            errno.ETIMEDOUT,
            f"no I/O completed for {silent_s:.0f} s",
            0,
            "read" if work.reads else "write",
            elapsed,
        )
    stamps = None
    if pool.total(layout.CHECKED) or (work.verify and not work.writes):
        stamps = StampFaults(
            pool.total(layout.CHECKED),
            pool.total(layout.WRONG),
            pool.total(layout.STALE),
            0,
            pool.bad_places(),
        )
    return Trace(
        engine=engine,
        direct=direct,
        seed=work.seed,
        elapsed_ns=elapsed,
        flush_ns=flush_ns,
        cpu_ns=pool.total(layout.CPU_NS),
        slices=slices,
        latencies=pool.latencies(),
        late_written_bytes=pool.total(layout.LATE_WRITTEN),
        first_fault=fault,
        stamps=stamps,
        stopped=silent_s is not None,
        notes=notes,
    )
