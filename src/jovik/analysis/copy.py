"""A copy of real files: what it comes to, and whether the source held it back."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jovik.base.step_result import Limit
from jovik.base.trace import Trace

SYNC_SHOWN = 0.1
SOURCE_SHARE = 0.5
"""Above this share of the time spent reading the source, the source was measured."""


def copy_facts(
    traces: Sequence[Trace], sequential_bytes_s: float | None
) -> tuple[dict[str, Any], list[str], list[Limit]]:
    """Facts, words and limits of a copy.

    Parameters
    ----------
    traces : passes of a copy
        Whose facts hold `files`, `bytes`, `seconds`, `sync_ns`, `source_ns`.
    sequential_bytes_s : float or None
        The drive's sequential rate in the same direction, where it was measured in this run.
    """
    first = traces[0].facts
    seconds = sorted(t.elapsed_ns / 1e9 for t in traces)[len(traces) // 2]
    sync_share = sum(t.facts["sync_ns"] for t in traces) / max(sum(t.elapsed_ns for t in traces), 1)
    rate = first["bytes"] / seconds if seconds else 0.0
    facts: dict[str, Any] = {
        "files": first["files"],
        "bytes": first["bytes"],
        "seconds": seconds,
        "files_s": first["files"] / seconds if seconds else 0.0,
        "sync_share": sync_share,
        "of_sequential": rate / sequential_bytes_s if sequential_bytes_s else None,
    }
    words = (
        [f"the final sync took {100 * sync_share:.0f} % of the time"]
        if sync_share > SYNC_SHOWN
        else []
    )
    limits = []
    source = sum(t.facts.get("source_ns", 0) for t in traces)
    whole = sum(t.elapsed_ns for t in traces)
    if whole and source > SOURCE_SHARE * whole:
        limits.append(
            Limit(
                "source",
                first["bytes"] * len(traces) / source * 1e9,
                f"reading the source took {100 * source / whole:.0f} % of the time",
            )
        )
    return facts, words, limits
