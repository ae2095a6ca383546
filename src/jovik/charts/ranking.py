"""A ranking: the index of every drive as bars, and beside it each step that all share."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.ranking import Ranking
from jovik.base.interval import Interval
from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.charts.chart import About, Bar, BarChart, BarRow
from jovik.charts.provenance import LONGEST_NAME, provenance, truncate
from jovik.queries.ranking import ranking_report
from jovik.shelf.store import Shelf
from jovik.steps import parse
from jovik.tables.table import figure_words

MOST_STEPS = 8
MOST_DRIVES_WITH_STEPS = 8


def ranking_of_shelf(
    shelf: Shelf,
    drives: Sequence[str],
    *,
    highlight: str | None = None,
    yardstick: str | None = None,
) -> BarChart:
    """Rank the drives of the shelf and chart them."""
    shown = shelf.sheets.get(highlight).drive.name if highlight is not None else None
    return ranking_chart(ranking_report(shelf, yardstick=yardstick).ranking, shown)


def ranking_chart(ranking: Ranking, drive: str | None = None) -> BarChart:
    """Chart the index of every drive, this one (else the best placed) in the strong colour."""
    drives = [d for d in ranking.drives if d.index is not None]
    chosen = drive or (drives[0].drive if drives else "")
    rows = []
    for d in drives:
        assert d.index is not None
        words = f"{d.drive}: index {figure_words(d.index)}, place {d.place}"
        bar = _bar(d.index, words, strong=d.drive == chosen)
        rows.append(BarRow(d.drive, (bar,), f"place {d.place}" if d.place else ""))
    shared = [k for k in ranking.kinds if all(any(s.kind == k for s in d.steps) for d in drives)]
    # Side by side only if there is room for two.
    kinds = shared[:MOST_STEPS] if len(drives) <= MOST_DRIVES_WITH_STEPS else []
    first = [
        f"{d.drive} {significant(d.index.median)} (place {d.place})" for d in drives if d.index
    ]
    below = f"100 is {truncate(ranking.yardstick, LONGEST_NAME)}; whiskers are 95 % intervals"
    if kinds:
        below += f"; right: {len(kinds)} of {len(shared)} steps that all share, {rate_unit()}"
    used = [s.result for d in drives for s in d.steps]
    about = About(
        f"Ranking by index, {len(ranking.counted)} kinds of step",
        below,
        f"{len(ranking.kinds)} kinds of step, medians of {provenance(used, units=False)}",
        f"Bars of the index of every drive: {', '.join(first[:10])}",
    )
    beside = tuple(_step(ranking, k, [d.drive for d in drives], chosen) for k in kinds)
    title = f"Index of all steps; 100 is {truncate(ranking.yardstick, LONGEST_NAME)}"
    return BarChart(title, tuple(rows), beside=beside, about=about)


def _step(ranking: Ranking, kind: str, order: Sequence[str], chosen: str) -> BarChart:
    steps = {s.drive: s for d in ranking.drives for s in d.steps if s.kind == kind}
    label, rows = parse(kind).label, []
    for drive in order:
        rate = steps[drive].rate_bytes_s.scaled(per_unit())
        words = f"{drive}: {label}, {figure_words(rate)} {rate_unit()}"
        rows.append(BarRow(drive, (_bar(rate, words, strong=drive == chosen),)))
    return BarChart(label, tuple(rows))


def _bar(value: Interval, said: str, *, strong: bool) -> Bar:
    return Bar(value.median, significant(value.median), said, value.low, value.high, strong=strong)
