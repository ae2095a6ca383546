"""`jovik judge`: each claim beside what was measured."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.options import Converted, format_option, percent, shelf_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from jovik.analysis.agreement import Disagreement
    from jovik.analysis.judge import Judgement
    from jovik.results import Interval
    from jovik.sheet import Claim, Sheet
    from jovik.shelf.store import Shelf


@click.command()
@click.argument("drive")
@click.option("--margin", type=Converted("SHARE", percent), default="5%", show_default=True, help="How far below a claim still meets it.")
@click.option("--settle", "target", metavar="TARGET", help="Measure on TARGET what is too close to call, with as many passes as it takes.")
@click.option("--units", "by_unit", is_flag=True, help="Lay the samples of the drive side by side instead, and name those that are not right.")
@format_option()
@shelf_option
def judge(drive: str, margin: float, target: str | None, by_unit: bool, form: str, shelf_at: str | None) -> int:
    """Hold the results of DRIVE against its claims.

    Exit status 1 when a claim fell short.

    \b
    jovik judge "Comet 2TB"
    jovik judge "Comet 2TB" --settle /mnt/new
    jovik judge "Comet 2TB" --units
    """
    from jovik.analysis.agreement import disagreements
    from jovik.analysis.judge import Verdict
    from jovik.analysis.judge import judge as hold
    from jovik.errors import Misuse
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        sheet = shelf.sheet(drive)
        name = sheet.drive.name
        if by_unit:
            from jovik.cli.units_table import show_units

            return show_units(shelf, sheet, form)
        if not sheet.claims:
            raise Misuse(f"the sheet of {name} has no claims", f'add one: jovik sheet claim "{name}" "sequential read" 7000MB/s')
        results = shelf.latest_results(drive, ladders=True)
        if not results:
            raise Misuse(f"{name} has not been measured", f'measure it: jovik measure TARGET --drive "{name}"')
        judgements = hold(sheet.claims, results, margin)
        if target is not None and _settle(shelf, sheet, judgements, target):
            results = shelf.latest_results(drive, ladders=True)
            judgements = hold(sheet.claims, results, margin)
    _show(sheet, judgements, disagreements(results), margin, form)
    return 1 if any(j.verdict is Verdict.SHORT for j in judgements) else 0


MOST_SETTLING = 60
"""Passes that settling may take for a claim: what needs more lies on the margin."""


def _settle(shelf: Shelf, sheet: Sheet, judgements: Sequence[Judgement], target: str) -> bool:
    """Measure again what is too close to call; whether there was anything."""
    import secrets

    from jovik.bench import Repeat, Task
    from jovik.cli.running import Order, run_order
    from jovik.phrase import parse
    from jovik.target import resolve

    open_ones = {j.step.phrase: j for j in judgements if j.step is not None and j.verdict == "too close to call"}
    if not open_ones:
        click.echo("nothing is too close to call", err=True)
        return False
    tasks = []
    for phrase, j in open_ones.items():
        count = min(max(j.passes_to_settle or MOST_SETTLING, 5), MOST_SETTLING)
        tasks.append(Task(parse(phrase), Repeat(count, count)))
    order = Order(target=resolve(target), tasks=tuple(tasks), plan="settling", seed=secrets.randbits(40))
    run_order(shelf, sheet, order, "table")
    return True


def _show(sheet: Sheet, judgements: Sequence[Judgement], apart: Sequence[Disagreement], margin: float, form: str) -> None:
    from jovik.cli.output import emit_csv, emit_json, interval_json, table
    from jovik.units import show_rate

    name = sheet.drive.name
    if form == "json":
        emit_json(
            {
                "drive": name,
                "margin": margin,
                "summary": overall(judgements),
                "claims": [judgement_json(j) for j in judgements],
                "disagreements": [
                    {"what": x.what, "one_bytes_s": interval_json(x.one), "two_bytes_s": interval_json(x.two), "reason": x.reason} for x in apart
                ],
            }
        )
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
                *(f"two stories: {x.what}, {show_rate(x.one.median)} and {show_rate(x.two.median)}. Likely: {x.reason}" for x in apart),
                *_several_units(judgements),
                *_kept(sheet),
                f"margin {100 * margin:g} %; rates without the flush at the end; from run {', '.join(runs)}" if runs else "",
            ],
        )


def _several_units(judgements: Sequence[Judgement]) -> list[str]:
    """A word where the figures are of more than one sample."""
    units = sorted({j.step.conditions.unit for j in judgements if j.step is not None and j.step.conditions.unit is not None})
    return [f"look: these are figures of {' and '.join(units)}; jovik judge --units tells them apart"] if len(units) > 1 else []


def _kept(sheet: Sheet) -> list[str]:
    """What the maker says that no test of a day can judge."""
    from jovik.units import show_size

    drive = sheet.drive
    said = [f"endurance {show_size(drive.endurance_bytes)} written"] if drive.endurance_bytes else []
    said += [f"warranty {drive.warranty_years:g} years"] if drive.warranty_years else []
    said += [f"price {drive.price:g} {drive.currency}"] if drive.price else []
    return [f"shown, not judged: {', '.join(said)}"] if said else []


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
    held = counts.pop("held back", 0)
    by = list(dict.fromkeys(j.limit.what for j in judgements if j.limit is not None))
    rest = "".join(f", {n} {verdict}" for verdict, n in counts.items())
    rest += f", {held} held back by the {' and the '.join(by)}" if held else ""
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
        "limit": {"what": j.limit.what, "rate_bytes_s": j.limit.rate_bytes_s} if j.limit else None,
        "passes_to_settle": j.passes_to_settle,
        "phrase": j.step.phrase if j.step else None,
        "run": j.step.run if j.step else None,
    }
