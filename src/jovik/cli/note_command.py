"""`jovik note`: what an instrument, a stopwatch or the reviewer says of a drive."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jovik.cli.completion import drives
from jovik.cli.echo import echo
from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    from jovik.queries.readings import Noted


@click.command()
@click.argument("drive", shell_complete=drives)
@click.option(
    "--reading",
    "texts",
    multiple=True,
    metavar="NAME=VALUE",
    help="A figure taken by other means, such as 'boot time=8.1s'. Repeat it at will.",
)
@click.option(
    "--method",
    default="",
    help="How it was taken; readings are compared where the method is the same.",
)
@click.option("--instrument", default="", help="With what: stopwatch, noise meter, another tester.")
@click.option(
    "--csv",
    "source",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="Readings from a file: what,value,unit,method,instrument.",
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

    A reading named like a step (random read 4KiB depth 32=91,000 IOPS) is laid beside what Jovik
    measured.

    \b
    jovik note "Comet 2TB" --reading "boot time=8.1s" --method "stopwatch, to the desktop"
    jovik note "Comet 2TB" --pro "silent" --con "no heat sink in the box"
    """
    from jovik.base.text_files import read_text
    from jovik.queries.readings import noted
    from jovik.sheets.reading import Note, parse_reading, read_csv
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    readings = [parse_reading(t, method, instrument) for t in texts]
    if source is not None:
        readings += read_csv(read_text(source), str(source))
    notes = [
        Note(sort, t)
        for sort, said in (("pro", pro), ("con", con), ("remark", remark))
        for t in said
        if t.strip()
    ]
    with Shelf(where_from(shelf_at)) as shelf:
        name = shelf.sheet(drive).drive.name
        if notes or readings:
            shelf.note(name, notes, readings)
        _show(noted(shelf, name), form)
    return 0


def _show(found: Noted, form: str) -> None:
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.tables.readings import readings_table

    mine = [r for b in found.readings for r in b.each]
    if form == "json":
        emit_json(
            {
                "drive": found.drive,
                "notes": [
                    {"sort": n.sort, "text": n.text, "written": n.written} for n in found.notes
                ],
                "readings": [
                    {
                        "what": r.what,
                        "value": r.value,
                        "unit": r.unit,
                        "method": r.method,
                        "instrument": r.instrument,
                        "place": b.place,
                        "of": b.of,
                        "measured": b.measured,
                        "median": b.value.median,
                        "low": b.value.low,
                        "high": b.value.high,
                        "count": len(b.each),
                        "written": r.written,
                    }
                    for b in found.readings
                    for r in b.each
                ],
            }
        )
    elif form == "csv":
        emit_csv(
            ["what", "value", "unit", "method", "instrument"],
            [(r.what, r.value, r.unit, r.method, r.instrument) for r in mine],
        )
    else:
        if mine:
            show_table(readings_table(found))
        for sort, mark in (("pro", "+"), ("con", "-"), ("remark", " ")):
            for n in found.notes:
                if n.sort == sort:
                    echo(f"{mark} {n.text}")
        if not mine and not found.notes:
            echo(
                f'nothing is noted of {found.drive}; note something: jovik note "{found.drive}" '
                '--pro "..." --reading "boot time=8.1s"'
            )
