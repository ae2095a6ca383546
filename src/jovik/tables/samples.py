"""The samples of one drive side by side."""

from __future__ import annotations

from jovik.analysis.samples import ExpectedRange
from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.queries.samples import SampleComparison
from jovik.steps import parse
from jovik.tables.evidence import spoken_evidence
from jovik.tables.table import Table, interval_words


def samples_table(found: SampleComparison) -> Table:
    """Return each sample in each step, with its class's band.

    Below it who is suspect and what to check.
    """
    bad = {(s.sample, kind) for s in found.suspects for kind in s.kinds}
    rows = [
        (
            parse(f.kind).label,
            f.sample,
            significant(f.rate_bytes_s.median * per_unit()),
            interval_words(f.rate_bytes_s, per_unit()),
            f"{100 * f.share.median:.0f} %" if f.share else "-",
            _band_words(f.band),
            "suspect"
            if (f.sample, f.kind) in bad
            else f"held back by {f.result.conditions.link}"
            if f.held_by_link
            else "",
        )
        for f in found.figures
    ]
    rigs = sorted({str(f.result.conditions.rig) for f in found.figures})
    each = [
        f"measured on {' and '.join(rigs)}: each figure is of the rig that is newest, or "
        "of one on which the sample did clearly better"
    ]
    notes = each if len(rigs) > 1 else []
    notes += (
        []
        if len(found.samples) > 1
        else ["only one sample was measured: it can be compared with its claims and its class only"]
    )
    for one in found.suspects:
        notes.append(
            f"{one.sample} is suspect: {'; '.join(spoken_evidence(e) for e in one.evidence)}"
        )
        notes += [f"  check {number}: {check}" for number, check in enumerate(one.checks, 1)]
    notes += [] if found.suspects else ["no sample is far from its siblings or its class"]
    if any(f.band != ExpectedRange(None, None) for f in found.figures):
        notes.append(
            "its class: the expected range for this interface and medium, from drives "
            "on the shelf and the rate of the link"
        )
    header = [
        "step",
        "sample",
        rate_unit(),
        "95 % interval",
        "of the best sibling",
        "its class",
        "",
    ]
    return Table(
        f"{found.drive}: samples",
        header,
        rows,
        right=(2, 3, 4, 5),
        optional_columns=(5,),
        notes=notes,
    )


def _band_words(band: ExpectedRange) -> str:
    low = significant(band.low * per_unit()) if band.low is not None else ""
    high = significant(band.high * per_unit()) if band.high is not None else ""
    return (
        f"{low} to {high}"
        if low and high
        else f"from {low}"
        if low
        else f"up to {high}"
        if high
        else "-"
    )
