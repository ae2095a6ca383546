"""Drives measured at the same moment, beside each alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from jovik.analysis.together import TogetherFigure
from jovik.base.interval import Interval
from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.steps import parse
from jovik.tables.table import Table, figure_words, interval_json, interval_words


@dataclass(frozen=True)
class SharedPath:
    """The shared path of several targets, and the rates through it.

    `in_step` is whether all passes were made at the same moment; `totals` are by phrase, bytes a
    second.
    """

    shared: tuple[str, ...]
    in_step: bool
    totals: dict[str, Interval] = field(default_factory=dict)


def together_table(found: Sequence[TogetherFigure], path: SharedPath) -> Table:
    """Return each step of each target alone and together, followed by the shared path."""
    rows, before = [], ""
    for f in found:
        rows.append(
            (
                parse(f.phrase).label if f.phrase != before else "",
                f.target,
                significant(f.alone.median * per_unit()),
                interval_words(f.alone, per_unit()),
                significant(f.together.median * per_unit()),
                interval_words(f.together, per_unit()),
                figure_words(f.share),
            )
        )
        before = f.phrase
    return Table(
        f"Together against alone: {_verdict(found)}",
        [
            "step",
            "target",
            f"alone {rate_unit()}",
            "95 % interval",
            "together",
            "95 % interval",
            "fraction",
        ],
        rows,
        right=(2, 3, 4, 5, 6),
        notes=_notes(found, path),
    )


def _verdict(found: Sequence[TogetherFigure]) -> str:
    held = list(dict.fromkeys(f.target for f in found if f.held_back))
    every = " and ".join(dict.fromkeys(f.target for f in found))
    if held:
        return f"{' and '.join(held)} {'does' if len(held) == 1 else 'do'} surely less together"
    if not all(f.told for f in found):
        return f"{every}: too few passes to tell whether one limits the other"
    return f"no shared part was seen to limit {every}"


def _notes(found: Sequence[TogetherFigure], path: SharedPath) -> list[str]:
    shared = ", ".join(path.shared) or "only the processor and its memory"
    lines = [f"shared: {shared}"]
    lines += [
        f"{parse(phrase).label}: {figure_words(total, per_unit())} {rate_unit()} all together"
        for phrase, total in path.totals.items()
    ]
    if not path.in_step:
        lines.append("one of them ended early: not every pass was at the same moment")
    return lines


def together_json(found: Sequence[TogetherFigure], path: SharedPath) -> dict[str, Any]:
    """Return the same as documented."""
    return {
        "shared": list(path.shared),
        "in_step": path.in_step,
        "totals": [
            {"phrase": phrase, "rate_bytes_s": interval_json(total)}
            for phrase, total in path.totals.items()
        ],
        "steps": [
            {
                "target": f.target,
                "phrase": f.phrase,
                "alone_bytes_s": interval_json(f.alone),
                "together_bytes_s": interval_json(f.together),
                "share": interval_json(f.share),
                "held_back": f.held_back,
            }
            for f in found
        ],
    }
