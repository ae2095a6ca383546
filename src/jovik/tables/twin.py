"""A drive's twin in tables: its parameters, and how well steps that were left out are predicted."""

from __future__ import annotations

import statistics

from jovik.analysis.drive_faults import fault_words
from jovik.queries.twin import TwinReport
from jovik.simulator.twin import errors_by_kind, shown
from jovik.tables.table import Table

NAMES = {
    "read_latency": "random read alone",
    "sequential_latency": "access in order",
    "write_latency": "random write alone",
    "flush_time": "flush",
    "read_rate": "read rate at most",
    "write_rate": "write rate at most",
    "read_iops": "reads a second at most",
    "write_iops": "writes a second at most",
    "outer_rate": "rate at the outer edge",
    "settle": "shortest way of the arm",
    "queue_gain": "gain of a doubled queue",
    "cache_size": "write cache",
    "direct_write_rate": "write rate after the cache",
    "drain_rate": "emptying of the cache",
    "file_time": "making a file",
    "read_limit": "control group's limit, reading",
    "write_limit": "control group's limit, writing",
    "mixed_share": "rate left by mixing",
    "latency_spread": "spread of reads (log)",
    "write_latency_spread": "spread of writes (log)",
    "flash_size": "flash, spare included",
    "full_share": "sustained rate left when full",
    "idle": "temperature at rest",
    "full": "temperature under full load",
    "time": "time constant of warming",
    "throttle_at": "throttles from",
    "resume_at": "full rate again from",
    "throttle_share": "rate left when throttled",
}
"""What each parameter of a model drive is."""


def twin_tables(found: TwinReport) -> list[Table]:
    """Return the parameters, the answer first, and the errors of steps that were left out."""
    twin = found.twin
    rows = [
        (
            NAMES[p.name],
            shown(p.name, p.value.median),
            _range(p.name, p.value.low, p.value.high) if p.determined else "-",
            _by(p.phrases) if not p.of_class else "its class",
        )
        for p in twin.parameters
    ]
    errors = [
        (
            kind,
            str(len(each)),
            f"{100 * statistics.median(abs(x.error) for x in each):.1f} %",
            f"{100 * max((x.error for x in each), key=abs):+.1f} %",
            max(each, key=lambda x: abs(x.error)).phrase,
        )
        for kind, each in errors_by_kind(twin.left_out).items()
    ]
    notes = (
        [f"measure these to determine more: {', '.join(found.missing)}"] if found.missing else []
    )
    if not found.own_class:
        notes.append("its own class is unknown (jovik sheet edit NAME --class)")
    drive = twin.drive
    alone = "; ".join(f"{x.phrase} ({100 * x.error:+.0f} %)" for x in twin.left_out if x.alone)
    faults = [f"{drive.name} {fault_words(x, drive.capacity_bytes)}" for x in found.faults]
    return [
        Table(
            f"{drive.name}: its twin",
            ["parameter", "value", "95 % interval", "by"],
            rows,
            right=(1, 2),
            verdict=[*faults, twin_sentence(found)],
            notes=notes,
        ),
        Table(
            "Each step predicted from the others",
            ["kind", "steps", "typical error", "largest", "in"],
            errors,
            right=(1, 2, 3),
            notes=[f"alone determine a parameter, and do not count: {alone}"] if alone else [],
        ),
    ]


def twin_sentence(found: TwinReport) -> str:
    """Return how far the twin can be trusted."""
    twin = found.twin
    of_class = [NAMES[p.name] for p in twin.parameters if p.of_class]
    hardly = [NAMES[p.name] for p in twin.parameters if not p.determined and not p.of_class]
    counted = sum(not x.alone for x in twin.left_out) or len(twin.left_out)
    line = (
        f"{twin.drive.name}: of {counted} steps, each predicted from the others, half "
        f"are within {100 * twin.typical_error:.1f} %"
    )
    if of_class:
        usual = f"taken from what is usual for a {found.usual.title}"
        line += f"; no step determined: {', '.join(of_class)}, {usual}"
    if hardly:
        line += f"; hardly determined: {', '.join(hardly)}"
    return line


def _range(name: str, low: float | None, high: float | None) -> str:
    if low is None or high is None:
        return "-"
    return f"{shown(name, low)} to {shown(name, high)}"


def _by(phrases: tuple[str, ...]) -> str:
    if not phrases:
        return "hardly determined"
    more = f" and {len(phrases) - 1} more" if len(phrases) > 1 else ""
    return phrases[0] + more
