"""Real work as percentages of the advertised speed."""

from __future__ import annotations

from jovik.analysis.real_work import WorkKind
from jovik.base.quantities import show_rate, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.queries.real_work import RealWork
from jovik.tables.table import Table, interval_words

KIND_WORDS = {WorkKind.STREAM: "stream", WorkKind.COPY: "copy", WorkKind.PROGRAM: "program"}


def real_work_sentence(found: RealWork) -> str:
    """Return the percentages of streams, copies and programs."""
    parts = []
    for kind, words in (
        (WorkKind.STREAM, "its streams reach"),
        (WorkKind.COPY, "copies"),
        (WorkKind.PROGRAM, "recorded programs"),
    ):
        shares = sorted(x.share.median for x in found.shares if x.kind is kind)
        if not shares:
            continue
        ends = dict.fromkeys(_percent(s) for s in (shares[0], shares[-1]))
        parts.append(f"{words} {' to '.join(ends)} %")
    return f"of the advertised rate, {', '.join(parts)}"


def _percent(share: float) -> str:
    return f"{100 * share:.0f}" if share >= 0.1 else f"{100 * share:.2g}"


def real_work_table(found: RealWork) -> Table:
    """Return the sentence first, then each step with its share."""
    rows = [
        (
            KIND_WORDS[x.kind],
            x.result.step.label,
            significant(x.rate_bytes_s.median * per_unit()),
            interval_words(x.rate_bytes_s, per_unit()),
            significant(x.claimed_bytes_s * per_unit()),
            f"{_percent(x.share.median)} %",
            interval_words(x.share, 100),
        )
        for x in found.shares
    ]
    notes = [
        "claimed: the advertised sequential rates, by the mix of reads and writes; a "
        "program's rate is "
        "that while it waited for the drive"
    ]
    return Table(
        f"{found.drive}: {real_work_sentence(found)}",
        ["", "what", rate_unit(), "95 % interval", "claimed", "share", "95 % interval, %"],
        rows,
        right=(2, 4, 5),
        notes=notes,
    )


def real_work_alt(found: RealWork) -> str:
    """For who does not see the picture."""
    each = ", ".join(
        f"{x.result.step.label} {show_rate(x.rate_bytes_s.median)}" for x in found.shares
    )
    return f"{real_work_sentence(found)}: {each}"
