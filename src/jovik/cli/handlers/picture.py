"""Carry out `jovik picture`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from jovik.base.settings import where_from
from jovik.charts.canvas import THEMES, Canvas, check_file
from jovik.charts.kinds import draw
from jovik.cli.picture_command import CANVAS_SIZES
from jovik.cli.streams import file_or_output
from jovik.cli.written_files import say_written
from jovik.shelf.store import Shelf


def draw_picture(
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
    **options: Any,
) -> None:
    """Draw one kind of picture, after checking the file."""
    usual, scale = CANVAS_SIZES[use]
    canvas = Canvas(*(size or usual), THEMES[theme], scale)
    with file_or_output(out, ".png") as file:
        check_file(file, force=force)
        with Shelf(where_from(shelf_at)) as shelf:
            draw(shelf, kind, drives, file, canvas, force=force, **options)
    if file is out:
        say_written(form, [out], "drew {}".format)
