"""`jovik rank`: every drive on the shelf, per step and overall, best first."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from jovik.analysis.rank import DrivePlace, Place, Ranking, StepPlace
    from jovik.sheet import Drive


ORDERS = ("drive", "rig", "price", "money", "endurance", "latency")


@click.command()
@click.option("--yardstick", metavar="DRIVE", help="The drive the index calls 100. Default: the one measured first.")
@click.option(
    "--by",
    default="drive",
    metavar="ORDER",
    show_default=True,
    help="drive (its index), price (for a terabyte), money (index for the money), endurance, latency, rig (with --unit), or a step's phrase.",
)
@click.option("--for", "load_name", metavar="LOAD", help="Weigh the steps as this load does; see jovik fit --loads.")
@click.option("--review", metavar="DRIVE", help="Say the place of this drive in a sentence.")
@click.option("--interface", metavar="TEXT", help="Only drives whose interface has this in it.")
@click.option("--medium", metavar="TEXT", help="Only drives whose medium has this in it.")
@click.option("--capacity", metavar="FROM..TO", help="Only drives of this capacity, such as 900GB..2TB.")
@click.option("--max-price", type=float, metavar="N", help="Only drives that cost no more.")
@click.option("--since", metavar="DATE", help="Only what was measured since, such as 2026-11-01.")
@click.option("--unit", "unit_name", metavar="NAME", help="With --by rig: the unit that was measured on several rigs.")
@click.option("--drive", "drive_name", metavar="NAME", help="With --unit, where several drives have a unit of that name.")
@click.option("--steps/--no-steps", default=True, help="Show the ranking of each step besides the overall one.", show_default=True)
@format_option()
@shelf_option
def rank(
    yardstick: str | None,
    by: str,
    load_name: str | None,
    review: str | None,
    interface: str | None,
    medium: str | None,
    capacity: str | None,
    max_price: float | None,
    since: str | None,
    unit_name: str | None,
    drive_name: str | None,
    steps: bool,
    form: str,
    shelf_at: str | None,
) -> None:
    """Place every drive on the shelf, comparing like with like.

    The index is the geometric mean of a drive's ratios to the yardstick over the steps both have. Drives whose
    difference lies inside the noise share a place.

    \b
    jovik rank --by "random read 4KiB" --interface SATA
    jovik rank --for telescope --max-price 150 --review "Comet 2TB"
    """
    from jovik.analysis.rank import rank as place
    from jovik.analysis.rank import sentence
    from jovik.cli.output import emit_csv, emit_json
    from jovik.errors import Misuse
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    if (by == "rig") != (unit_name is not None):
        raise Misuse("--by rig and --unit go together", "jovik rank --unit 'unit 1' --by rig")
    kind = _kind(by)
    with Shelf(where_from(shelf_at)) as shelf:
        sheets = shelf.drives()
        if unit_name is not None:
            # The rigs take the drives' place: the same unit on each, side by side.
            named = yardstick
            results = [replace(r, drive=r.conditions.rig or "unknown rig") for r in shelf.results_of_unit(unit_name, drive_name)]
        else:
            named = shelf.sheet(yardstick).drive.name if yardstick is not None else None
            # Who asks for one step means it wherever it was measured, in a ladder too.
            results = shelf.latest_results(ladders=kind is not None)
            kept = _filtered(sheets, interface, medium, capacity, max_price)
            results = [r for r in results if r.drive in kept and (since is None or r.started >= _date(since))]
            if (not results and len(kept) < len(sheets)) or (not results and since is not None):
                raise Misuse("no measured drive on this shelf is like that", "jovik sheet list shows what there is; leave a filter out")
        reviewed = shelf.sheet(review).drive.name if review is not None else None
    ranking = place(results, named, _weights(load_name) if load_name is not None else None)
    if kind is not None and kind not in ranking.kinds:
        raise Misuse(f"no drive was measured with '{kind}'", f'measure it: jovik measure TARGET --drive NAME "{kind}"')
    ranking = _ordered(ranking, by, kind, sheets)
    if form == "json":
        emit_json(ranking_json(ranking) | {"by": by, "for": load_name, "sentence": sentence(ranking, reviewed) if reviewed is not None else None})
    elif form == "csv":
        header = ["kind", "place", "drive", "rate_bytes_s", "low", "high", "index", "passes"]
        rows: list[tuple[Any, ...]] = [
            ("overall", str(d.place or ""), d.drive, None, None, None, d.index.median if d.index else None, None) for d in ranking.drives
        ]
        rows += [
            (
                s.kind,
                str(s.place),
                s.drive,
                s.rate_bytes_s.median,
                s.rate_bytes_s.low,
                s.rate_bytes_s.high,
                s.index.median if s.index else None,
                s.passes,
            )
            for kind in ranking.kinds
            for s in of_kind(ranking, kind)
        ]
        emit_csv(header, rows)
    else:
        _tables(ranking, steps and kind is None, by, sheets, load_name)
        if kind is not None:
            _step_table(ranking, [kind], by)
        _foot(ranking, by, load_name)
        if reviewed is not None:
            click.echo(sentence(ranking, reviewed))


def of_kind(ranking: Ranking, kind: str) -> list[StepPlace]:
    """The ranking of one kind of step, best first."""
    return sorted((s for d in ranking.drives for s in d.steps if s.kind == kind), key=lambda s: -s.rate_bytes_s.median)


def _kind(by: str) -> str | None:
    """The kind of step that an order names, or None for one of the other orders."""
    from jovik.errors import Misuse, PhraseError
    from jovik.phrase import parse

    if by in (*ORDERS, "index"):
        return None
    try:
        return parse(by).kind
    except PhraseError as error:
        raise Misuse(f"--by {by}: neither one of {', '.join(ORDERS)} nor a step", error.hint) from None


def _date(text: str) -> str:
    import datetime

    from jovik.errors import Misuse

    try:
        return datetime.date.fromisoformat(text).isoformat()
    except ValueError:
        raise Misuse(f"'{text}' is not a date", "write 2026-11-23") from None


def _filtered(
    sheets: Mapping[str, Drive], interface: str | None, medium: str | None, capacity: str | None, max_price: float | None
) -> set[str]:  # fmt: skip
    """The drives that all filters leave; what a sheet does not say is not like anything."""
    from jovik.errors import Misuse
    from jovik.units import parse_size

    low, high = 0, 2**63
    if capacity is not None:
        one, dots, two = capacity.partition("..")
        try:
            low = parse_size(one)
            high = parse_size(two) if dots else low
        except ValueError as error:
            raise Misuse(f"--capacity {capacity}: {error}", "write 1TB or 900GB..2TB") from None
    kept = set()
    for name, drive in sheets.items():
        good = interface is None or interface.casefold() in drive.interface.casefold()
        good &= medium is None or medium.casefold() in drive.medium.casefold()
        good &= capacity is None or (drive.capacity_bytes is not None and low <= drive.capacity_bytes <= high)
        good &= max_price is None or (drive.price is not None and drive.price <= max_price)
        if good:
            kept.add(name)
    return kept


def _weights(load_name: str) -> Callable[[str], float]:
    """What each kind of step counts for a load: its class's weight; copies and what has no class count nothing."""
    from jovik.load import read_load
    from jovik.phrase import Access, parse

    weights = read_load(load_name).weights

    def weight(kind: str) -> float:
        step = parse(kind)
        if not isinstance(step, Access) or step.rate_bytes_s or step.rate_iops or step.compressible_percent:
            return 0.0
        if step.fresh:
            return weights.get("sustained write", 0.0)
        direction = {100: "read", 0: "write"}.get(step.read_percent)
        return weights.get(f"{'random' if step.random else 'sequential'} {direction}", 0.0) if direction else 0.0

    return weight


