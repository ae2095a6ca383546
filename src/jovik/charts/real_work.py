"""Streams, copies and recorded programs as percentages of the advertised rate."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.real_work import WorkKind
from jovik.base.quantities import show_rate
from jovik.charts.chart import About, Bar, BarChart, BarRow
from jovik.charts.provenance import provenance
from jovik.queries.real_work import RealWork, real_work
from jovik.shelf.store import Shelf
from jovik.tables.real_work import KIND_WORDS, real_work_alt
from jovik.tables.table import figure_words


def real_work_of(shelf: Shelf, drives: Sequence[str]) -> BarChart:
    """Chart the real work of a drive of the shelf."""
    return real_work_chart(real_work(shelf, drives[0]))


def real_work_chart(found: RealWork) -> BarChart:
    """Chart each stream, copy and program as a percentage of the advertised speed."""
    rows = []
    for x in found.shares:
        share, rate = x.share.scaled(100), show_rate(x.rate_bytes_s.median)
        label, strong = x.result.step.label, x.kind is not WorkKind.STREAM
        words = f"{share.median:.3g} %, {rate}"
        description = (
            f"{KIND_WORDS[x.kind]}, {label}: {rate}, {figure_words(share)} % of the advertised rate"
        )
        bar = Bar(share.median, words, description, share.low, share.high, strong=strong)
        rows.append(BarRow(label, (bar,), KIND_WORDS[x.kind]))
    title = "Real work, as a percentage of the claimed sequential rate"
    about = About(
        f"{found.drive}: real work against the box",
        "percentage of the claimed sequential rate; whiskers are 95 % intervals",
        provenance([x.result for x in found.shares]),
        real_work_alt(found),
    )
    return BarChart(title, tuple(rows), line=(100.0, "the box"), about=about)
