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
)


@click.command()
@click.argument(
    "words", nargs=-1, shell_complete=targets_and_phrases, metavar="TARGET... [PHRASE]..."
)
@click.option(
    "--every-drive",
    is_flag=True,
    help="Measure every drive here that is mounted, each through a folder on it.",
)
@click.option(
    "--together",
    is_flag=True,
    help="Measure each target alone, then all at the same moment, and say what they share.",
)
@click.option(
    "--drive",
    "name",
    metavar="NAME",
    shell_complete=drives,
    help="The drive on the shelf that this is. Default: the one that its identity leads to; a new "
    "one is enrolled.",
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
    help="Passes of each step. Default: what the plan says; 5 for phrases.",
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
    help="Time for all steps together, such as 5min; the plan is trimmed to it.",
)
@click.option(
    "--engine",
    type=click.Choice(["auto", "io_uring", "blocking"]),
    default="auto",
    show_default=True,
    help="How I/O is done.",
)
@click.option(
    "--on-error",
    type=click.Choice(["stop", "continue"]),
    default="stop",
    show_default=True,
    help="At an I/O error.",
)
@click.option(
    "--seed",
    type=click.IntRange(0, 2**62),
    help="Of offsets and payload; the same seed does the same I/O.",
)
@click.option(
    "--unit",
    "unit_name",
    metavar="NAME",
    help="A name for this sample of the drive. Default: unit 1, unit 2 ... by serial.",
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
    help="What should be known of the rig: cable, enclosure, port.",
)
@click.option(
    "--keep-serial",
    is_flag=True,
    help="Keep the unit's serial on the shelf in full, not only its digest.",
)
@destroy_options
@click.option(
    "--ask-above",
    type=UnitParam("SHARE", percent),
    default="1%",
    show_default=True,
    help="Ask before writing more of the endurance rating.",
)
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--passes-table", "each_pass", is_flag=True, help="Show each pass of each step, too.")
@click.option("--dry-run", is_flag=True, help="Say what would be done, and write nothing.")
@format_option()
@shelf_option
@handled_by("measure:measure")
def measure() -> None:
    """Measure TARGET, a folder on the drive or a model drive (model:NAME), step by step.

    A PHRASE is one step, or a ladder of steps where a number is a list or a range. Each finished
    pass is on the shelf before the next begins; no test file is left behind. Of several targets
    each has a run of its own, one after another, and they are ranked at the end.

    \b
    jovik measure .
    jovik measure /mnt/new --drive "Comet 2TB"
    jovik measure . --drive "Comet 2TB" "random read 4KiB depth 1..64 for 3s" --passes 7
    jovik measure /mnt/new --drive "Comet 2TB" --plan full-review --budget 30min
    jovik measure model:comet model:slate model:drift --plan quick-compare
    jovik measure --every-drive --plan quick-compare
    """
