"""Two selections beside each other, and a sample over time."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.comparability import rate_of
from jovik.analysis.comparison import (
    Comparison,
    ConditionChange,
    Direction,
    FindingChange,
    StepComparison,
)
from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.queries.comparison import Compared, History
from jovik.steps import parse
from jovik.tables.table import Table, figure_words, interval_words

DIRECTIONS = (Direction.FASTER, Direction.SLOWER, Direction.WITHIN_NOISE, Direction.UNTOLD)
MOST_KINDS = 4


def verdict_lines(found: Compared) -> list[str]:
    """Return the answer in a few lines: differing conditions first, then the changes."""
    changes = found.comparison.conditions
    lines = [f"differs: {'; '.join(map(condition_words, changes))}"] if changes else []
    return [*lines, _summary(found.comparison)]


def condition_words(change: ConditionChange) -> str:
    """``firmware 2.1 to 9.9``."""
    return f"{change.what} {change.before} to {change.after}"


def _summary(comparison: Comparison) -> str:
    counted = [
        f"{len(of_direction)} {direction}"
        for direction in DIRECTIONS
        if (of_direction := comparison.of(direction))
    ]
    count = len(comparison.steps)
    return f"of {count} {'step' if count == 1 else 'steps'}: {', '.join(counted)}"


def comparison_table(found: Compared) -> Table:
    """Return each step that both have: faster ones first, then slower ones, then the rest."""
    rows = [_row(s) for direction in DIRECTIONS for s in found.comparison.of(direction)]
    return Table(
        f"{found.before.selection.words} against {found.after.selection.words}, {rate_unit()}",
        ["step", "before", "95 % interval", "after", "95 % interval", "times", ""],
        rows,
        right=(1, 2, 3, 4, 5),
        notes=_notes(found),
        small=_small(found),
    )


def _row(s: StepComparison) -> tuple[str, ...]:
    before, after = rate_of(s.before), rate_of(s.after)
    level = s.before.conditions.filled_percent
    full = f", filled to {level} %" if level is not None else ""
    return (
        parse(s.kind).label + full,
        significant(before.median * per_unit()),
        interval_words(before, per_unit()),
        significant(after.median * per_unit()),
        interval_words(after, per_unit()),
        figure_words(s.times),
        str(s.direction),
    )


def _notes(found: Compared) -> list[str]:
    lines = [
        f"excluded, and compared since it was named: run {run.id}: {run.excluded}"
        for side in (found.before, found.after)
        for run in side.runs
        if run.excluded is not None
    ]
    return lines + [finding_words(f) for f in found.comparison.findings]


def _small(found: Compared) -> list[str]:
    comparison = found.comparison
    spread = 100 * found.effect.widest
    lines = [
        f"not compared: {parse(x.kind).label}: {', '.join(x.why)}"
        for x in comparison.not_comparable
    ]
    lines += [
        f"only {which}: {_some([parse(k).label for k in kinds])}"
        for which, kinds in (("before", comparison.only_before), ("after", comparison.only_after))
        if kinds
    ]
    return [
        *lines,
        "times: after over before, with an interval for all steps at once; runs of one "
        f"drive differ by {spread:.2g} %",
    ]


def finding_words(change: FindingChange) -> str:
    """``cliff: at 44 GB (...), now at 39 GB (...) (sequential write ...)``."""
    if change.before is None:
        words = f"{change.kind} now: {change.after}"
    elif change.after is None:
        words = f"{change.kind} no more: it was {change.before}"
    else:
        words = f"{change.kind}: it was {change.before}, now {change.after}"
    return f"{words} ({change.step})"


def _some(names: Sequence[str]) -> str:
    more = f" and {len(names) - MOST_KINDS} more" if names[MOST_KINDS:] else ""
    return "; ".join(names[:MOST_KINDS]) + more


def history_table(found: History) -> Table:
    """Return each step of a sample over time, against its first result."""
    rows, before = [], ""
    for p in found.points:
        c = p.result.conditions
        first = p.kind != before
        rows.append(
            (
                parse(p.kind).label if first else "",
                p.result.started[:10],
                c.firmware or "-",
                c.rig or "-",
                significant(rate_of(p.result).median * per_unit()),
                interval_words(rate_of(p.result), per_unit()),
                "-" if first else figure_words(p.times),
            )
        )
        before = p.kind
    of = f", {found.sample}" if found.sample else ""
    return Table(
        f"{found.selected.selection.drive}{of}: over time",
        ["step", "day", "firmware", "rig", rate_unit(), "95 % interval", "times the first"],
        rows,
        right=(4, 5, 6),
        optional_columns=(3, 2),
        notes=history_notes(found),
    )


def history_notes(found: History) -> list[str]:
    """Return how many steps have surely changed since their first result, and when firmware did."""
    newest = {p.kind: p for p in found.points}
    slower = [k for k, p in newest.items() if p.times.below(1)]
    faster = [k for k, p in newest.items() if p.times.above(1)]
    same = len(newest) - len(slower) - len(faster)
    lines = [
        f"since the first result: {len(faster)} {'step' if len(faster) == 1 else 'steps'} faster, "
        f"{len(slower)} slower, {same} within noise; the ratios' intervals are for all at once"
    ]
    firmware: list[tuple[str, str]] = []
    for p in sorted(found.points, key=lambda p: p.result.started):
        version = p.result.conditions.firmware
        if version and (not firmware or firmware[-1][0] != version):
            firmware.append((version, p.result.started[:10]))
    lines += [f"firmware {version} since {day}" for version, day in firmware[1:]]
    return lines
