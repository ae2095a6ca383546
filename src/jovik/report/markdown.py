"""A document as Markdown with its pictures beside it, for a site that sets pages itself."""

from __future__ import annotations

import re

from jovik.base.sanitize import strip_control
from jovik.report.document import (
    Block,
    Bullets,
    ClaimMarks,
    CsvAttachment,
    Document,
    Facts,
    Links,
    Paragraph,
    Picture,
    ReviewerText,
    SiteTable,
)
from jovik.report.reviewer_text import demote_headings
from jovik.tables import Table

MADE = (
    "<!-- made by Jovik, and made anew each time: your own words belong into a file "
    "of their own (jovik report --words) -->"
)
"""The first line of every such file, by which it is known again."""


def as_markdown(document: Document, pictures: str) -> str:
    """Return the page in Markdown (CommonMark with tables).

    Parameters
    ----------
    pictures : str
        The folder that pictures lie in, as seen from the page.
    """
    parts = [MADE, f"# {escaped(document.title)}", escaped(document.subtitle)]
    for section in document.sections:
        parts.append(f"## {escaped(section.title)}")
        parts += [_block(b, pictures) for b in section.blocks]
    return "\n\n".join([*parts, escaped(document.colophon)]) + "\n"


def escaped(text: str) -> str:
    """Foreign text in one line that Markdown takes for text.

    No markup, no link, no row of a table.
    """
    line = re.sub(r"([\\`*_{}\[\]<>|#!&~$])", r"\\\1", strip_control(" ".join(text.split())))
    return (
        re.sub(r"^([-+=]|\d+(?=[.)]))", r"\\\1", line)
        if not line[:1].isdigit()
        else re.sub(r"^(\d+)([.)])", r"\1\\\2", line)
    )


def _block(block: Block, pictures: str) -> str:
    match block:
        case Paragraph():
            return f"**{escaped(block.text)}**" if block.loud else escaped(block.text)
        case Bullets():
            return "\n".join(
                [
                    *([f"**{escaped(block.title)}**\n"] if block.title else []),
                    *(f"- {escaped(i)}" for i in block.items),
                ]
            )
        case ClaimMarks():
            return "\n".join(
                f"- **{escaped(verdict)}**: {escaped(label)}: {escaped(figure)}, claimed "
                f"{escaped(claimed)}"
                for label, figure, claimed, verdict, _ in block.items
            )
        case Facts():
            return "; ".join(f"{escaped(name)}: {escaped(value)}" for name, value in block.items)
        case Links():
            return "\n".join(f"- [{escaped(name)}]({target})" for name, target in block.items)
        case ReviewerText():
            return demote_headings(block.markdown)
        case Picture():
            return f"![{escaped(block.alt)}]({pictures}/{block.name}.png)"
        case CsvAttachment():
            return f"[{block.name}]({block.name}) ({escaped(block.what)})"
        case SiteTable():
            return _table(block.table)
        case Table():
            return _table(block)


def _table(table: Table) -> str:
    lines = [f"**{escaped(table.title)}**", "", _row(table.columns)]
    lines.append(
        "|"
        + "|".join(" ---: " if n in table.right else " --- " for n in range(len(table.columns)))
        + "|"
    )
    lines += [_row(row) for row in table.rows]
    notes = [f"- {escaped(n)}" for n in table.every_note if n.strip()]
    return "\n".join([*lines, *(["", *notes] if notes else [])])


def _row(cells: object) -> str:
    assert isinstance(cells, list | tuple)
    return "| " + " | ".join(escaped(c) for c in cells) + " |"
