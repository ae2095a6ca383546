"""What the steps of a run tell together: ladders, long writes, access times, empty against full, copies; as tables and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jovik.analysis.alike import long_write_of
from jovik.analysis.fullness import FullPair, empty_against_full
from jovik.analysis.judge import all_latencies_ns
from jovik.analysis.ladder import Curve, curves
from jovik.analysis.statistics import interval
from jovik.cli.output import interval_json, interval_words, table
from jovik.phrase import Access, Copy, Step, parse
from jovik.results import Interval, StepResult
from jovik.units import show_size, show_time, significant


def show_findings(results: Sequence[StepResult]) -> None:
    """Every table that these results give rise to."""
    for curve in curves(results):
        _ladder(curve)
    for number, result in enumerate(results, 1):
        if long_write_of(result) is not None:
            _long_write(number, result)
    _access_times(results)
    _copies(results)
    _fullness(empty_against_full(results))


def findings_json(results: Sequence[StepResult]) -> dict[str, Any]:
    """The same as documented in docs/json.md."""
    return {"ladders": [_ladder_json(c) for c in curves(results)], "empty_against_full": [_pair_json(p) for p in empty_against_full(results)]}


def in_a_ladder(result: StepResult) -> bool:
    """Whether a ladder's own table shows this result."""
    return "ladder" in result.facts


def _ladder(curve: Curve) -> None:
    rows = []
    for rung in curve.rungs:
        latency = all_latencies_ns(rung.result)
        mark = "best" if rung.value == curve.best else "knee" if rung.value == curve.knee else ""
        rows.append(
            (
                curve.spell(rung.value),
                significant(rung.rate_bytes_s.median / 1e6),
                interval_words(rung.rate_bytes_s, 1e-6),
                significant(rung.iops.median),
                show_time(latency["p50"]) if latency else "-",
                show_time(latency["p99"]) if latency else "-",
                mark,
            )
        )
    table(
        curve.label, [curve.name, "MB/s", "95 % interval", "IOPS", "half within", "99 % within", ""], rows,
        right=(0, 1, 2, 3, 4, 5), spare=(4, 5), notes=[curve.words()],
    )  # fmt: skip


def _ladder_json(curve: Curve) -> dict[str, Any]:
    points = [
        {"value": r.value, "rate_bytes_s": interval_json(r.rate_bytes_s), "iops": interval_json(r.iops), "phrase": r.result.phrase}
        for r in curve.rungs
    ]
    return {"axis": curve.axis, "label": curve.label, "knee": curve.knee, "best": curve.best, "points": points}


def _long_write(number: int, result: StepResult) -> None:
    found = result.facts["long_write"]
    step = parse(result.phrase)
    assert isinstance(step, Access)
    # A random write is read in I/Os a second, a stream in bytes.
    scale, unit = (1 / found["block_bytes"], "IOPS") if step.random else (1e-6, "MB/s")
    rows = []
    for part in found["parts"]:
        rate = Interval(**part["rate_bytes_s"])
        rows.append(
            (
                show_size(part["start_bytes"]) if part["start_bytes"] else "0",
                show_size(part["end_bytes"]),
                show_time((part["end_s"] - part["start_s"]) * 1e9),
                significant(rate.median * scale),
                interval_words(rate, scale),
                f"{100 * part['spread']:.1f} %",
            )
        )
    table(
        f"step {number}: {step.label}", ["from", "to", "lasted", unit, "95 % interval", "slices differ by"], rows, right=(0, 1, 2, 3, 4, 5),
        notes=["the interval is of the mean within this one pass"],
    )  # fmt: skip


def _plain_single(step: Step) -> bool:
    return isinstance(step, Access) and step.depth == step.workers == 1 and step.random and not (step.rate_bytes_s or step.rate_iops)


def _access_times(results: Sequence[StepResult]) -> None:
    rows = []
    for result in results:
        step, latency = parse(result.phrase), all_latencies_ns(result)
        if latency is None or not _plain_single(step) or in_a_ladder(result) or result.conditions.filled_percent is not None:
            continue
        rows.append((step.label, *(show_time(latency[k]) for k in ("p50", "p95", "p99", "p99_9", "max"))))
    if rows:
        table(
            "Access time, one at a time", ["step", "half within", "95 %", "99 %", "99.9 %", "longest"], rows, right=(1, 2, 3, 4, 5), spare=(2,)
        )  # fmt: skip


def _copies(results: Sequence[StepResult]) -> None:
    rows = []
    for result in results:
        facts = result.facts.get("copy")
        if facts is None:
            continue
        rate = interval([p.rate_bytes_s for p in result.passes])
        share = facts.get("of_sequential")
        full = f", filled to {result.conditions.filled_percent} %" if result.conditions.filled_percent is not None else ""
        rows.append(
            (
                parse(result.phrase).label + full,
                significant(rate.median / 1e6),
                interval_words(rate, 1e-6),
                show_time(facts["seconds"] * 1e9),
                significant(facts["files_s"]),
                f"{100 * share:.0f} %" if share else "-",
            )
        )
    if rows:
        table(
            "Copies", ["step", "MB/s", "95 % interval", "takes", "files/s", "of sequential"], rows, right=(1, 2, 3, 4, 5), spare=(2,),
            notes=["through the operating system's cache, from a cold start to the end of the sync, as a person waits for it"],
        )  # fmt: skip


def _fullness(pairs: Sequence[FullPair]) -> None:
    if not pairs:
        return
    rows = [
        (
            parse(p.kind).label,
            f"{p.filled_percent} %",
            significant(p.empty.median / 1e6),
            significant(p.full.median / 1e6),
            f"{100 * p.share.median:.0f} %",
            interval_words(p.share, 100) + (" %" if p.share.known else ""),
            p.verdict,
        )
        for p in pairs
    ]
    table(
        "Empty against full", ["step", "filled to", "MB/s empty", "MB/s full", "of empty", "95 % interval", ""], rows,
        right=(1, 2, 3, 4, 5), spare=(5,),
    )  # fmt: skip


def _pair_json(pair: FullPair) -> dict[str, Any]:
    return {
        "kind": pair.kind, "filled_percent": pair.filled_percent, "empty_bytes_s": interval_json(pair.empty),
        "full_bytes_s": interval_json(pair.full), "share": interval_json(pair.share),
    }  # fmt: skip


def is_copy(result: StepResult) -> bool:
    """Whether a result is of real files, whose own table says more."""
    return isinstance(parse(result.phrase), Copy)
