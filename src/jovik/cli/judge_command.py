"""`jovik judge`: each claim beside what was measured."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.options import Converted, format_option, percent, shelf_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from jovik.analysis.judge import Judgement
    from jovik.results import Interval
    from jovik.sheet import Claim


@click.command()
@click.argument("drive")
@click.option("--margin", type=Converted("SHARE", percent), default="5%", show_default=True, help="How far below a claim still meets it.")
@format_option()
@shelf_option
def judge(drive: str, margin: float, form: str, shelf_at: str | None) -> int:
    """Hold the results of DRIVE against its claims.

    Exit status 1 when a claim fell short.
    """
    from jovik.analysis.judge import Verdict
    from jovik.analysis.judge import judge as hold
    from jovik.errors import Misuse
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        sheet = shelf.sheet(drive)
        results = shelf.latest_results(drive)
    name = sheet.drive.name
    if not sheet.claims:
        raise Misuse(f"the sheet of {name} has no claims", f'add one: jovik sheet claim "{name}" "sequential read" 7000MB/s')
    if not results:
        raise Misuse(f"{name} has not been measured", f'measure it: jovik measure TARGET --drive "{name}"')
    judgements = hold(sheet.claims, results, margin)
    _show(name, judgements, margin, form)
    return 1 if any(j.verdict is Verdict.SHORT for j in judgements) else 0


def _show(name: str, judgements: Sequence[Judgement], margin: float, form: str) -> None:
    from jovik.cli.output import emit_csv, emit_json, table

    if form == "json":
        emit_json({"drive": name, "margin": margin, "summary": overall(judgements), "claims": [judgement_json(j) for j in judgements]})
    elif form == "csv":
        header = ["claim", "unit", "claimed", "measured", "low", "high", "verdict", "phrase", "why"]
        rows = [
            (j.claim.what, j.claim.unit, j.claim.figure, *_numbers(j.measured), str(j.verdict), j.step.phrase if j.step else None, j.why)
            for j in judgements
        ]
        emit_csv(header, rows)
    else:
        runs = sorted({j.step.run for j in judgements if j.step})
        table(
            f"{name}: claims",
            ["claim", "claimed", "measured", "95 % interval", "of the claim", "verdict"],
            [_row(j) for j in judgements],
            right=(1, 2, 3, 4),
            spare=(4, 3),
            notes=[
                overall(judgements),
                *(f"  {j.claim.label}: {j.why}" for j in judgements),
                f"margin {100 * margin:g} %; rates without the flush at the end; from run {', '.join(runs)}" if runs else "",
            ],
        )


def _row(j: Judgement) -> tuple[str, ...]:
    claimed = ("up to " if j.claim.up_to else "") + j.claim.shown()
    if j.measured is None or j.share is None:
        return (j.claim.label, claimed, "-", "-", "-", str(j.verdict))
    return (
        j.claim.label,
        claimed,
        j.claim.shown(j.measured.median),
        _span(j.claim, j.measured),
        f"{100 * j.share.median:.1f} %",
        str(j.verdict),
        j.why,
    )


def _span(claim: Claim, value: Interval) -> str:
    if value.low is None or value.high is None:
        return "-"
    low, high = claim.shown(value.low), claim.shown(value.high)
    return f"{low.split()[0]} to {high}"


def _numbers(value: Interval | None) -> tuple[float | None, ...]:
    return (value.median, value.low, value.high) if value else (None, None, None)


def overall(judgements: Sequence[Judgement]) -> str:
    """One line for all claims: ``3 of 5 claims met, 1 short, 1 untested``."""
    counts = Counter(str(j.verdict) for j in judgements)
    kept = counts.pop("met", 0) + counts.pop("beaten", 0)
    rest = "".join(f", {n} {verdict}" for verdict, n in counts.items())
    return f"{kept} of {len(judgements)} claim{'s' if len(judgements) != 1 else ''} met{rest}"


def judgement_json(j: Judgement) -> dict[str, Any]:
    """One judgement as documented; figures in the claim's unit."""
    from jovik.cli.output import interval_json

    return {
        "what": j.claim.what,
        "sustained": j.claim.sustained,
        "up_to": j.claim.up_to,
        "printed": j.claim.printed,
        "unit": j.claim.unit,
        "claimed": j.claim.figure,
        "measured": interval_json(j.measured) if j.measured else None,
        "share": interval_json(j.share) if j.share else None,
        "verdict": str(j.verdict),
        "why": j.why,
        "phrase": j.step.phrase if j.step else None,
        "run": j.step.run if j.step else None,
    }
