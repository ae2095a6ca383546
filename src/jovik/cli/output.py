"""JSON and CSV on standard output, with foreign strings as text only."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable, Sequence
from typing import Any

import click

from jovik.answers.answer import Answer
from jovik.base.terminal_text import csv_text, escape_control


def show(answer: Answer, form: str) -> int:
    """Print an answer as ``table``, ``json``, ``csv`` or ``markdown``, and return its status."""
    if form == "json":
        emit_json(answer.data(), answer.schema)
    elif form == "csv":
        listing = answer.csv()
        emit_csv(listing.header, listing.rows)
    elif form == "markdown":
        click.echo(answer.markdown(), nl=False)
    else:
        # Only a terminal's tables need what draws them.
        from jovik.cli.terminal_table import show_answer

        show_answer(answer)
    return answer.status


def emit_json(value: dict[str, Any], schema: str) -> None:
    """Print one JSON object. Control characters are escaped in it, and can be restored.

    Parameters
    ----------
    schema : str
        The name of its schema, ``docs/schemas/NAME.json``, which it says itself.
    """
    document = {"schema": f"jovik {schema} 1"} | value
    text = json.dumps(document, indent=2, ensure_ascii=not _prints_utf8(), allow_nan=False)
    click.echo(escape_control(text, keep="\n"))


def emit_csv(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """CSV with a header.

    Text that a spreadsheet would take for a formula is led by an apostrophe.
    """
    text = csv_text(header, rows)
    click.echo(text if _prints_utf8() else text.encode(), nl=False)


def _prints_utf8() -> bool:
    """Return True if text is printed as UTF-8. Otherwise data must be escaped."""
    return (sys.stdout.encoding or "").lower().replace("-", "") in ("utf8", "utf8sig")
