"""Tables, JSON and CSV on standard output; foreign strings as text and nothing else."""

from __future__ import annotations

import csv
import io
import json
import os
import sys
import unicodedata
from collections.abc import Iterable, Sequence
from typing import Any

import click

from jovik.results import Interval
from jovik.units import significant


def plain(text: str) -> str:
    """A foreign string without what a terminal would obey: control characters, escapes, direction marks."""
    return "".join(c if unicodedata.category(c) not in ("Cc", "Cf", "Cs", "Zl", "Zp") else "\N{REPLACEMENT CHARACTER}" for c in text)


def emit_json(value: Any) -> None:
    """One JSON object."""
    click.echo(json.dumps(value, indent=2, ensure_ascii=False, allow_nan=False))


def emit_csv(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """CSV with a header; text that a spreadsheet would take for a formula is led by an apostrophe."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    for row in rows:
        writer.writerow([_cell(v) for v in row])
    click.echo(out.getvalue(), nl=False)


def _cell(value: Any) -> Any:
    if isinstance(value, str):
        value = plain(value)
        return "'" + value if value[:1] in ("=", "+", "-", "@") else value
    return "" if value is None else value


def console(*, err: bool = False) -> Any:
    """A Rich console that never cuts a table short in a pipe."""
    from rich.console import Console

    stream = sys.stderr if err else sys.stdout
    width = None if stream.isatty() or "COLUMNS" in os.environ else 140
    return Console(file=stream, width=width, highlight=False, markup=False, emoji=False)


def table(title: str, columns: Sequence[str], rows: Iterable[Sequence[str]], *, right: Sequence[int] = (), notes: Sequence[str] = ()) -> None:
    """A table for people; `right` are the columns of numbers, `notes` stand below it."""
    from rich import box
    from rich.table import Table
    from rich.text import Text

    drawn = Table(title=Text(title, style="bold"), box=box.HORIZONTALS, title_justify="left", header_style="bold", pad_edge=False, padding=(0, 1))
    for number, name in enumerate(columns):
        drawn.add_column(Text(name), justify="right" if number in right else "left", overflow="fold", no_wrap=number in right)
    for row in rows:
        drawn.add_row(*(Text(plain(cell), style=_STYLES.get(cell, "")) for cell in row))
    out = console()
    out.print(drawn)
    for note in notes:
        out.print(Text(plain(note), style="dim"))


_STYLES = {
    "short": "bold red",
    "met": "green",
    "beaten": "bold green",
    "too close to call": "yellow",
    "untested": "dim",
    "fine": "green",
    "look at this": "bold yellow",
}


def interval_words(value: Interval, scale: float = 1.0) -> str:
    """``7,050 to 7,400``, or a dash where nothing tells."""
    if value.low is None or value.high is None:
        return "-"
    return f"{significant(value.low * scale)} to {significant(value.high * scale)}"


def interval_json(value: Interval) -> dict[str, float | None]:
    """Median, low and high."""
    return {"median": value.median, "low": value.low, "high": value.high}
