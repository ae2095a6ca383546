"""`jovik rank`: every drive on the shelf, per step and overall, best first."""

from __future__ import annotations

import click

from jovik.cli.completion import drives, loads_and_recordings, orders, yardsticks
from jovik.cli.handled_by import answered_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.option(
    "--yardstick",
    metavar="DRIVE",
    shell_complete=yardsticks,
    help="The drive with an index of 100, or class:NAME for a class of drives. "
    "Default: the one measured first.",
)
@click.option(
    "--by",
    default="drive",
    metavar="ORDER",
    shell_complete=orders,
    show_default=True,
    help="drive (index), price (per terabyte), money (index per price), "
    "endurance, latency, efficiency (data per joule), rig or firmware (with --sample), or a "
    "step's phrase.",
)
@click.option(
    "--load",
    "load",
    metavar="LOAD",
    shell_complete=loads_and_recordings,
    help="Weight the steps for this load (see jovik fit --loads), or rank by the time that this "
    "recorded program takes (see jovik record list).",
)
@click.option(
    "--review",
    metavar="DRIVE",
    shell_complete=drives,
    help="Describe this drive's place in a sentence.",
)
@click.option("--interface", metavar="TEXT", help="Only drives whose interface contains this text.")
@click.option("--medium", metavar="TEXT", help="Only drives whose medium contains this text.")
@click.option(
    "--capacity",
    metavar="FROM..TO",
    help="Only drives with a capacity in this range, such as 900GB..2TB.",
)
@click.option("--max-price", type=float, metavar="N", help="Only drives up to this price.")
@click.option("--since", metavar="DATE", help="Only results since this date, such as 2026-11-01.")
@click.option(
    "--sample",
    "sample",
    metavar="NAME",
    help="With --by rig or firmware: the sample that was measured on several.",
)
@click.option(
    "--drive",
    "drive",
    metavar="NAME",
    shell_complete=drives,
    help="With --sample: its drive, if several drives have a sample of that name.",
)
@click.option(
    "--steady", is_flag=True, help="Rank steady-state results, which are never mixed with others."
)
@click.option(
    "--steps/--no-steps",
    default=True,
    help="Also show the ranking of each step.",
    show_default=True,
)
@format_option("markdown")
@shelf_option
@answered_by("rank:rank")
def rank() -> None:
    """Rank every drive on the shelf, comparing like with like.

    The index is the geometric mean of a drive's ratios to the yardstick over the steps both have.
    Drives whose difference is within the noise share a place.

    \b
    jovik rank --by "random read 4KiB" --interface SATA
    jovik rank --load telescope --max-price 150 --review "Comet 2TB"
    jovik rank --load editor-start
    """
