"""`jovik picture`: what the shelf holds, drawn."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.options import Converted, shelf_option


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


@click.group()
def picture() -> None:
    """Draw what the shelf holds.

    \b
    jovik picture rank --out ranking.png
    """


@picture.command()
@click.option("--out", required=True, type=click.Path(dir_okay=False, path_type=Path), help="The file; its ending (png, svg, pdf) says the form.")
@click.option("--size", type=Converted("WxH", pixels), default="1280x800", show_default=True, help="In pixels.")
@click.option("--highlight", metavar="DRIVE", help="The drive in the strong colour. Default: the best placed.")
@click.option("--yardstick", metavar="DRIVE", help="The drive the index calls 100. Default: the one measured first.")
@shelf_option
def rank(out: Path, size: tuple[int, int], highlight: str | None, yardstick: str | None, shelf_at: str | None) -> None:
    """The ranking of all drives, overall and by step, with intervals."""
    from jovik.analysis.rank import rank as place
    from jovik.figures.canvas import check_out
    from jovik.figures.ranking import draw_ranking
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    check_out(out)
    with Shelf(where_from(shelf_at)) as shelf:
        named = shelf.sheet(yardstick).drive.name if yardstick is not None else None
        shown = shelf.sheet(highlight).drive.name if highlight is not None else None
        results = shelf.latest_results()
    draw_ranking(place(results, named), out, highlight=shown, size=size)
    click.echo(f"drew {out}")
