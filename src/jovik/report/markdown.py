"""A document as Markdown with its pictures beside it, for a site that sets pages itself."""

from __future__ import annotations

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
from jovik.tables.markdown import table_markdown, text_markdown

FIRST_LINES = (
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
    parts = [FIRST_LINES, f"# {text_markdown(document.title)}", text_markdown(document.subtitle)]
    for section in document.sections:
        parts.append(f"## {text_markdown(section.title)}")
        parts += [_block(b, pictures) for b in section.blocks]
    return "\n\n".join([*parts, text_markdown(document.colophon)]) + "\n"


def _block(block: Block, pictures: str) -> str:
    match block:
        case Paragraph():
            return f"**{text_markdown(block.text)}**" if block.loud else text_markdown(block.text)
        case Bullets():
            title = f"**{text_markdown(block.title)}**\n\n" if block.title else ""
            return title + "\n".join(f"- {text_markdown(i)}" for i in block.items)
        case ClaimMarks():
            return "\n".join(
                f"- **{text_markdown(verdict)}**: {text_markdown(f'{label}: {figure}')}, "
                f"{text_markdown(f'{block.claimed} {claimed}')}"
                for label, figure, claimed, verdict, _ in block.items
            )
        case Facts():
            return "; ".join(
                f"{text_markdown(name)}: {text_markdown(value)}" for name, value in block.items
            )
        case Links():
            return "\n".join(f"- [{text_markdown(name)}]({target})" for name, target in block.items)
        case ReviewerText():
            return demote_headings(block.markdown)
        case Picture():
            return f"![{text_markdown(block.alt)}]({pictures}/{block.name}.png)"
        case CsvAttachment():
            return f"[{block.name}]({block.name}) ({text_markdown(block.what)})"
        case SiteTable():
            return table_markdown(block.table)
        case Table():
            return table_markdown(block)
