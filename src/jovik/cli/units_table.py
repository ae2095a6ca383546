"""`jovik judge --units`: the samples of a drive side by side, and those that are not right."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from jovik.sheet import Drive, Sheet
    from jovik.shelf.store import Shelf


def show_units(shelf: Shelf, sheet: Sheet, form: str) -> int:
    """Lay them side by side; 1 where a unit is suspect.

    Raises
    ------
    Misuse
        No unit of the drive was measured.
    """
    from jovik.analysis.judge import Verdict, judge
    from jovik.analysis.units import side_by_side, suspects
    from jovik.cli.output import emit_csv, emit_json, interval_json, interval_words, table
    from jovik.errors import Misuse
    from jovik.phrase import parse
    from jovik.units import significant

    name = sheet.drive.name
    results = shelf.latest_by_unit(name)
    if not results:
        raise Misuse(f"no unit of {name} was measured", f'measure one: jovik measure TARGET --drive "{name}"')
    figures = side_by_side(results)
    peers = [n for n, other in shelf.drives().items() if n != name and _alike(other, sheet.drive)]
    of_class = [r for r in shelf.latest_results() if r.drive in peers]
    short = []
    for unit in dict.fromkeys(f.unit for f in figures):
        mine = [f.result for f in figures if f.unit == unit]
        short += [(unit, j.step.kind) for j in judge(sheet.claims, mine) if j.verdict is Verdict.SHORT and j.step is not None]
    wrong = suspects(figures, of_class, short)
    bad = {s.unit for s in wrong}
    order = list(dict.fromkeys(f.kind for f in figures))
    figures = sorted(figures, key=lambda f: order.index(f.kind))
    if form == "json":
        emit_json(
            {
                "drive": name,
                "units": [
                    {"unit": f.unit, "kind": f.kind, "rate_bytes_s": interval_json(f.rate_bytes_s), "run": f.result.run,
                     "share": interval_json(f.share) if f.share else None} for f in figures
                ],
                "suspects": [{"unit": s.unit, "evidence": list(s.evidence), "checks": list(s.checks)} for s in wrong],
            }
        )  # fmt: skip
        return 1 if wrong else 0
    rows = [
        (
            parse(f.kind).label,
            f.unit,
            significant(f.rate_bytes_s.median / 1e6),
            interval_words(f.rate_bytes_s, 1e-6),
            f"{100 * f.share.median:.0f} %" if f.share else "-",
            "suspect" if f.unit in bad else "",
        )
        for f in figures
    ]
    header = ["step", "unit", "MB/s", "95 % interval", "of the best sibling", ""]
    if form == "csv":
        emit_csv(header, rows)
        return 1 if wrong else 0
    notes = [] if len({f.unit for f in figures}) > 1 else ["only one unit was measured: it can be held against its claims and its class only"]
    for one in wrong:
        notes.append(f"{one.unit} is suspect: {'; '.join(_spoken(e) for e in one.evidence)}")
        notes += [f"  check {number}: {check}" for number, check in enumerate(one.checks, 1)]
    notes += [] if wrong else ["no unit is far from its siblings or its class"]
    table(f"{name}: units", header, rows, right=(2, 3, 4), spare=(3,), notes=notes)
    return 1 if wrong else 0


def _spoken(evidence: str) -> str:
    """Evidence with the step's label instead of its phrase."""
    from jovik.errors import PhraseError
    from jovik.phrase import parse

    kind, colon, rest = evidence.partition(": ")
    try:
        return f"{parse(kind).label}: {rest}" if colon else evidence
    except PhraseError:
        return evidence


def _alike(one: Drive, two: Drive) -> bool:
    """Of one class: the same interface and medium."""
    return bool(one.interface) and (one.interface, one.medium) == (two.interface, two.medium)