def price_for_terabyte(drive: Drive | None) -> float | None:
    """What a terabyte costs."""
    return drive.price / (drive.capacity_bytes / 1e12) if drive is not None and drive.price and drive.capacity_bytes else None


def _money(row: DrivePlace, sheets: Mapping[str, Drive]) -> float | None:
    """Index points for each unit of money."""
    drive = sheets.get(row.drive)
    return row.index.median / drive.price if row.index is not None and drive is not None and drive.price else None


def _ordered(ranking: Ranking, by: str, kind: str | None, sheets: Mapping[str, Drive]) -> Ranking:
    """The drives in another order than by their index; what is not known comes last."""

    def key(row: DrivePlace) -> tuple[bool, float]:
        drive = sheets.get(row.drive)
        value: float | None
        if by == "price":
            value = price_for_terabyte(drive)
        elif by == "money":
            value = -money if (money := _money(row, sheets)) is not None else None
        elif by == "endurance":
            value = -float(drive.endurance_bytes) if drive is not None and drive.endurance_bytes else None
        else:
            wanted = kind or "random read 4KiB"
            value = next((-s.iops.median for s in row.steps if s.kind == wanted), None)
        return (value is None, value or 0.0)

    if by in ("drive", "index", "rig"):
        return ranking
    return replace(ranking, drives=tuple(sorted(ranking.drives, key=key)))


