"""`jovik picture`: charts of results, with a subcommand for each of `jovik.charts.kinds`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from jovik.charts.kinds import KINDS, ChartKind, KindOption
from jovik.cli.completion import drives, run_names
from jovik.cli.handled_by import handled_by
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import F, UnitParam, force_option, format_option, share, shelf_option

CANVAS_SIZES = {
    "web": ((1280, 800), 1.0),
    "print": ((1200, 800), 3.0),
    "square": ((1080, 1080), 1.0),
    "thumb": ((640, 400), 1.0),
}
"""The size that a picture is set for by its use, and the dots that each pixel of it becomes."""
ARGUMENT_COMPLETIONS = {"drive": drives, "run": run_names}


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
    """Add the options of every picture."""
    for option in (
        shelf_option,
        format_option(),
        force_option,
        click.option(
            "--theme",
            type=click.Choice(["light", "dark"]),
            default="light",
            show_default=True,
            help="Colours for a light or a dark background.",
        ),
        click.option(
            "--size",
            type=UnitParam("WxH", pixels),
            help="Size in pixels. Default: 1280x800, or as --purpose sets it.",
        ),
        click.option(
            "--purpose",
            "use",
            type=click.Choice(list(CANVAS_SIZES)),
            default="web",
            show_default=True,
            help="The purpose, which sets size and resolution.",
        ),
        click.option(
            "--out",
            required=True,
            type=click.Path(dir_okay=False, allow_dash=True, path_type=Path),
            help="The file. Its ending selects PNG, SVG or PDF; - writes a PNG to standard output.",
        ),
    ):
        command = option(command)
    return command


@click.group(cls=NamingGroup)
def picture() -> None:
    """Draw what the shelf holds.

    \b
    jovik picture rank --out ranking.png
    jovik picture long-write "Comet 2TB" "Drift 1TB" --out cliff.svg --theme dark
    jovik picture rank --purpose square --out feed.png
    """


def _option(one: KindOption) -> click.Option:
    """Turn an option of a kind into one of the command."""
    how: dict[str, Any] = {"help": one.help, "metavar": one.metavar}
    if one.default is not None:
        how |= {"default": one.default, "show_default": True}
    if isinstance(one.of, tuple):
        how["type"] = click.Choice(one.of)
    elif one.of == "share":
        how["type"] = UnitParam("SHARE", share)
    elif one.of == "flag":
        how["default"] = False
    else:
        how["shell_complete"] = ARGUMENT_COMPLETIONS.get(one.of)
        how["metavar"] = one.metavar or one.of.upper()
    return click.Option([one.flag or f"--{one.name}", one.name], **how)


def _command(name: str, kind: ChartKind) -> click.Command:
    @handled_by("picture:draw_picture")
    def draw() -> None: ...

    arguments = ["drives"] if kind.drives is None else list(kind.drives)
    count = -1 if kind.drives is None else 1
    params: list[click.Parameter] = [
        click.Argument([a], shell_complete=drives, required=True, nargs=count) for a in arguments
    ]
    params += [_option(o) for o in kind.options]

    @_common
    def call(**options: Any) -> None:
        named = [options.pop(a) for a in arguments]
        draw(name, named[0] if kind.drives is None else named, **options)

    command = click.command(name, help=kind.help)(call)
    command.params[:0] = params
    return command


for _name, _kind in KINDS.items():
    picture.add_command(_command(_name, _kind))
