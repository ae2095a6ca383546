"""Answers that a notebook shows as tables instead of a `repr`."""

from __future__ import annotations

import html
from collections.abc import Sequence
from functools import singledispatch
from typing import Any, Protocol

from jovik.base.sanitize import strip_control


class ShownTable(Protocol):
    """What of a table is set in a notebook (`jovik.tables.Table`)."""

    @property
    def title(self) -> str:
        """Return its caption."""

    @property
    def columns(self) -> Sequence[str]:
        """Heads of the columns."""

    @property
    def rows(self) -> Sequence[Sequence[str]]:
        """Cells, row by row."""

    @property
    def right(self) -> Sequence[int]:
        """Return columns of numbers."""

    @property
    def every_note(self) -> Sequence[str]:
        """Return lines below it."""


@singledispatch
def tables_of(answer: Any) -> Sequence[ShownTable]:
    """Return the tables that say an answer.

    None of what nobody registered (`jovik.tables.notebook`).
    """
    return ()


class NotebookAnswer:
    """An answer that knows how it looks in a notebook."""

    def _repr_html_(self) -> str | None:
        """HTML, every text in it escaped; None where its `repr` has to do."""
        shown = tables_of(self)
        return "\n".join(_as_html(t) for t in shown) if shown else None


def _as_html(table: ShownTable) -> str:
    def row(cells: Sequence[str], tag: str) -> str:
        side = ["right" if n in table.right else "left" for n in range(len(cells))]
        inside = "".join(
            f'<{tag} style="text-align:{s}">{_text(c)}</{tag}>'
            for c, s in zip(cells, side, strict=True)
        )
        return f"<tr>{inside}</tr>"

    head = row(table.columns, "th")
    body = "\n".join(row(r, "td") for r in table.rows)
    notes = "".join(f"<p>{_text(n)}</p>" for n in table.every_note)
    return (
        f"<table><caption>{_text(table.title)}</caption>\n<thead>{head}</thead>\n"
        f"<tbody>{body}</tbody></table>{notes}"
    )


def _text(text: str) -> str:
    return html.escape(strip_control(text))
