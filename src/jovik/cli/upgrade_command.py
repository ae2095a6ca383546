"""`jovik upgrade`: the drive there is against those that could replace it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from jovik.cli.options import Converted, format_option, shelf_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from jovik.analysis.upgrade import Upgrade
    from jovik.reading import Reading
    from jovik.sheet import Drive


def _rate(text: str) -> float:
    from jovik.units import parse_rate

    value, unit = parse_rate(text)
    if unit != "bytes/s" or value <= 0:
        raise ValueError(f"'{text}' is not a rate; write 1000MB/s")
    return value


@click.command()
@click.argument("old")
@click.argument("new", nargs=-1, required=True)
@click.option("--link", type=Converted("RATE", _rate), help="What the link that the new drive will hang on carries, such as 550MB/s.")
@click.option("--instead-of", "machine_price", type=click.FloatRange(min=0, min_open=True), help="What replacing the whole machine would cost.")
@click.option("--brief", is_flag=True, help="One page for a client: jobs, price and the conclusion.")
@format_option()
@shelf_option
def upgrade(old: str, new: tuple[str, ...], link: float | None, machine_price: float | None, brief: bool, form: str, shelf_at: str | None) -> int:
    """Say what changing from OLD to each NEW drive would bring.

    \b
    jovik upgrade "Slate 1TB" "Comet 2TB"
    jovik upgrade "Slate 1TB" "Comet 2TB" "Drift 1TB" --link 1900MB/s
    jovik upgrade "Slate 1TB" "Comet 2TB" --instead-of 900 --brief
    """
    from jovik.analysis.upgrade import compare
    from jovik.cli.output import emit_json
    from jovik.errors import Misuse
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    with Shelf(where_from(shelf_at)) as shelf:
        before = shelf.sheet(old).drive
        found = []
        old_results = shelf.latest_results(before.name)
        if not old_results:
            raise Misuse(f"{before.name} has not been measured", f'measure it: jovik measure TARGET --drive "{before.name}"')
        for name in new:
            after = shelf.sheet(name).drive
            if after.name == before.name:
                raise Misuse(f"{after.name} cannot replace itself", "name another drive; see jovik sheet list")
            results = shelf.latest_results(after.name)
            if not results:
                raise Misuse(f"{after.name} has not been measured", f'measure it: jovik measure TARGET --drive "{after.name}"')
            found.append((after, compare(before.name, after.name, old_results, results, link_bytes_s=link, new_price=after.price)))
        readings = shelf.readings()
    if form == "json":
        emit_json({"old": before.name, "link_bytes_s": link, "upgrades": [upgrade_json(u) for _, u in found]})
    elif form == "csv":
        _csv([u for _, u in found])
    else:
        for after, one in found:
            _show(before, after, one, readings, link, machine_price, brief)
    return 0


def upgrade_json(u: Upgrade) -> dict[str, Any]:
    """One comparison as documented."""
    from jovik.cli.output import interval_json

    return {
        "new": u.new,
        "overall": interval_json(u.overall) if u.overall else None,
        "steps": [
            {"kind": s.kind, "old_bytes_s": interval_json(s.old), "new_bytes_s": interval_json(s.new), "times": interval_json(s.times),
             "times_on_link": s.times_on_link, "verdict": s.verdict} for s in u.steps
        ],
        "jobs": [
            {"job": j.job.name, "rule": j.job.rule, "computed": True, "old_s": j.old_s, "new_s": j.new_s, "missing": j.missing or None}
            for j in u.jobs
        ],
        "price_for_halving": u.price_for_halving,
        "conclusion": u.conclusion,
    }  # fmt: skip


def _csv(found: Sequence[Upgrade]) -> None:
    from jovik.cli.output import emit_csv

    rows = [(u.old, u.new, s.kind, s.old.median, s.new.median, s.times.median, s.times.low, s.times.high, s.verdict) for u in found for s in u.steps]
    emit_csv(["old", "new", "kind", "old_bytes_s", "new_bytes_s", "times", "low", "high", "verdict"], rows)


def _show(
    before: Drive, after: Drive, u: Upgrade, readings: Sequence[Reading], link: float | None, machine_price: float | None, brief: bool
) -> None:  # fmt: skip
    from jovik.cli.output import interval_words, table
    from jovik.phrase import parse
    from jovik.units import show_rate, significant

    title = f"{before.name} to {after.name}"
    if not brief and u.steps:
        rows = [
            (
                parse(s.kind).label,
                significant(s.old.median / 1e6),
                significant(s.new.median / 1e6),
                f"{significant(s.times.median)}",
                interval_words(s.times),
                "-" if s.times_on_link is None else significant(s.times_on_link),
                s.verdict,
            )
            for s in u.steps
        ]
        overall = f"overall {significant(u.overall.median)} times ({interval_words(u.overall)}), the geometric mean" if u.overall else ""
        at_link = [f"on link: with what a link of {show_rate(link)} leaves"] if link is not None else []
        table(
            title, ["step", "MB/s old", "MB/s new", "times", "95 % interval", "on link", ""], rows, right=(1, 2, 3, 4, 5), spare=(5,),
            notes=[overall, *at_link],
        )  # fmt: skip
    known = [j for j in u.jobs if j.old_s is not None and j.new_s is not None]
    jobs = [(j.job.name, _seconds(j.old_s), _seconds(j.new_s), _change(j.old_s, j.new_s)) for j in known]
    jobs += [(r.what, r.shown, s.shown, _change(r.value, s.value)) for r, s in _both(readings, before.name, after.name)]
    notes = [] if brief else [f"computed: {j.job.name}: {j.job.rule}" for j in known]
    notes += [f'{j.job.name}: not known without "{j.missing}" on both' for j in u.jobs if j.missing]
    if jobs:
        notes.insert(0, "jobs are computed from measured steps; what was read by hand is below them")
        table("Everyday jobs", ["job", before.name, after.name, "time"], jobs, right=(1, 2, 3), notes=notes)
    else:
        for line in notes:
            click.echo(line)
    for line in _money(after, u, machine_price):
        click.echo(line)
    click.echo(f"{after.name}: {u.conclusion}")


def _money(after: Drive, u: Upgrade, machine_price: float | None) -> list[str]:
    lines = []
    if u.price_for_halving is not None:
        lines.append(f"price: {after.price:g} {after.currency}, {u.price_for_halving:.0f} {after.currency} for each halving of time")
    if machine_price is not None and after.price:
        lines.append(
            f"against replacing the whole machine ({machine_price:g} {after.currency}): {100 * after.price / machine_price:.0f} % of its price"
        )
    return lines


def _both(readings: Sequence[Reading], old: str, new: str) -> list[tuple[Reading, Reading]]:
    """Readings of the same quantity by the same method on both."""
    mine = [r for r in readings if r.drive == old]
    return [(r, s) for r in mine for s in readings if s.drive == new and s.comparable(r)]


def _seconds(value: float | None) -> str:
    from jovik.units import show_time

    return "-" if value is None else show_time(value * 1e9)


def _change(old: float | None, new: float | None) -> str:
    """By how much longer or shorter it takes."""
    return f"{100 * (new / old - 1):+.0f} %" if old and new is not None else "-"
