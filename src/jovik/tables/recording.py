"""A recording in words."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from jovik.analysis.recording import RecordingSummary
from jovik.base.quantities import show_rate, show_size, show_time, significant, spell_size
from jovik.base.recording import Recording
from jovik.tables.table import Table

if TYPE_CHECKING:
    from jovik.hardware.io_limits import IoLimit
    from jovik.queries.recordings import KnownRecording
    from jovik.runs.recorder import Taken


def recording_sentence(found: RecordingSummary) -> str:
    """Return the maximum gain from a faster drive, and what no drive can save."""
    whole = max(found.elapsed_ns, 1)
    line = (
        f"of {show_time(found.elapsed_ns)} the drive was at work for {show_time(found.waited_ns)} "
        f"({significant(100 * found.waited_share, 2)} %): no other drive can save more than that"
    )
    if found.above_ns >= QUEUED_SHARE * whole:
        line += (
            f"; for {show_time(found.above_ns)} ({significant(100 * found.above_ns / whole, 2)} %) "
            "requests waited above it, because of a limit, a scheduler or other requests"
        )
    return line


QUEUED_SHARE = 0.005
"""From this share of the time on, waiting above the drive is part of the answer."""


def _parts(found: RecordingSummary) -> str:
    """Return what the drive was at work for, and how long requests waited above it."""
    parts: list[tuple[str, int]] = [*found.parts]
    parts += [("queued above it", found.above_ns)] if found.above_ns else []
    whole = max(found.elapsed_ns, 1)
    return ", ".join(f"{n} {show_time(ns)} ({100 * ns / whole:.1f} %)" for n, ns in parts)


def recording_table(
    recording: Recording, found: RecordingSummary, taken: Taken | None = None
) -> Table:
    """Return the figures of a recording, the sentence first.

    With those of all times it was `taken`.
    """
    blocks = ", ".join(f"{spell_size(b)} {100 * s:.0f} %" for b, s in found.blocks)
    rows = [
        ("the drive", recording_sentence(found)),
        ("at the drive", _parts(found) or "-"),
        ("read", f"{show_size(found.read_bytes)} in {found.reads:,} requests"),
        ("written", f"{show_size(found.written_bytes)} in {found.writes:,} requests"),
        ("flushes, discards", f"{found.flushes:,}, {found.discards:,}"),
        ("blocks", blocks or "-"),
        ("in flight", f"{found.mean_depth:.1f} on average while any was, {found.depth} at most"),
        ("in order", f"{100 * found.in_order:.0f} % began at the end of the previous one"),
        ("hot spots", f"{100 * found.hot_share:.0f} % of the requests in a tenth of the range"),
        ("range", show_size(recording.span_bytes)),
        ("by others", f"{100 * found.by_others:.0f} % of the requests"),
    ]
    if taken is not None and len(taken.recordings) > 1:
        took = taken.elapsed_s
        reach = ""
        if took.low is not None and took.high is not None:
            reach = f" ({show_time(took.low * 1e9)} to {show_time(took.high * 1e9)})"
        shown = f"{show_time(took.median * 1e9)}{reach}, {len(taken.recordings)} times"
        rows.insert(0, ("took", f"{shown}; the run of median duration is shown below"))
    notes = [f"recorded on {recording.drive}" if recording.drive else ""]
    if recording.command:
        notes.append("command: " + " ".join(recording.command))
    if recording.files:
        notes.append(f"it opened {len(recording.files):,} files; their names are in the file")
    if taken is not None and taken.cold_files is not None:
        notes.append(_cold(taken.cold_files, taken.held_bytes))
    notes += [_limit_words(x) for x in (taken.limits if taken is not None else ())]
    if taken is not None and taken.left_out:
        notes.append(f"files were opened {taken.left_out:,} times more than can be kept track of")
    if recording.lost:
        notes.append(
            f"{recording.lost:,} events were lost: the kernel's buffer had no room for them, and "
            "this recording is not whole"
        )
    if recording.status:
        notes.append(f"the command ended with status {recording.status}")
    return Table(recording.name, ["", ""], rows, notes=notes)


def _limit_words(limit: IoLimit) -> str:
    each = show_rate(limit.per_s) if limit.unit == "bytes" else f"{limit.per_s:,} I/Os a second"
    return f"a control group limits {limit.direction}s of this shell on {limit.number} to {each}"


def _cold(files: int, held_bytes: int | None) -> str:
    held = (
        ""
        if not held_bytes
        else f"; {show_size(held_bytes)} of them stayed in memory, because other programs use them"
    )
    return (
        f"before each time memory forgot the {files:,} files that the command opens{held}; their "
        "names and attributes stayed in memory (--cold all drops those, too)"
    )


def known_table(found: Sequence[KnownRecording]) -> Table:
    """Return recordings that a replay finds by name."""
    rows = [(r.name, show_time(r.elapsed_ns), f"{r.requests:,}", r.drive or "-") for r in found]
    notes = ["replay one: jovik measure TARGET 'replay \"NAME\"'"]
    return Table(
        "recordings",
        ["name", "took", "requests", "recorded on"],
        rows,
        right=(1, 2),
        notes=notes,
    )
