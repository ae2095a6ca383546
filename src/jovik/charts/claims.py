"""Claims against measurements, as a bar for each claim."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.claims import CLAIM_MARGIN, ClaimVerdict, Verdict
from jovik.base.interval import Interval
from jovik.charts.chart import About, Bar, BarChart, BarRow
from jovik.charts.provenance import LONGEST_NAME, provenance, truncate
from jovik.queries.claims import ClaimsReport, claims_report
from jovik.shelf.store import Shelf
from jovik.tables.claims import claims_summary
from jovik.tables.table import figure_words

VERDICT_MARKS = {Verdict.SHORT: "bad", Verdict.MET: "good", Verdict.BEATEN: "good"}
WIDEST = 220.0
"""A picture cuts bars beyond this percentage of the claim, and marks the cut."""


def claims_of(shelf: Shelf, drives: Sequence[str], *, margin: float = CLAIM_MARGIN) -> BarChart:
    """Judge a drive of the shelf and chart its claims."""
    return claims_chart(claims_report(shelf, drives[0], margin))


def claims_chart(found: ClaimsReport) -> BarChart:
    """Chart the measured percentage of each claim. Right is better everywhere."""
    rows = []
    for j in found.verdicts:
        share = _better_to_the_right(j)
        claimed = f"{'up to ' if j.claim.up_to else ''}{j.claim.shown()}"
        if share is None or j.share is None or j.measured is None:
            rows.append(BarRow(j.claim.label, (Bar(0.0, str(j.verdict), claimed),), claimed))
            continue
        measured, percent = j.claim.shown(j.measured.median), share.scaled(100)
        description = (
            f"{j.claim.label}: {measured}, {figure_words(j.share, 100)} % of {claimed}, {j.verdict}"
        )
        words, mark = f"{measured}, {j.verdict}", VERDICT_MARKS.get(j.verdict, "open")
        bar = Bar(percent.median, words, description, percent.low, percent.high, mark)
        rows.append(BarRow(j.claim.label, (bar,), claimed))
    each = ", ".join(
        f"{j.claim.label} {100 * j.share.median:.0f} %"
        for j in found.verdicts
        if j.share is not None
    )
    tested = [j.step for j in found.verdicts if j.step is not None]
    about = About(
        f"{truncate(found.sheet.drive.name, LONGEST_NAME)}: {claims_summary(found.verdicts)}",
        "percentage of the claim, inverted for access times; whiskers are 95 % intervals; dotted: "
        f"{100 * found.margin:g} % below it",
        provenance(tested) or "nothing measured; Jovik",
        f"Bars of the measured percentage of each claim. {claims_summary(found.verdicts)}. {each}",
    )
    inverted = any(j.claim.lower_is_better for j in found.verdicts)
    title = "Measured, as a percentage of each claim"
    return BarChart(
        f"{title}; access times inverted, so that right is better" if inverted else title,
        tuple(rows),
        line=(100.0, "the claim"),
        margin=100 * (1 - found.margin),
        cut_at=WIDEST,
        about=about,
    )


def _better_to_the_right(j: ClaimVerdict) -> Interval | None:
    share = j.share
    if share is None or not share.median or not j.claim.lower_is_better:
        return share
    return share.inverse()
