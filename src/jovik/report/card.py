"""The link preview of a drive's page: its name and its position."""

from __future__ import annotations

import io
import textwrap
from collections.abc import Callable
from importlib.resources import files
from typing import Any

from jovik.base.atomic_files import MADE_WITH_JOVIK
from jovik.base.quantities import significant
from jovik.base.terminal_text import isolated, strip_control
from jovik.charts.provenance import LONGEST_NAME, truncate
from jovik.queries.advice import reservations_of
from jovik.queries.ranking import RankingReport
from jovik.tables.advice import reservation_words
from jovik.tables.ranking import ranking_warnings

SIZE = (1200, 630)
"""The size that link previews use."""
PAPER, INK, QUIET, MINE, OTHERS = "#fbf8f2", "#22262b", "#5b5f66", "#17617c", "#c3ccd0"
WARNING = "#a63c19"
WARNING_COLUMNS = 48
MOST_LINES = 3
MOST_BARS = 6
LEFT, RIGHT, TOP = 60, 150, 190


def draw_card(
    drive: str, found: RankingReport, answer: str = "", say: Callable[[str], str] = str
) -> bytes:
    """Return a PNG: the drive's name, the answer, its faults, and its index beside the next ones.

    Parameters
    ----------
    answer : str
        Whether to buy it, with the reason, in the language of the card.
    say : callable
        Returns a text in that language.
    """
    from PIL import Image, ImageDraw, PngImagePlugin

    ranking, top_y = found.ranking, TOP
    image = Image.new("RGB", SIZE, PAPER)
    pen = ImageDraw.Draw(image)
    name = truncate(drive, LONGEST_NAME)
    largest = 64
    while largest > 30 and pen.textlength(name, font=_font(largest, bold=True)) > SIZE[0] - 120:
        largest -= 4
    pen.text((LEFT, 50), name, font=_font(largest, bold=True), fill=INK)
    said = [(answer, 30, INK)] if answer else []
    said += [(say(warning), 36, WARNING) for _, warning in ranking_warnings(found, only=drive)]
    few_words = reservation_words(reservations_of(found, drive))
    said += [(say(words), 28, WARNING) for words in few_words]
    for text, size, colour in said:
        words = strip_control(text)
        columns = WARNING_COLUMNS * 36 // size
        for line in textwrap.wrap(
            words[:1].upper() + words[1:], columns, max_lines=MOST_LINES, placeholder=" …"
        ):
            pen.text((LEFT, top_y - 52), line, font=_font(size, bold=True), fill=colour)
            top_y += size * 4 // 3
    top_y += 14 if said else 0
    placed = [d for d in ranking.drives if d.index is not None]
    at = next((n for n, d in enumerate(placed) if d.drive == drive), None)
    if at is not None:
        few = reservations_of(found, drive).few
        place = "" if few else f"place {placed[at].place} of {len(placed)}; "
        caption = say(f"{place}100 is {truncate(str(ranking.yardstick), LONGEST_NAME)}")
        pen.text((LEFT, top_y - 58), isolated(caption), font=_font(28), fill=QUIET)
        first = max(0, min(at - MOST_BARS // 2, len(placed) - MOST_BARS))
        shown = placed[first : first + MOST_BARS]
        top = max(d.index.most for d in shown if d.index is not None)
        each = (SIZE[1] - top_y - 30) / len(shown)
        for n, d in enumerate(shown):
            assert d.index is not None
            y = top_y + n * each
            scale = (SIZE[0] - LEFT - RIGHT) / top
            width = scale * d.index.median
            high = min(each * 0.42, 34)
            pen.text((LEFT, y), truncate(d.drive, LONGEST_NAME), font=_font(22), fill=INK)
            fill = MINE if d.drive == drive else OTHERS
            pen.rectangle((LEFT, y + 28, LEFT + max(width, 2), y + 28 + high), fill=fill)
            reach, middle = (scale * d.index.least, scale * d.index.most), y + 28 + high / 2
            if d.index.known:
                pen.line((LEFT + reach[0], middle, LEFT + reach[1], middle), fill=INK, width=2)
                for end in reach:
                    pen.line((LEFT + end, middle - 6, LEFT + end, middle + 6), fill=INK, width=2)
            words, beside = say(significant(d.index.median)), LEFT + max(width, reach[1]) + 12
            pen.text((beside, y + 26), words, font=_font(24, bold=True), fill=INK)
    out = io.BytesIO()
    about = PngImagePlugin.PngInfo()
    about.add_text("Software", MADE_WITH_JOVIK.decode())
    image.quantize(64).save(out, "PNG", pnginfo=about)
    return out.getvalue()


def _font(size: int, *, bold: bool = False) -> Any:
    """Return the typeface of every picture, which ships with the plotting package."""
    from PIL import ImageFont

    name = "DejaVuSans-Bold.ttf" if bold else "DejaVuSans.ttf"
    words = files("matplotlib") / "mpl-data" / "fonts" / "ttf" / name
    return ImageFont.truetype(str(words), size)
