"""`jovik note`: what an instrument, a stopwatch or the reviewer says of a drive."""

from __future__ import annotations

import statistics
from pathlib import Path
from typing import TYPE_CHECKING

import click

from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from jovik.reading import Note, Reading
    from jovik.results import StepResult


@click.command()
@click.argument("drive")
@click.option(
    "--reading", "texts", multiple=True, metavar="NAME=VALUE", help="A figure taken by other means, such as 'boot time=8.1s'. Repeat it at will."
)
@click.option("--method", default="", help="How it was taken; readings are compared where the method is the same.")
@click.option("--instrument", default="", help="With what: stopwatch, noise meter, another tester.")
@click.option(
    "--csv", "source", type=click.Path(exists=True, dir_okay=False, path_type=Path), help="Readings from a file: what,value,unit,method,instrument."
)
@click.option("--pro", multiple=True, metavar="TEXT", help="What speaks for it.")
@click.option("--con", multiple=True, metavar="TEXT", help="What speaks against it.")
@click.option("--remark", multiple=True, metavar="TEXT", help="Anything else.")
@format_option()
@shelf_option
def note(
    drive: str,
    texts: tuple[str, ...],
    method: str,
    instrument: str,
    source: Path | None,
    pro: tuple[str, ...],
    con: tuple[str, ...],
    remark: tuple[str, ...],
    form: str,
    shelf_at: str | None,
) -> int:
    """Note readings, pros and cons of DRIVE; without any, show what is noted.

    A reading named like a step (random read 4KiB depth 32=91,000 IOPS) is laid beside what Jovik measured.

    \b
    jovik note "Comet 2TB" --reading "boot time=8.1s" --method "stopwatch, from the switch to the desktop"
    jovik note "Comet 2TB" --pro "silent" --con "no heat sink in the box"
    """
    from jovik.errors import Misuse
    from jovik.reading import Note, parse_reading, read_csv
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    readings = [parse_reading(t, method, instrument) for t in texts]
    if source is not None:
        try:
            readings += read_csv(source.read_text(encoding="utf-8-sig"), str(source))
        except (OSError, UnicodeDecodeError) as error:
            raise Misuse(f"{source} cannot be read: {error}") from None
    notes = [Note(sort, t) for sort, said in (("pro", pro), ("con", con), ("remark", remark)) for t in said if t.strip()]
    with Shelf(where_from(shelf_at)) as shelf:
        name = shelf.sheet(drive).drive.name
        if notes or readings:
            shelf.note(name, notes, readings)
        _show(name, shelf.notes(name), shelf.readings(), shelf.latest_results(name, ladders=True), form)
    return 0


def _show(name: str, notes: Sequence[Note], readings: Sequence[Reading], results: Sequence[StepResult], form: str) -> None:
    from jovik.cli.output import emit_csv, emit_json, table

    mine = [r for r in readings if r.drive == name]
    rows = [(r, *_beside(r, readings, results)) for r in mine]
    if form == "json":
        emit_json(
            {
                "drive": name,
                "notes": [{"sort": n.sort, "text": n.text, "written": n.written} for n in notes],
                "readings": [
                    {"what": r.what, "value": r.value, "unit": r.unit, "method": r.method, "instrument": r.instrument, "place": place,
                     "of": of, "measured": measured, "written": r.written} for r, place, of, measured in rows
                ],
            }
        )  # fmt: skip
    elif form == "csv":
        emit_csv(["what", "value", "unit", "method", "instrument"], [(r.what, r.value, r.unit, r.method, r.instrument) for r in mine])
    else:
        if mine:
            lines = [
                (
                    r.what,
                    r.shown,
                    f"{place} of {of}" if of > 1 else "-",
                    f"{100 * (r.value / measured - 1):+.1f} %" if measured else "-",
                    ", ".join(x for x in (r.instrument, r.method) if x),
                )
                for r, place, of, measured in rows
            ]
            said = ["place: among readings of the same method; against Jovik: how far it lies from what Jovik measured"]
            table(f"{name}: readings", ["reading", "value", "place", "against Jovik", "how"], lines, right=(1,), notes=said)
        for sort, mark in (("pro", "+"), ("con", "-"), ("remark", " ")):
            for n in notes:
                if n.sort == sort:
                    click.echo(f"{mark} {_plain(n.text)}")
        if not mine and not notes:
            click.echo(f'nothing is noted of {name}; note something: jovik note "{name}" --pro "..." --reading "boot time=8.1s"')


def _beside(one: Reading, every: Sequence[Reading], results: Sequence[StepResult]) -> tuple[int, int, float | None]:
    """Its place among comparable readings, how many there are, and what Jovik measured of the same quantity in the same unit."""
    same = [r.value for r in every if r.comparable(one)]
    place = 1 + sum(v < one.value if one.lower_is_better else v > one.value for v in same)
    measured = None
    result = next((r for r in results if r.kind == one.phrase), None)
    if result is not None and one.unit in ("bytes/s", "IOPS"):
        measured = statistics.median(p.iops if one.unit == "IOPS" else p.rate_bytes_s for p in result.passes)
    return place, len(same), measured


def _plain(text: str) -> str:
    from jovik.cli.output import plain

    return plain(text)
