"""A page in another language: its headings and verdicts, and how its numbers are written.

The reviewer's own words stay as they are, and so do the sentences that Jovik makes, which are
English; a language is a data file (`jovik.report.languages`).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from jovik.base.errors import UnknownNameError
from jovik.base.shipped import shipped_names, shipped_path
from jovik.base.toml_files import StrictModel, read_toml
from jovik.charts.chart import Axis, Bar, BarChart, Cell, Chart, HeatMap
from jovik.report.document import (
    Block,
    Bullets,
    ClaimMarks,
    Document,
    Facts,
    Picture,
    Section,
    SiteTable,
)
from jovik.tables import Table

ENGLISH = "en"
NUMBER = re.compile(r"(?<![\w.])\d{1,3}(?:,\d{3})*(?:\.\d+)?(?![\w.]*\d)")
"""A number as Jovik writes it: groups of three, a point."""


class Numbers(StrictModel):
    """How a language writes numbers."""

    decimal: str
    thousands: str


class Language(StrictModel):
    """A language of pages: headings and verdicts by their English words."""

    name: str
    numbers: Numbers
    headings: dict[str, str]
    verdicts: dict[str, str]


def language_names() -> list[str]:
    """Return those that there are, English included."""
    return sorted([ENGLISH, *shipped_names("language")])


def read_language(name: str) -> Language | None:
    """Return a language by its two letters, or None for English.

    Raises
    ------
    UnknownNameError
        There is no file for it.
    """
    if name == ENGLISH:
        return None
    if name not in language_names():
        raise UnknownNameError(
            "language", name, language_names(), "docs/review.md explains how to add one"
        )
    text = shipped_path("language", name).read_text(encoding="utf-8")
    return read_toml(text, name, Language)


def in_language(document: Document, name: str) -> Document:
    """Return the document with headings, verdicts and numbers of another language.

    Raises
    ------
    UnknownNameError
        There is no such language.
    """
    language = read_language(name)
    if language is None:
        return document
    headings = language.headings

    def title(words: str) -> str:
        # "Instead of Slate 1TB": the name of a drive is no heading.
        for english, other in headings.items():
            if words == english or words.startswith(f"{english} "):
                return other + words[len(english) :]
        return words

    def number(text: str) -> str:
        return NUMBER.sub(lambda m: _written(m[0], language.numbers), text)

    def figures(text: str) -> str:
        return number(text) if text[:1].isdigit() or text[:1] in "-±(" else text

    def section(one: Section) -> Section:
        blocks = tuple(_block(b, language, title, figures) for b in one.blocks)
        return replace(one, title=title(one.title), blocks=blocks)

    return replace(document, sections=tuple(section(s) for s in document.sections), language=name)


def _written(number: str, how: Numbers) -> str:
    whole, point, rest = number.partition(".")
    return whole.replace(",", how.thousands) + (how.decimal + rest if point else "")


Change = Callable[[str], str]


def _block(block: Block, language: Language, title: Change, figures: Change) -> Block:
    match block:
        case Bullets():
            return replace(block, title=title(block.title))
        case Facts():
            return replace(block, items=tuple((title(n), figures(v)) for n, v in block.items))
        case ClaimMarks():
            items = tuple(
                (label, figures(figure), _after(claimed, figures), _verdict(verdict, language), how)
                for label, figure, claimed, verdict, how in block.items
            )
            return replace(block, items=items, claimed=title("claimed"))
        case Table():
            return _table(block, language, figures)
        case SiteTable():
            return replace(block, table=_table(block.table, language, figures))
        case Picture():
            return replace(block, chart=_chart(block.chart, figures))
    return block


def _after(claimed: str, figures: Change) -> str:
    """``up to 7,100 MB/s``: the figure behind the words."""
    head, up_to, rest = claimed.rpartition("up to ")
    return head + up_to + figures(rest)


def _verdict(words: str, language: Language) -> str:
    return language.verdicts.get(words, words)


def _table(table: Table, language: Language, figures: Change) -> Table:
    rows = [[_verdict(figures(cell), language) for cell in row] for row in table.rows]
    return replace(table, rows=rows)


def _chart(chart: Chart, figures: Change) -> Chart:
    if isinstance(chart, BarChart):
        return replace(
            chart,
            rows=tuple(
                replace(r, bars=tuple(_bar(b, figures) for b in r.bars)) for r in chart.rows
            ),
        )
    if isinstance(chart, HeatMap):
        rows = tuple((name, tuple(_cell(c, figures) for c in cells)) for name, cells in chart.rows)
        return replace(chart, rows=rows)

    def axis(one: Axis) -> Axis:
        return replace(one, ticks=tuple((at, figures(words)) for at, words in one.ticks))

    def view(one: Any) -> Any:
        panels = tuple(replace(p, y=axis(p.y)) for p in one.panels)
        return replace(one, x=axis(one.x), panels=panels)

    return replace(chart, views=tuple(view(v) for v in chart.views))


def _cell(cell: Cell | None, figures: Change) -> Cell | None:
    return replace(cell, words=figures(cell.words)) if cell is not None else None


def _bar(bar: Bar, figures: Change) -> Bar:
    return replace(bar, words=figures(bar.words))
