"""`jovik runs`: earlier runs and their figures."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.completion import drives, run_names
from jovik.cli.handled_by import answered_by, handled_by
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
@click.option("--since", metavar="DATE", help="Only runs started on or after this date.")
@click.option("--rig", metavar="NAME", help="Only runs on this rig.")
@format_option("markdown")
@shelf_option
@answered_by("runs:runs")
def listing() -> None:
    """List the runs of DRIVE, or of all, newest first; 'list' may be left out.

    \b
    jovik runs list "Comet 2TB"
    jovik runs list --rig "rear port"
    """


@runs.command("show")
@click.argument("run", shell_complete=run_names)
@click.option(
    "--every-note", is_flag=True, help="Report what disturbed each step, not only the run."
)
@click.option(
    "--passes-table",
    "each_pass",
    is_flag=True,
    help="Also show each pass, and their spread.",
)
@format_option()
@shelf_option
@handled_by("run:show")
def show() -> None:
    """Show the results of RUN; 'last' is the latest.

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
@click.option("--force", is_flag=True, help="Replace an existing file.")
@format_option()
@shelf_option
@handled_by("run:series")
def series() -> None:
    """Write the series of RUN: a row per 100 ms of every pass.

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
    help="The quantity: power in watts, or noise in dB(A).",
)
@click.option(
    "--out",
    required=True,
    type=click.Path(dir_okay=False, allow_dash=True, path_type=Path),
    help="The table to write; - is standard output.",
)
@click.option("--force", is_flag=True, help="Replace an existing file.")
@format_option()
@shelf_option
@handled_by("run:meter")
def meter() -> None:
    """Write what a meter next to a model drive would have shown during RUN.

    To try instrument logs without an instrument: seconds since it was switched on, which was before
    the first pass, and a value every 100 ms.

    \b
    jovik runs meter last --quantity power --out power.csv
    """


@runs.command("exclude")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@click.option(
    "--why", required=True, metavar="TEXT", help="The reason, which Jovik shows with the run."
)
@shelf_option
@handled_by("runs:exclude")
def exclude() -> None:
    """Exclude RUN from verdicts, rankings, charts and pages; it stays on the shelf.

    \b
    jovik runs exclude last --why "wrong cable"
    jovik runs exclude 20261123-101500-0a1b2c --step 3 --why "a backup was running"
    """


@runs.command("include")
@click.argument("run", shell_complete=run_names)
@click.option("--step", "number", type=click.IntRange(1), help="Only this step, by its number.")
@shelf_option
@handled_by("runs:include")
def include() -> None:
    """Include RUN again that was excluded.

    \b
    jovik runs include last
    """


@runs.command("remove")
@click.argument("run", shell_complete=run_names)
@shelf_option
@handled_by("run:remove")
def remove() -> None:
    """Delete RUN and its passes for good; type its name in full.

    \b
    jovik runs remove 20261123-101500-0a1b2c
    """
