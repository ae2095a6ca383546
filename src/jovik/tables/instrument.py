"""An instrument's log beside a run, step by step and phase by phase."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jovik.analysis.instrument import BY_POWER, MIN_COVERAGE, WATTS, SpanFigures
from jovik.base.interval import Interval
from jovik.base.plain_data import keyed
from jovik.base.quantities import significant
from jovik.queries.instrument import InstrumentChange, LogBeside
from jovik.tables.table import Table, figure_words, interval_json, interval_words


def log_table(found: LogBeside) -> Table:
    """Phases first, then each step."""
    log = found.log
    power = log.unit == WATTS
    rows = [_row(f, power=power) for f in (*found.phases, *found.steps)]
    more = ["J/GB", "I/Os per J"] if power else []
    levels = "; levels are averaged as powers" if log.unit in BY_POWER else ""
    notes = [f"run {log.run}{levels}"]
    notes += _short_words(found)
    if found.outside:
        notes.append(f"{found.outside} values lie before or after the run")
    if found.offered_s is not None and abs(found.offered_s) > 1:
        notes.append(
            f"the log first rises {found.offered_s:+.1f} s from the beginning of the first "
            "pass; if that "
            f"is the same moment: --shift {-found.offered_s:.1f}s"
        )
    return Table(
        f"{log.quantity}, {log.unit}",
        ["when", "mean", "95 % interval", "most", *more, "values"],
        rows,
        right=tuple(c for c in range(1, 5 + len(more)) if c != 2),
        notes=notes,
    )


def _short_words(found: LogBeside) -> list[str]:
    """Return the steps that the log does not cover, whose energy is therefore not shown."""
    short = [f for f in found.steps if f.covered < MIN_COVERAGE]
    if not short:
        return []
    words = ", ".join(f"{f.name.split('  ')[0]} ({100 * f.covered:.0f} %)" for f in short)
    energy = ", so that their energy is not shown" if found.log.unit == WATTS else ""
    return [f"the log covers only a part of these steps{energy}: {words}"]


def _row(f: SpanFigures, *, power: bool) -> list[str]:
    figures = (f.joules_per_gb, f.ios_per_joule) if power else ()
    energy = [figure_words(x) if x is not None else "-" for x in figures]
    mean = significant(f.mean.median)
    return [f.name, mean, interval_words(f.mean), significant(f.most), *energy, str(f.count)]


def log_json(found: LogBeside) -> dict[str, Any]:
    """Return the same as documented."""

    def one(f: SpanFigures) -> dict[str, Any]:
        return {
            "when": f.name.strip(),
            "mean": f.mean.median,
            "mean_low": f.mean.low,
            "mean_high": f.mean.high,
            "most": f.most,
            "count": f.count,
            "covered": f.covered,
            "joules_per_gb": f.joules_per_gb.median if f.joules_per_gb else None,
            "ios_per_joule": f.ios_per_joule.median if f.ios_per_joule else None,
            "joules_per_gb_interval": interval_json(f.joules_per_gb) if f.joules_per_gb else None,
            "ios_per_joule_interval": interval_json(f.ios_per_joule) if f.ios_per_joule else None,
        }

    log = found.log
    return {
        "run": log.run,
        "quantity": log.quantity,
        "unit": log.unit,
        "phases": [one(f) for f in found.phases],
        "steps": [one(f) for f in found.steps],
        "outside": found.outside,
        "offered_shift_s": -found.offered_s if found.offered_s is not None else None,
    }


def changes_table(changes: Sequence[InstrumentChange], before: str, after: str) -> Table:
    """Return what instruments showed beside both, phase by phase, with differences."""
    rows = [
        (
            f"{x.quantity}, {x.unit}, {x.what}",
            figure_words(x.before),
            figure_words(x.after),
            _signed(x.difference),
            "differs" if x.apart else "no difference" if x.difference.known else "one value",
        )
        for x in changes
    ]
    ways = {", ".join(w for w in (x.instrument, x.method) if w) for x in changes}
    named = sorted(w for w in ways if w)
    return Table(
        "Beside the runs",
        ["what", before, after, "difference", ""],
        rows,
        right=(1, 2, 3),
        notes=[
            *([f"taken with: {'; '.join(named)}"] if named else []),
            *(
                ["neither log names its method: jovik note DRIVE --log FILE ... --method TEXT"]
                if "" in ways
                else []
            ),
        ],
    )


def _signed(x: Interval) -> str:
    def number(value: float) -> str:
        return f"{'-' if value < 0 else '+'}{significant(abs(value))}"

    if x.low is None or x.high is None:
        return number(x.median)
    return f"{number(x.median)} ({number(x.low)} to {number(x.high)})"


def logged_sentences(found: Sequence[LogBeside]) -> list[str]:
    """Return each log in a line: its phases with their means."""
    sentences = []
    for x in found:
        parts = [f"{f.name} {figure_words(f.mean)}" for f in x.phases]
        sentences.append(f"{x.log.quantity}, {x.log.unit}: {'; '.join(parts)}")
    return sentences


def changes_json(found: Sequence[InstrumentChange]) -> list[dict[str, Any]]:
    """Return what instruments logged beside two runs or drives, as documented."""
    return [
        keyed(x, "quantity", "unit", "what", "before", "after", "apart", "difference")
        | keyed(x, "method", "instrument")
        for x in found
    ]
