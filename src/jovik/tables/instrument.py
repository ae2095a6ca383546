"""An instrument's log beside a run, step by step and phase by phase."""

from __future__ import annotations

from typing import Any

from jovik.analysis.instrument import SpanFigures
from jovik.base.quantities import significant
from jovik.queries.instrument import LogBeside
from jovik.tables.table import Table


def log_table(found: LogBeside) -> Table:
    """Phases first, then each step."""
    power = found.unit == "W"
    rows = [_row(f, power=power) for f in (*found.phases, *found.steps)]
    more = ["J/GB", "I/Os per J"] if power else []
    notes = [f"means of levels are of the powers behind them; run {found.run}"]
    if not found.unit.startswith("dB"):
        notes = [f"run {found.run}"]
    if found.outside:
        notes.append(f"{found.outside} values lie before or after the run")
    if found.offered_s is not None and abs(found.offered_s) > 1:
        notes.append(
            f"the log first rises {found.offered_s:+.1f} s from when the first pass began; if that "
            f"is the same moment: --shift {-found.offered_s:.1f}s"
        )
    return Table(
        f"{found.quantity}, {found.unit}",
        ["when", "mean", "most", *more, "values"],
        rows,
        right=tuple(range(1, 4 + len(more))),
        notes=notes,
    )


def _row(f: SpanFigures, *, power: bool) -> list[str]:
    energy = (
        [significant(x) if x is not None else "-" for x in (f.joules_per_gb, f.ios_per_joule)]
        if power
        else []
    )
    return [f.span.name, significant(f.mean), significant(f.most), *energy, str(f.count)]


def log_json(found: LogBeside) -> dict[str, Any]:
    """The same as documented."""

    def one(f: SpanFigures) -> dict[str, Any]:
        return {
            "when": f.span.name.strip(),
            "mean": f.mean,
            "most": f.most,
            "count": f.count,
            "joules_per_gb": f.joules_per_gb,
            "ios_per_joule": f.ios_per_joule,
        }

    return {
        "run": found.run,
        "quantity": found.quantity,
        "unit": found.unit,
        "phases": [one(f) for f in found.phases],
        "steps": [one(f) for f in found.steps],
        "outside": found.outside,
        "offered_shift_s": -found.offered_s if found.offered_s is not None else None,
    }
