"""`jovik report`: the review of a drive, or a page of all of them."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.completion import drives
from jovik.cli.handled_by import handled_by
from jovik.cli.options import force_option, format_option, language_option, shelf_option


@click.command()
@click.argument("drive", shell_complete=drives, required=False)
@click.option(
    "--against",
    multiple=True,
    metavar="DRIVE",
    shell_complete=drives,
    help="A drive that it would replace. Repeatable.",
)
@click.option(
    "--beside",
    metavar="DRIVE",
    shell_complete=drives,
    help="Compare DRIVE with this one on a page, instead of a review.",
)
@click.option(
    "--words",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Your own text, Markdown. Default: words/NAME.md beside the shelf.",
)
@click.option(
    "--edit",
    is_flag=True,
    help="Open your text for DRIVE in $EDITOR first, with figures to put in.",
)
@language_option
@click.option(
    "--all",
    "every",
    is_flag=True,
    help="A page of all drives with the ranking, and links to the reviews in the same folder.",
)
@click.option(
    "--each",
    is_flag=True,
    help="With --all: write the whole site, each measured drive's review too; only what changed.",
)
@click.option(
    "--base-url",
    metavar="URL",
    help="With --all --each: where the site will be found, for pictures of links and a site map.",
)
@click.option(
    "--letter",
    is_flag=True,
    help="What went wrong, in a paragraph for readers and one for the maker, with the evidence.",
)
@click.option(
    "--check",
    is_flag=True,
    help="Compare the figures that you typed by hand with the shelf. Writes nothing.",
)
@click.option(
    "--watch",
    is_flag=True,
    help="Show the page in a browser of this machine while you write; Ctrl-C ends it.",
)
@click.option(
    "--port",
    type=click.IntRange(1024, 65535),
    help="With --watch: the port to serve the page on. Default: one that is free.",
)
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    help="FILE.html (all in one file), FILE.md (pictures beside it), or a folder for both.",
)
@force_option
@format_option()
@shelf_option
@handled_by("report:report")
def report() -> None:
    """Write the review of DRIVE: the verdict first, then all that it is based on.

    \b
    jovik report "Comet 2TB" --against "Slate 1TB" --out review.html
    jovik report "Comet 2TB" --beside "Slate 1TB" --out pair.html
    jovik report "Comet 2TB" --words mine.md --out site/
    jovik report "Comet 2TB" --check
    jovik report "Comet 2TB" --watch
    jovik report "Comet 2TB" --letter --out letter/
    jovik report --all --each --base-url https://reviews.example/ --out site/
    """
