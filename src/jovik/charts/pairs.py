"""Two figures for each step side by side: empty against full, the old drive against the new one."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.fullness import FillComparison, empty_against_full
from jovik.analysis.step_result import StepResult
from jovik.analysis.upgrade import Change, StepGain
from jovik.base.errors import UsageError
from jovik.base.interval import Interval
from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.charts.chart import About, Bar, BarChart, BarRow
from jovik.charts.provenance import provenance, truncate
from jovik.queries.evidence import evidence
from jovik.queries.upgrade import Upgraded, upgraded
from jovik.shelf.store import Shelf
from jovik.steps import parse
from jovik.tables.table import figure_words

MOST_ROWS = 10


def fullness_of(shelf: Shelf, drives: Sequence[str]) -> BarChart:
    """Chart steps on the empty drive against the same nearly full.

    Raises
    ------
    UsageError
        The drive was not measured both ways.
    """
    name = shelf.sheets.get(drives[0]).drive.name
    pairs = empty_against_full(evidence(shelf, name, filled=True).results)
    if not pairs:
        raise UsageError(
            f"{name} was not measured both empty and full",
            f'jovik measure TARGET --drive "{name}" --plan full-review',
        )
    return fullness_chart(pairs)


def fullness_chart(pairs: Sequence[FillComparison]) -> BarChart:
    """Chart each step on the empty drive and on the filled one."""
    full = f"filled to {pairs[0].filled_percent} %"
    rows = [
        (p.kind, p.empty, p.full, f"{100 * p.share.median:.0f} % of empty, {p.verdict}")
        for p in pairs
    ]
    used = [r for p in pairs for r in (p.step_empty, p.step_full)]
    each = ", ".join(f"{parse(p.kind).label} {100 * p.share.median:.0f} %" for p in pairs)
    alt = f"Paired bars of each step empty and {full}; of empty: {each}"
    heading = f"{pairs[0].step_full.drive}: empty against full"
    return _paired(f"Empty, and {full}", ("empty", full), rows, heading, used, alt)


def upgrade_of(shelf: Shelf, drives: Sequence[str]) -> BarChart:
    """Chart the drive in use against the one that would replace it.

    Raises
    ------
    UsageError
        The two have no step in common.
    """
    upgrades = upgraded(shelf, *drives)
    if not upgrades.upgrade.steps:
        raise UsageError(
            f"{upgrades.old.name} and {upgrades.new.name} have no step in common",
            "measure both with the same plan",
        )
    return upgrade_chart(upgrades)


def upgrade_chart(found: Upgraded) -> BarChart:
    """Chart the old drive and the new one, step by step."""
    steps, names = found.upgrade.steps, (found.upgrade.old, found.upgrade.new)
    rows = [
        (s.kind, s.old, s.new, f"{significant(s.times.median)} times, {s.verdict}") for s in steps
    ]
    kinds = {s.kind for s in steps}
    each = ", ".join(f"{parse(s.kind).label} {significant(s.times.median)} times" for s in steps)
    return _paired(
        f"{names[0]} and {names[1]}",
        names,
        rows,
        f"{names[0]} to {names[1]}",
        [r for r in found.results if r.kind in kinds],
        f"Paired bars of {found.old.name} and {found.new.name}: {each}",
    )


def beside_chart(found: Upgraded) -> BarChart:
    """Chart two drives step by step, neither of which replaces the other: the new one is first."""
    first, second = found.new.name, found.old.name
    rows = [(s.kind, s.new, s.old, faster_words(s, first, second)) for s in found.upgrade.steps]
    each = ", ".join(f"{parse(kind).label}: {words}" for kind, _, _, words in rows)
    kinds = {s.kind for s in found.upgrade.steps}
    return _paired(
        f"{first} and {second}",
        (first, second),
        rows,
        f"{first} and {second}",
        [r for r in found.results if r.kind in kinds],
        f"Paired bars of {first} and {second}: {each}",
        strong=0,
    )


def faster_words(s: StepGain, first: str, second: str) -> str:
    """Return which of two is faster in a step, and how many times."""
    times = s.times.median
    match s.verdict:
        case Change.FASTER:
            return f"{truncate(first, 24)} {significant(times)} times"
        case Change.SLOWER:
            return f"{truncate(second, 24)} {significant(1 / times)} times"
        case Change.NO_GAIN:
            return "no noticeable difference"
    return s.verdict


def _paired(
    title: str,
    names: tuple[str, str],
    rows: Sequence[tuple[str, Interval, Interval, str]],
    heading: str,
    used: Sequence[StepResult],
    alt: str,
    *,
    strong: int = 1,
) -> BarChart:
    left_out = f"; {len(rows) - MOST_ROWS} more in the table" if len(rows) > MOST_ROWS else ""
    drawn = tuple(
        BarRow(
            parse(kind).label,
            (
                _bar(one, names[0], strong=strong == 0),
                _bar(two, names[1], strong=strong == 1),
            ),
            words,
        )
        for kind, one, two, words in rows[:MOST_ROWS]
    )
    below = f"{rate_unit()}, each pair to its own scale; whiskers are 95 % intervals{left_out}"
    about = About(heading, below, provenance(used), alt)
    title = f"{title}; each step to its own scale{left_out}"
    short = (truncate(names[0]), truncate(names[1]))
    return BarChart(title, drawn, short, own_scale=True, about=about)


def _bar(value: Interval, name: str, *, strong: bool) -> Bar:
    shown = value.scaled(per_unit())
    words = f"{significant(shown.median)} {rate_unit()}"
    description = f"{name}: {figure_words(shown)} {rate_unit()}"
    return Bar(shown.median, words, description, shown.low, shown.high, strong=strong)
