"""`jovik runs`: what was measured, and the same figures again."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.completion import drives, run_names
from jovik.cli.handled_by import handled_by
from jovik.cli.naming_group import BareMemberGroup
from jovik.cli.options import format_option, shelf_option


class ListFirst(BareMemberGroup):
    """A group whose bare form, with or without a drive, is its member `list`."""

    bare = "list"


@click.group(cls=ListFirst, name="runs")
def runs() -> None:
    """List what was measured, newest first, and show a single run.

    \b
    jovik runs
    jovik runs list "Comet 2TB" --since 2026-11-01
    jovik runs show last
    jovik runs exclude last --why "wrong cable"
    """


@runs.command("list")
@click.argument("drive", required=False, shell_complete=drives)
@click.option("--since", metavar="DATE", help="Only runs begun on that day or later.")
@click.option("--rig", metavar="NAME", help="Only runs on that rig.")
@format_option()
@shelf_option
@handled_by("runs:listing")
def listing() -> None:
    """List the runs of DRIVE, or of all, newest first; 'list' may be left out.

    \b
    jovik runs list "Comet 2TB"
    jovik runs list --rig "rear port"
    """


@runs.command("show")
@click.argument("run", shell_complete=run_names)
@click.option("--every-note", is_flag=True, help="Say what disturbed each step, not only the run.")
@click.option("--passes-table", "each_pass", is_flag=True, help="Show each pass of each step, too.")
@format_option()
@shelf_option
@handled_by("run:show")
def show() -> None:
    """Show RUN again, as measure did; 'last' is the one begun last.

    \b
    jovik runs show last --passes-table
    jovik runs show 20261123-101500-0a1b2c --format json
    """


@runs.command("series")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@click.option(
    "--out", default="-", show_default=True, metavar="FILE", help="A .csv or .parquet file, or -."
)
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@format_option()
@shelf_option
@handled_by("run:series")
def series() -> None:
    """Write the series of RUN: a row for every tenth of a second of every pass.

    With bytes, I/Os, errors, mean latency, temperature, and the clock time in UTC.

    \b
    jovik runs series last --step 3 --out write.csv
    jovik runs series last > everything.csv
    """


@runs.command("meter")
@click.argument("run", shell_complete=run_names)
@click.option(
    "--quantity",
    type=click.Choice(["power", "noise"]),
    required=True,
    help="What the meter is of: watts, or dB(A).",
)
@click.option(
    "--out",
    required=True,
    type=click.Path(dir_okay=False, allow_dash=True, path_type=Path),
    help="The table to write; - is standard output.",
)
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@format_option()
@shelf_option
@handled_by("run:meter")
def meter() -> None:
    """Write what a meter beside a model drive would have shown during RUN.

    To try instrument logs without an instrument: seconds since it was switched on, which was before
    the first pass, and a value every 100 ms.

    \b
    jovik runs meter last --quantity power --out power.csv
    """


@runs.command("exclude")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@click.option("--why", required=True, metavar="TEXT", help="The reason, which is shown with it.")
@shelf_option
@handled_by("runs:exclude")
def exclude() -> None:
    """Set RUN aside: it stays on the shelf, and is in no verdict, ranking, picture or page.

    \b
    jovik runs exclude last --why "hung on the wrong cable"
    jovik runs exclude 20261123-101500-0a1b2c --step 3 --why "a backup was running"
    """


@runs.command("include")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@shelf_option
@handled_by("runs:include")
def include() -> None:
    """Take RUN back that was excluded: it counts again.

    \b
    jovik runs include last
    """


@runs.command("remove")
@click.argument("run", shell_complete=run_names)
@shelf_option
@handled_by("run:remove")
def remove() -> None:
    """Remove RUN and its passes from the shelf for good; its name is typed in full.

    \b
    jovik runs remove 20261123-101500-0a1b2c
    """