def _tables(ranking: Ranking, with_steps: bool, by: str, sheets: Mapping[str, Drive], load_name: str | None) -> None:
    from jovik.cli.output import interval_words, table
    from jovik.units import show_size, show_time, significant

    rows = []
    for d in ranking.drives:
        drive = sheets.get(d.drive)
        terabyte, money = price_for_terabyte(drive), _money(d, sheets)
        single = next((s for s in d.steps if s.kind == "random read 4KiB"), None)
        rows.append(
            (
                str(d.place or "-"),
                d.drive,
                significant(d.index.median) if d.index else "-",
                "yardstick" if d.drive == ranking.yardstick else interval_words(d.index) if d.index else "shares no step with the yardstick",
                str(len(d.steps)),
                show_time(1e9 / single.iops.median) if single is not None and single.iops.median else "-",
                f"{terabyte:.0f} {drive.currency}" if terabyte is not None and drive is not None else "-",
                f"{money:.1f}" if money is not None else "-",
                show_size(drive.endurance_bytes) if drive is not None and drive.endurance_bytes else "-",
            )
        )
    title = "Overall" if load_name is None else f"Overall, weighed for {load_name}"
    header = [
        "place",
        "rig" if by == "rig" else "drive",
        "index",
        "95 % interval",
        "steps",
        "access time",
        "for a TB",
        "index for money",
        "endurance",
    ]
    # What the order is by stays on a narrow screen; by rig, sheets say nothing.
    spare = [c for c, order in ((8, "endurance"), (7, "money"), (6, "price"), (5, "latency"), (4, "")) if by != order]
    shown = [c for c in range(len(header)) if by != "rig" or c < 6]
    table(
        title, [header[c] for c in shown], [[row[c] for c in shown] for row in rows], right=[c for c in (2, 3, 4, 5, 6, 7, 8) if c in shown],
        spare=[c for c in spare if c in shown],
    )  # fmt: skip
    if with_steps:
        click.echo()
        _step_table(ranking, ranking.kinds, by)


def _step_table(ranking: Ranking, kinds: Sequence[str], by: str) -> None:
    from jovik.analysis.rank import to_the_next
    from jovik.cli.output import interval_words, table
    from jovik.phrase import parse
    from jovik.units import significant

    lines = []
    for kind in kinds:
        placed = of_kind(ranking, kind)
        for number, (s, lead) in enumerate(zip(placed, to_the_next(placed), strict=True)):
            name = parse(kind).label if number == 0 else ""
            ahead = "-" if lead is None else f"{significant(lead.median)} ({interval_words(lead)})" if lead.known else significant(lead.median)
            rate = (significant(s.rate_bytes_s.median / 1e6), interval_words(s.rate_bytes_s, 1e-6))
            lines.append((name, str(s.place), s.drive, *rate, ahead, str(s.passes)))
    header = ["step", "place", "rig" if by == "rig" else "drive", "MB/s", "95 % interval", "times the next", "passes"]
    table("By step", header, lines, right=(3, 4, 5, 6), spare=(6, 5))


def _foot(ranking: Ranking, by: str, load_name: str | None) -> None:
    from jovik.phrase import parse

    what = "rigs" if by == "rig" else "drives"
    notes = [f"index 100 is {ranking.yardstick}; {what} whose difference lies inside the noise share a place"]
    notes += [f"weighed as {load_name} uses a drive; see jovik fit --loads"] if load_name is not None else []
    notes += [f"left out: {x.drive}, {parse(x.kind).label}: {x.why}" for x in ranking.left_out]
    for note in notes:
        click.echo(note)


def ranking_json(ranking: Ranking) -> dict[str, Any]:
    """The ranking as documented; places as ``"2"`` or ``"2-3"``, and as numbers."""
    return {
        "yardstick": ranking.yardstick,
        "drives": [_drive_json(d) for d in ranking.drives],
        "left_out": [{"drive": x.drive, "kind": x.kind, "why": x.why} for x in ranking.left_out],
    }


def _place_json(place: Place | None) -> dict[str, Any]:
    return {"place": str(place) if place else None, "place_first": place.first if place else None, "place_last": place.last if place else None}


def _drive_json(d: DrivePlace) -> dict[str, Any]:
    from jovik.cli.output import interval_json

    return {
        "drive": d.drive,
        **_place_json(d.place),
        "index": interval_json(d.index) if d.index else None,
        "steps": [
            {
                "kind": s.kind,
                "phrase": s.result.phrase,
                **_place_json(s.place),
                "rate_bytes_s": interval_json(s.rate_bytes_s),
                "iops": interval_json(s.iops),
                "index": interval_json(s.index) if s.index else None,
                "passes": s.passes,
                "run": s.result.run,
            }
            for s in d.steps
        ],
    }
