"""`jovik note`: notes of an instrument, a stopwatch or the reviewer."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.completion import drives, run_names
from jovik.cli.handled_by import handled_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.argument("drive", shell_complete=drives)
@click.option(
    "--reading",
    "texts",
    multiple=True,
    metavar="NAME=VALUE",
    help="A value measured by other means, such as 'boot time=8.1s'. Repeatable.",
)
@click.option(
    "--method",
    default="",
    help="How it was measured. Only readings by the same method are compared.",
)
@click.option(
    "--instrument", default="", help="The instrument: stopwatch, noise meter, another tester."
)
@click.option(
    "--csv",
    "source",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="Readings from a file: what,value,unit,method,instrument.",
)
@click.option(
    "--log",
    "log_file",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="An instrument's log during --run: a table of times and values.",
)
@click.option("--quantity", metavar="NAME", help="The quantity of --log, such as 'noise level'.")
@click.option("--unit", metavar="UNIT", help="The unit of --log: dB(A), W, C, V, A.")
@click.option(
    "--shift", metavar="TIME", help="Shift the times of --log by this much, such as 2.5s or -1h."
)
@click.option(
    "--fit-clock",
    is_flag=True,
    help="Move and stretch the times of --log, so that it rises and falls with the run.",
)
@click.option(
    "--boot",
    is_flag=True,
    help="Note the time of this machine's last boot, as systemd reports it.",
)
@click.option("--pro", multiple=True, metavar="TEXT", help="An advantage.")
@click.option("--con", multiple=True, metavar="TEXT", help="A disadvantage.")
@click.option("--remark", multiple=True, metavar="TEXT", help="Any other remark.")
@click.option(
    "--run",
    "run_name",
    metavar="RUN",
    shell_complete=run_names,
    help="The run that pros, cons and remarks refer to; 'last' is the latest.",
)
@click.option(
    "--date", metavar="DATE", help="The date of the event: 2026-11-23, or 2026-11-23T14:05."
)
@click.option(
    "--list", "listing", is_flag=True, help="List all notes and readings with their numbers."
)
@click.option(
    "--remove", "number", type=click.IntRange(1), help="Remove the note with this number in --list."
)
@format_option("markdown")
@shelf_option
@handled_by("note:note")
def note() -> None:
    """Enter readings, pros and cons of DRIVE, or show those there are.

    Jovik compares a reading named like a step (random read 4KiB depth 32=91,000 IOPS) with its own
    result.

    \b
    jovik note "Comet 2TB" --reading "boot time=8.1s" --method "stopwatch, to the desktop"
    jovik note "Comet 2TB" --pro "silent" --con "no heat sink in the box"
    jovik note "Comet 2TB" --remark "vanished after 2 h" --run last --date 2026-11-23
    jovik note "Comet 2TB" --log noise.csv --run last --quantity "noise level" --unit "dB(A)"
    jovik note "Comet 2TB" --boot
    jovik note "Comet 2TB" --remove 3
    """
