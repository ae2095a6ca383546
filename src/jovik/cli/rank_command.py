"""`jovik rank`: every drive on the shelf, per step and overall, best first."""

from __future__ import annotations

import click

from jovik.cli.completion import drives, loads_and_recordings, orders, yardsticks
from jovik.cli.handled_by import handled_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.option(
    "--yardstick",
    metavar="DRIVE",
    shell_complete=yardsticks,
    help="The drive that the index calls 100, or class:NAME for what is usual for a class. "
    "Default: the one measured first.",
)
@click.option(
    "--by",
    default="drive",
    metavar="ORDER",
    shell_complete=orders,
    show_default=True,
    help="drive (its index), price (for a terabyte), money (index for the money), "
    "endurance, latency, efficiency (moved for a joule), rig or firmware (with --unit), or a "
    "step's phrase.",
)
@click.option(
    "--for",
    "load",
    metavar="LOAD",
    shell_complete=loads_and_recordings,
    help="Weigh the steps as this load does (see jovik fit --loads), or rank by how long this "
    "recorded program takes (see jovik record list).",
)
@click.option(
    "--review",
    metavar="DRIVE",
    shell_complete=drives,
    help="Say the place of this drive in a sentence.",
)
@click.option("--interface", metavar="TEXT", help="Only drives whose interface has this in it.")
@click.option("--medium", metavar="TEXT", help="Only drives whose medium has this in it.")
@click.option(
    "--capacity", metavar="FROM..TO", help="Only drives of this capacity, such as 900GB..2TB."
)
@click.option("--max-price", type=float, metavar="N", help="Only drives that cost no more.")
@click.option("--since", metavar="DATE", help="Only what was measured since, such as 2026-11-01.")
@click.option(
    "--unit",
    "sample",
    metavar="NAME",
    help="With --by rig or firmware: the unit that was measured on several.",
)
@click.option(
    "--drive",
    "drive",
    metavar="NAME",
    shell_complete=drives,
    help="With --unit, where several drives have a unit of that name.",
)
@click.option(
    "--steady", is_flag=True, help="Rank by the steady state; never mixed with anything else."
)
@click.option(
    "--steps/--no-steps",
    default=True,
    help="Show the ranking of each step besides the overall one.",
    show_default=True,
)
@format_option("markdown")
@shelf_option
@handled_by("rank:rank")
def rank() -> None:
    """Place every drive on the shelf, comparing like with like.

    The index is the geometric mean of a drive's ratios to the yardstick over the steps both have.
    Drives whose difference lies inside the noise share a place.

    \b
    jovik rank --by "random read 4KiB" --interface SATA
    jovik rank --for telescope --max-price 150 --review "Comet 2TB"
    jovik rank --for editor-start
    """
