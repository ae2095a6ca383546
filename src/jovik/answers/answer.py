"""The form of every answer: data, rows for CSV, and tables for readers."""

from __future__ import annotations

import html
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.base.plain_data import pick, plain
from jovik.base.terminal_text import strip_control
from jovik.tables.markdown import table_markdown, text_markdown
from jovik.tables.table import Table


@dataclass(frozen=True)
class Csv:
    """Rows under a header."""

    header: Sequence[str]
    rows: Iterable[Sequence[Any]]


def csv_of(rows: Iterable[Any], *same: str, **paths: str) -> Csv:
    """Return rows of values: columns named like attributes, and others by their paths (`pick`)."""
    columns = {name: name for name in same} | paths
    return Csv(list(columns), [[plain(pick(r, p)) for p in columns.values()] for r in rows])


class Answer:
    """The answer to a question.

    `schema` names its JSON Schema. `status` is the exit status of a command: 1 if the answer is no.
    """

    schema: ClassVar[str]

    @property
    def status(self) -> int:
        """Return the exit status of a command that gives this answer."""
        return 0

    def data(self) -> dict[str, Any]:
        """Return the answer as documented, without its `schema` key."""
        document: dict[str, Any] = plain(self)
        return document

    def csv(self) -> Csv:
        """Return the rows of the answer, by default those of its first table."""
        table = self.tables()[0]
        return Csv(table.columns, table.rows)

    def verdict(self) -> Sequence[str]:
        """Return the lines above the tables, the first of which is the answer in short."""
        return ()

    def tables(self) -> Sequence[Table]:
        """Return the tables for a reader."""
        raise NotImplementedError

    def notes(self) -> Sequence[str]:
        """Return the lines below the tables."""
        return ()

    def markdown(self) -> str:
        """Return the answer for a forum or an issue tracker."""
        lines, parts = list(self.verdict()), []
        if lines:
            parts.append(f"**{text_markdown(lines[0])}**")
        parts += [text_markdown(line) for line in lines[1:]]
        for table in self.tables():
            parts += [f"**{text_markdown(line)}**" for line in table.verdict[:1]]
            parts += [text_markdown(line) for line in table.verdict[1:]]
            parts.append(table_markdown(table))
        return "\n\n".join([*parts, *map(text_markdown, self.notes())]) + "\n"

    def _repr_html_(self) -> str:
        """Return the tables for a notebook, every text in them escaped."""
        lines = "".join(f"<p>{_text(line)}</p>" for line in self.verdict())
        return lines + "\n".join(map(_table_html, self.tables()))


def _table_html(table: Table) -> str:
    def row(cells: Sequence[str], tag: str) -> str:
        side = ["right" if n in table.right else "left" for n in range(len(cells))]
        inside = "".join(
            f'<{tag} style="text-align:{s}">{_text(c)}</{tag}>'
            for c, s in zip(cells, side, strict=True)
        )
        return f"<tr>{inside}</tr>"

    head, body = row(table.columns, "th"), "\n".join(row(r, "td") for r in table.rows)
    notes = "".join(f"<p>{_text(n)}</p>" for n in [*table.verdict, *table.every_note])
    return (
        f"<table><caption>{_text(table.title)}</caption>\n<thead>{head}</thead>\n"
        f"<tbody>{body}</tbody></table>{notes}"
    )


def _text(text: str) -> str:
    return html.escape(strip_control(text))
