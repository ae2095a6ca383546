"""Tables and foreign text in Markdown (CommonMark with tables)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from jovik.base.terminal_text import strip_control
from jovik.tables.table import Table


def text_markdown(text: str) -> str:
    """Return foreign text as one line without markup, links or rows of a table."""
    # What would begin a list or a heading needs a space behind it.
    return re.sub(r"^(\d*)([-+=.)])(?=\s|$|[-=])", r"\1\\\2", _inline(text))


def _inline(text: str) -> str:
    return re.sub(r"([\\`*_{}\[\]<>|#!&~$])", r"\\\1", strip_control(" ".join(text.split())))


def table_markdown(table: Table) -> str:
    """Return a table with its title, and its notes as a list."""
    sides = [" ---: " if n in table.right else " --- " for n in range(len(table.columns))]
    lines = [f"**{text_markdown(table.title)}**", "", _row(table.columns), f"|{'|'.join(sides)}|"]
    lines += [_row(row) for row in table.rows]
    notes = [f"- {text_markdown(n)}" for n in table.every_note]
    if notes:
        lines += ["", *notes]
    return "\n".join(lines)


def _row(cells: Sequence[str]) -> str:
    return f"| {' | '.join(map(_inline, cells))} |"
