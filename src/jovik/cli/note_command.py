"""`jovik note`: what an instrument, a stopwatch or the reviewer says of a drive."""

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
@click.option(
    "--log",
    "log_file",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="What an instrument logged beside --run: a table of times and values.",
)
@click.option("--quantity", metavar="NAME", help="What --log is of, such as 'noise level'.")
@click.option("--unit", metavar="UNIT", help="Of --log: dB(A), W, C, V, A.")
@click.option("--shift", metavar="TIME", help="Added to the times of --log, such as 2.5s or -1h.")
@click.option(
    "--boot",
    is_flag=True,
    help="Note how long this machine's last boot took, by what systemd says.",
)
@click.option("--pro", multiple=True, metavar="TEXT", help="What speaks for it.")
@click.option("--con", multiple=True, metavar="TEXT", help="What speaks against it.")
@click.option("--remark", multiple=True, metavar="TEXT", help="Anything else.")
@click.option(
    "--run",
    "run_name",
    metavar="RUN",
    shell_complete=run_names,
    help="The run that pros, cons and remarks are about; 'last' is the one begun last.",
)
@click.option("--date", metavar="DATE", help="When it happened: 2026-11-23, or 2026-11-23T14:05.")
@click.option("--list", "listing", is_flag=True, help="List all that is noted, with numbers.")
@click.option(
    "--remove", "number", type=click.IntRange(1), help="Remove the note of this number of --list."
)
@format_option()
@shelf_option
@handled_by("note:note")
def note() -> None:
    """Note readings, pros and cons of DRIVE; without any, show what is noted.

    A reading named like a step (random read 4KiB depth 32=91,000 IOPS) is laid beside what Jovik
    measured.

    \b
    jovik note "Comet 2TB" --reading "boot time=8.1s" --method "stopwatch, to the desktop"
    jovik note "Comet 2TB" --pro "silent" --con "no heat sink in the box"
    jovik note "Comet 2TB" --remark "vanished after 2 h" --run last --date 2026-11-23
    jovik note "Comet 2TB" --log noise.csv --run last --quantity "noise level" --unit "dB(A)"
    jovik note "Comet 2TB" --boot
    jovik note "Comet 2TB" --remove 3
    """
