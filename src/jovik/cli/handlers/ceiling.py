"""Carry out `jovik ceiling`."""

from __future__ import annotations

from dataclasses import asdict

from jovik.base.errors import EngineUnavailableError
from jovik.base.quantities import show_size, significant
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table
from jovik.engine.ceiling import survey
from jovik.engine.ring import Ring
from jovik.tables import Table


def ceiling(engine: str, time_ns: int, form: str) -> None:
    """Measure the tester's own limits here, without a drive."""
    engines = [engine] if engine != "auto" else ["io_uring", "blocking"]
    notes = []
    if engine == "auto":
        try:
            Ring(1).close()
        except EngineUnavailableError as error:
            engines, notes = ["blocking"], [error.message]
    ceilings = [c for e in engines for c in survey(e, time_ns)]
    if form == "json":
        emit_json(
            {
                "ceilings": [{**asdict(c), "rate_bytes_s": c.rate_bytes_s} for c in ceilings],
                "notes": notes,
            },
            "ceilings",
        )
        return
    rows = [
        (c.engine, c.behind, c.depth, c.workers, c.block_bytes, c.iops, c.rate_bytes_s)
        for c in ceilings
    ]
    if form == "csv":
        emit_csv(
            ["engine", "behind", "depth", "workers", "block_bytes", "iops", "rate_bytes_s"], rows
        )
        return
    shown = [
        (
            e,
            b,
            str(d),
            str(w),
            "4 KiB" if size == 4096 else "1 MiB",
            significant(iops),
            "-" if b == "nothing" else f"{show_size(rate)}/s",
        )
        for e, b, d, w, size, iops, rate in rows
    ]
    show_table(
        Table(
            "Limits of the tester",
            ["engine", "backend", "depth", "workers", "block", "IOPS", "throughput"],
            shown,
            right=(2, 3, 4, 5, 6),
            notes=[
                *notes,
                "a result above 70 % of the loop's rate without a drive, at its depth "
                "and workers, is marked as limited by the tester",
            ],
        )
    )
