"""`jovik measure`: from a target and phrases to passes on the shelf and a table."""

from __future__ import annotations

import click

from jovik.base.quantities import parse_time
from jovik.cli.completion import drives, plans, targets_and_phrases
from jovik.cli.handled_by import handled_by
from jovik.cli.options import (
    UnitParam,
    count_range,
    destroy_options,
    format_option,
    percent,
    share,
    shelf_option,
    unattended_options,
)


@click.command()
@click.argument(
    "words", nargs=-1, shell_complete=targets_and_phrases, metavar="TARGET... [PHRASE]..."
)
@click.option(
    "--every-drive",
    is_flag=True,
    help="Measure every mounted drive, each through a folder on it.",
)
@click.option(
    "--together",
    is_flag=True,
    help="Measure each target alone, then all at once, and report what they share.",
)
@click.option(
    "--drive",
    "name",
    metavar="NAME",
    shell_complete=drives,
    help="Name of this drive on the shelf. Default: matched by serial number or model. An unknown "
    "drive is added.",
)
@click.option(
    "--plan",
    metavar="NAME",
    shell_complete=plans,
    help="A plan, or the path of its .toml file. Default, without phrases: first-look.",
)
@click.option(
    "--passes",
    type=UnitParam("N or A..B", count_range),
    help="Passes of each step. Default: as in the plan; 5 for phrases.",
)
@click.option(
    "--precision",
    type=UnitParam("SHARE", share),
    help="Stop repeating once the interval is this narrow, such as 2%.",
)
@click.option(
    "--budget",
    "budget_ns",
    type=UnitParam("TIME", parse_time),
    help="Time for all steps together, such as 5min. Jovik trims the plan to fit.",
)
@click.option(
    "--engine",
    type=click.Choice(["auto", "io_uring", "blocking"]),
    default="auto",
    show_default=True,
    help="The I/O engine.",
)
@click.option(
    "--on-error",
    type=click.Choice(["stop", "continue"]),
    default="stop",
    show_default=True,
    help="What to do if an I/O fails.",
)
@click.option(
    "--rest/--no-rest",
    default=True,
    show_default=True,
    help="Let the write cache recover before a write that would find it partly full.",
)
@click.option(
    "--seed",
    type=click.IntRange(0, 2**62),
    help="Seed for offsets and data. The same seed repeats the same I/O.",
)
@click.option(
    "--sample",
    "sample_name",
    metavar="NAME",
    help="A name for this sample of the drive. Default: sample 1, sample 2 ... by serial.",
)
@click.option(
    "--rig",
    "rig_name",
    metavar="NAME",
    help="A name for this machine, port and cable. Default: the machine's.",
)
@click.option(
    "--rig-notes",
    default="",
    metavar="TEXT",
    help="Notes on the rig: cable, enclosure, port.",
)
@click.option(
    "--keep-serial",
    is_flag=True,
    help="Store the full serial number, not only its digest.",
)
@destroy_options
@click.option(
    "--ask-above",
    type=UnitParam("SHARE", percent),
    default="1%",
    show_default=True,
    help="Ask before writing more than this fraction of the endurance rating.",
)
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option(
    "--passes-table",
    "each_pass",
    is_flag=True,
    help="Also show each pass, and their spread.",
)
@click.option("--dry-run", is_flag=True, help="Report what would be done without writing anything.")
@unattended_options
@format_option()
@shelf_option
@handled_by("measure:measure")
def measure() -> None:
    """Measure TARGET: a folder on the drive, a raw device, or a model drive (model:NAME).

    A PHRASE is one step, or a ladder of steps if a number in it is a list or a range. Jovik stores
    each finished pass before the next begins, and leaves no test file behind. Several targets are
    measured one after another, each in its own run, and ranked at the end.

    \b
    jovik measure .
    jovik measure /mnt/new --drive "Comet 2TB"
    jovik measure . --drive "Comet 2TB" "random read 4KiB depth 1..64 for 3s" --passes 7
    jovik measure /mnt/new --drive "Comet 2TB" --plan full-review --budget 30min
    jovik measure model:comet model:slate model:drift --plan quick-compare
    jovik measure --every-drive --plan quick-compare
    """
