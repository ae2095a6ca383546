"""A recording in words."""

from __future__ import annotations

from typing import Any

from jovik.analysis.recording import RecordingSummary
from jovik.base.quantities import show_size, show_time, spell_size
from jovik.base.recording import Recording
from jovik.tables.table import Table


def recording_sentence(found: RecordingSummary) -> str:
    """What a faster drive could do about it, at most."""
    share = f"{100 * found.waited_share:.0f} %"
    return (
        f"of {show_time(found.elapsed_ns)} the drive was waited for {show_time(found.waited_ns)} "
        f"({share}): no drive can save more than that"
    )


def recording_table(recording: Recording, found: RecordingSummary) -> Table:
    """The figures of a recording, the sentence first."""
    blocks = ", ".join(f"{spell_size(b)} {100 * s:.0f} %" for b, s in found.blocks)
    rows = [
        ("waited for the drive", recording_sentence(found)),
        ("read", f"{show_size(found.read_bytes)} in {found.reads:,} requests"),
        ("written", f"{show_size(found.written_bytes)} in {found.writes:,} requests"),
        ("flushes, discards", f"{found.flushes:,}, {found.discards:,}"),
        ("blocks", blocks or "-"),
        ("in flight", f"{found.mean_depth:.1f} on average while any was, {found.depth} at most"),
        ("in order", f"{100 * found.in_order:.0f} % began where the one before ended"),
        ("hot spots", f"{100 * found.hot_share:.0f} % of the requests in a tenth of the range"),
        ("range", show_size(recording.span_bytes)),
        ("by others", f"{100 * found.by_others:.0f} % of the requests"),
    ]
    notes = [f"recorded on {recording.drive}" if recording.drive else ""]
    if recording.lost:
        notes.append(
            f"{recording.lost:,} events were lost: the kernel's buffer had no room for them, and "
            "this recording is not whole"
        )
    if recording.status:
        notes.append(f"the command ended with status {recording.status}")
    return Table(recording.name, ["", ""], rows, notes=[n for n in notes if n])


def recording_json(recording: Recording, found: RecordingSummary, digest: str) -> dict[str, Any]:
    """The same as documented."""
    return {
        "name": recording.name,
        "digest": digest,
        "drive": recording.drive,
        "made": recording.made,
        "requests": len(recording),
        "span_bytes": recording.span_bytes,
        "lost": recording.lost,
        "status": recording.status,
        "elapsed_ns": found.elapsed_ns,
        "waited_ns": found.waited_ns,
        "read_bytes": found.read_bytes,
        "written_bytes": found.written_bytes,
        "reads": found.reads,
        "writes": found.writes,
        "flushes": found.flushes,
        "discards": found.discards,
        "mean_depth": found.mean_depth,
        "most_depth": found.depth,
        "in_order": found.in_order,
        "hot_share": found.hot_share,
        "by_others": found.by_others,
        "blocks": [{"bytes": b, "share": s} for b, s in found.blocks],
    }
