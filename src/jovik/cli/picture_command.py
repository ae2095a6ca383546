"""`jovik picture`: what the shelf holds, drawn."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from jovik.cli.completion import drives, run_names
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import F, UnitParam, force_option, format_option, share, shelf_option

AXES = ("depth", "block", "workers", "mix", "compressible", "span", "amount")
"""See `jovik.charts.registry.AXES`, which loads too much for a help text."""


USES = {
    "web": ((1280, 800), 1.0),
    "print": ((1200, 800), 3.0),
    "square": ((1080, 1080), 1.0),
    "thumb": ((640, 400), 1.0),
}
"""The size that a picture is set for by its use, and the dots that each dot of it becomes."""


def pixels(text: str) -> tuple[int, int]:
    """``1280x800`` as (1280, 800)."""
    width, _, height = text.partition("x")
    try:
        size = int(width), int(height)
    except ValueError:
        size = 0, 0
    if not all(320 <= n <= 10_000 for n in size):
        raise ValueError(f"'{text}' is not a size; write 1280x800 (320 to 10000 each)")
    return size


def _common(command: F) -> F:
    """What every picture takes."""
    for option in (
        shelf_option,
        format_option(),
        force_option,
        click.option(
            "--theme",
            type=click.Choice(["light", "dark"]),
            default="light",
            show_default=True,
            help="Paper or night.",
        ),
        click.option(
            "--size",
            type=UnitParam("WxH", pixels),
            help="In pixels. Default: 1280x800, or what --for says.",
        ),
        click.option(
            "--for",
            "use",
            type=click.Choice(list(USES)),
            default="web",
            show_default=True,
            help="What it is for: size, and dots for each letter.",
        ),
        click.option(
            "--out",
            required=True,
            type=click.Path(dir_okay=False, allow_dash=True, path_type=Path),
            help="The file; its ending (png, svg, pdf) says the form; - is standard output, a PNG.",
        ),
    ):
        command = option(command)
    return command


def _draw(
    kind: str,
    drives: Sequence[str],
    *,
    out: Path,
    theme: str,
    shelf_at: str | None,
    force: bool,
    form: str,
    use: str,
    size: tuple[int, int] | None,
    **how: Any,
) -> None:
    """Draw one kind of picture of the shelf; the file is checked before anything is drawn."""
    from jovik.charts.registry import draw
    from jovik.charts.style import THEMES, at_scale, drawing_to
    from jovik.cli.streams import file_or_output
    from jovik.cli.written_files import say_written
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    with file_or_output(out, ".png") as file, drawing_to(file, force=force):
        usual, scale = USES[use]
        with Shelf(where_from(shelf_at)) as shelf, at_scale(scale):
            draw(shelf, kind, drives, file, look=THEMES[theme], size=size or usual, **how)
    if file is out:
        say_written(form, [out], "drew {}".format)


@click.group(cls=NamingGroup)
def picture() -> None:
    """Draw what the shelf holds.

    \b
    jovik picture rank --out ranking.png
    jovik picture long-write "Comet 2TB" "Drift 1TB" --out cliff.svg --theme dark
    jovik picture rank --for square --out feed.png
    """


@picture.command()
@click.option(
    "--highlight",
    metavar="DRIVE",
    shell_complete=drives,
    help="The drive in the strong colour. Default: the best placed.",
)
@click.option(
    "--yardstick",
    metavar="DRIVE",
    shell_complete=drives,
    help="The drive the index calls 100. Default: the one measured first.",
)
@_common
def rank(**how: Any) -> None:
    """The ranking of all drives, overall and by step, with intervals."""
    _draw("rank", [], **how)


@picture.command()
@click.argument("drive", shell_complete=drives)
@click.option(
    "--margin",
    type=UnitParam("SHARE", share),
    default="5%",
    show_default=True,
    help="How far below a claim still meets it.",
)
@_common
def claims(drive: str, **how: Any) -> None:
    """What was measured of each claim of DRIVE."""
    _draw("claims", [drive], **how)


@picture.command("long-write")
@click.argument("drives", shell_complete=drives, nargs=-1, required=True)
@click.option(
    "--step", "phrase", metavar="PHRASE", help="Which long write, where there are several."
)
@click.option(
    "--over",
    type=click.Choice(["time", "bytes"]),
    default="time",
    show_default=True,
    help="What the rate is drawn over.",
)
@_common
def long_write(drives: tuple[str, ...], **how: Any) -> None:
    """The long write of DRIVES, with the cliff, the steady parts and the temperature."""
    _draw("long-write", drives, **how)


@picture.command()
@click.argument("drives", shell_complete=drives, nargs=-1, required=True)
@click.option(
    "--axis",
    type=click.Choice(AXES),
    default="depth",
    show_default=True,
    help="What the ladder walks.",
)
@click.option(
    "--writes/--reads", default=False, help="Ladders of writes or of reads, where there are both."
)
@_common
def ladder(drives: tuple[str, ...], **how: Any) -> None:
    """A ladder of DRIVES as a curve, with intervals and the knee."""
    _draw("ladder", drives, **how)


@picture.command()
@click.argument("drives", shell_complete=drives, nargs=-1, required=True)
@click.option(
    "--step",
    "phrase",
    metavar="PHRASE",
    default="random read 4KiB",
    show_default=True,
    help="Whose latencies.",
)
@_common
def latency(drives: tuple[str, ...], **how: Any) -> None:
    """How long I/Os of DRIVES take, from half of them to one in a million."""
    _draw("latency", drives, **how)


@picture.command()
@click.argument("drive", shell_complete=drives)
@_common
def full(drive: str, **how: Any) -> None:
    """Steps of DRIVE on the empty drive against the same nearly full."""
    _draw("full", [drive], **how)


@picture.command()
@click.argument("drives", shell_complete=drives, nargs=-1, required=True)
@_common
def surface(drives: tuple[str, ...], **how: Any) -> None:
    """Scans of DRIVES from the first to the last address; of one with its access time."""
    _draw("surface", drives, **how)


@picture.command()
@click.argument("drive", shell_complete=drives)
@click.option(
    "--run",
    metavar="RUN",
    shell_complete=run_names,
    help="Of which run. Default: the last with temperatures.",
)
@_common
def temperature(drive: str, **how: Any) -> None:
    """How warm DRIVE was over a run, step by step."""
    _draw("temperature", [drive], **how)


@picture.command()
@click.argument("drive", shell_complete=drives)
@click.option(
    "--run",
    metavar="RUN",
    shell_complete=run_names,
    help="Beside which run. Default: the last one with a log.",
)
@click.option("--quantity", metavar="NAME", help="Of what, where there are several logs.")
@_common
def instrument(drive: str, **how: Any) -> None:
    """What an instrument logged beside a run of DRIVE, under the rate."""
    _draw("instrument", [drive], **how)


@picture.command("real-work")
@click.argument("drive", shell_complete=drives)
@_common
def real_work(drive: str, **how: Any) -> None:
    """Streams, copies and recorded programs of DRIVE as shares of what the box says."""
    _draw("real-work", [drive], **how)


@picture.command()
@click.argument("drive", shell_complete=drives)
@_common
def rounds(drive: str, **how: Any) -> None:
    """What was tracked of DRIVE until it was steady, round by round, with the window."""
    _draw("rounds", [drive], **how)


@picture.command()
@click.argument("drive", shell_complete=drives)
@_common
def mixes(drive: str, **how: Any) -> None:
    """Steady I/Os a second of DRIVE over mix and block."""
    _draw("mixes", [drive], **how)


@picture.command()
@click.argument("drives", shell_complete=drives, nargs=-1, required=True)
@_common
def saturation(drives: tuple[str, ...], **how: Any) -> None:
    """DRIVES from new to used: a long random write, minute by minute."""
    _draw("saturation", drives, **how)


@picture.command()
@click.argument("drive", shell_complete=drives)
@_common
def demand(drive: str, **how: Any) -> None:
    """Where more load on DRIVE only buys waiting."""
    _draw("demand", [drive], **how)


@picture.command()
@click.argument("old", shell_complete=drives)
@click.argument("new", shell_complete=drives)
@_common
def upgrade(old: str, new: str, **how: Any) -> None:
    """OLD against NEW, step by step."""
    _draw("upgrade", [old, new], **how)
