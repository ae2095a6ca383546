"""`jovik rank`: every drive on the shelf, per step and overall, best first."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    from jovik.analysis.rank import DrivePlace, Place, Ranking, StepPlace


@click.command()
@click.option("--yardstick", metavar="DRIVE", help="The drive the index calls 100. Default: the one measured first.")
@click.option("--by", type=click.Choice(["drive", "rig"]), default="drive", show_default=True, help="What is placed; by rig, say whose with --unit.")
@click.option("--unit", "unit_name", metavar="NAME", help="With --by rig: the unit that was measured on several rigs.")
@click.option("--drive", "drive_name", metavar="NAME", help="With --unit, where several drives have a unit of that name.")
@click.option("--steps/--no-steps", default=True, help="Show the ranking of each step besides the overall one.", show_default=True)
@format_option()
@shelf_option
def rank(yardstick: str | None, by: str, unit_name: str | None, drive_name: str | None, steps: bool, form: str, shelf_at: str | None) -> None:
    """Place every drive on the shelf, comparing like with like.

    The index is the geometric mean of a drive's ratios to the yardstick over the steps both have. Drives whose
    difference lies inside the noise share a place.
    """
    from jovik.analysis.rank import rank as place
    from jovik.cli.output import emit_csv, emit_json
    from jovik.errors import Misuse
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    if (by == "rig") != (unit_name is not None):
        raise Misuse("--by rig and --unit go together", "jovik rank --unit 'unit 1' --by rig")
    with Shelf(where_from(shelf_at)) as shelf:
        if unit_name is not None:
            # The rigs take the drives' place: the same unit on each, side by side.
            named = yardstick
            results = [replace(r, drive=r.conditions.rig or "unknown rig") for r in shelf.results_of_unit(unit_name, drive_name)]
        else:
            named = shelf.sheet(yardstick).drive.name if yardstick is not None else None
            results = shelf.latest_results()
    ranking = place(results, named)
    if form == "json":
        emit_json(ranking_json(ranking))
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
        _tables(ranking, steps, by)


def of_kind(ranking: Ranking, kind: str) -> list[StepPlace]:
    """The ranking of one kind of step, best first."""
    return sorted((s for d in ranking.drives for s in d.steps if s.kind == kind), key=lambda s: -s.rate_bytes_s.median)


def _tables(ranking: Ranking, with_steps: bool, by: str) -> None:
    from jovik.cli.output import interval_words, table
    from jovik.phrase import parse
    from jovik.units import significant

    rows = [
        (
            str(d.place or "-"),
            d.drive,
            significant(d.index.median) if d.index else "-",
            "yardstick" if d.drive == ranking.yardstick else interval_words(d.index) if d.index else "shares no step with the yardstick",
            str(len(d.steps)),
        )
        for d in ranking.drives
    ]
    table("Overall", ["place", by, "index", "95 % interval", "steps"], rows, right=(2, 3, 4))
    if with_steps:
        lines = []
        for kind in ranking.kinds:
            for number, s in enumerate(of_kind(ranking, kind)):
                name = parse(kind).label if number == 0 else ""
                lines.append(
                    (name, str(s.place), s.drive, significant(s.rate_bytes_s.median / 1e6), interval_words(s.rate_bytes_s, 1e-6), str(s.passes))
                )
        click.echo()
        table("By step", ["step", "place", by, "MB/s", "95 % interval", "passes"], lines, right=(3, 4, 5), spare=(5,))
    notes = [f"index 100 is {ranking.yardstick}; {by}s whose difference lies inside the noise share a place"]
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
