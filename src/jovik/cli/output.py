"""Tables, JSON and CSV on standard output; foreign strings as text and nothing else."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

import click

from jovik.base.sanitize import csv_text, escape_control, strip_control
from jovik.cli.streams import ReaderGone
from jovik.tables import Table

if TYPE_CHECKING:
    pass


def emit_json(value: Any) -> None:
    """One JSON object; what a terminal would obey is escaped in it, and read back as it was."""
    text = json.dumps(value, indent=2, ensure_ascii=False, allow_nan=False)
    click.echo(escape_control(text, keep="\n"))


def emit_csv(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """CSV with a header.

    Text that a spreadsheet would take for a formula is led by an apostrophe.
    """
    click.echo(csv_text(header, rows), nl=False)


def console(*, err: bool = False) -> Any:
    """A Rich console that never cuts a table short in a pipe."""
    from rich.console import Console

    class ForResults(Console):
        def on_broken_pipe(self) -> None:
            # Rich would end the program with status 1.
            raise ReaderGone

    stream = sys.stderr if err else sys.stdout
    width = None if stream.isatty() or "COLUMNS" in os.environ else 140
    return ForResults(file=stream, width=width, highlight=False, markup=False, emoji=False)


def show_table(found: Table) -> None:
    """A table for people; columns that it can spare are left out where a terminal is narrow."""
    from rich import box
    from rich.table import Table as RichTable
    from rich.text import Text

    out = console()
    columns = [strip_control(c) for c in found.columns]
    kept = [[strip_control(cell) for cell in row] for row in found.rows]
    shown = _that_fit(columns, kept, found.spare, out.width)
    drawn = RichTable(
        title=Text(strip_control(found.title), style="bold"),
        box=box.HORIZONTALS,
        title_justify="left",
        header_style="bold",
        pad_edge=False,
        padding=(0, 1, 0, 0),
    )
    for number in shown:
        narrow = number in found.right
        drawn.add_column(
            Text(columns[number]),
            justify="right" if narrow else "left",
            overflow="fold",
            no_wrap=narrow,
        )
    for row in kept:
        drawn.add_row(*(Text(row[number], style=_STYLES.get(row[number], "")) for number in shown))
    # Nothing in it: what there is to say stands in the title and below it.
    out.print(drawn if kept else Text(strip_control(found.title), style="bold"))
    left_out = [columns[n] for n in range(len(columns)) if n not in shown and kept]
    for note in [
        *found.notes,
        *(
            [f"too narrow here for: {', '.join(left_out)} (--format json has all)"]
            if left_out
            else []
        ),
    ]:
        out.print(Text(strip_control(note), style="dim"))


def _that_fit(
    columns: Sequence[str], rows: Sequence[Sequence[str]], spare: Sequence[int], width: int
) -> list[int]:
    """The columns that fit, dropping optional ones first."""
    needed = [max([len(name), *(len(row[n]) for row in rows)]) for n, name in enumerate(columns)]
    shown = list(range(len(columns)))
    for number in spare:
        if sum(needed[n] + 2 for n in shown) <= width:
            break
        shown.remove(number)
    return shown


_STYLES = {
    "short": "bold red",
    "met": "green",
    "beaten": "bold green",
    "too close to call": "yellow",
    "held back": "yellow",
    "suspect": "bold red",
    "untested": "dim",
    "OK": "green",
    "warning": "bold yellow",
}
