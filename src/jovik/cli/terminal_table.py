"""Tables in a terminal, in the form that it has room for."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence
from typing import Any

from rich import box
from rich.console import Console
from rich.table import Table as RichTable
from rich.text import Text

from jovik.answers.answer import Answer
from jovik.base.small_print import notes_shown, plain
from jovik.base.terminal_text import strip_control
from jovik.cli.streams import ReaderGone
from jovik.tables import Table


def console(*, err: bool = False) -> Any:
    """Return a Rich console that never cuts a table short in a pipe."""

    class ForResults(Console):
        def on_broken_pipe(self) -> None:
            # Rich would end the program with status 1.
            raise ReaderGone

    stream = sys.stderr if err else sys.stdout
    width = None if stream.isatty() or "COLUMNS" in os.environ else 140
    return ForResults(file=stream, width=width, highlight=False, markup=False, emoji=False)


def show_answer(answer: Answer) -> None:
    """Print an answer's verdict, its tables with a blank line between them, and its notes."""
    if verdict := answer.verdict():
        show_verdict(verdict)
    for number, table in enumerate(answer.tables()):
        if number:
            console().print()
        show_table(table)
    show_notes(answer.notes())


def show_table(found: Table) -> None:
    """Print a table in the form that the terminal has room for.

    Columns that it can spare are left out where a terminal is narrow; where that is not enough each
    row takes two lines, and in a very narrow one it is a list.
    """

    out = console()
    _say_verdict(out, found.verdict)
    columns = [strip_control(c) for c in found.columns]
    cells = [[strip_control(cell) for cell in row] for row in found.rows]
    shown = _that_fit(columns, cells, found.optional_columns, out.width)
    title = Text(strip_control(found.title), style="bold")
    right = list(found.right)
    if cells:
        columns, cells, shown = _with_bars(found, columns, cells, shown, out)
    if not cells:
        # Nothing in it: what there is to say stands in the title and below it.
        out.print(title)
    elif _width(columns, cells, shown, right) <= out.width:
        out.print(_drawn(title, columns, cells, shown, right))
    else:
        out.print(title)
        for line in _stacked(columns, cells, shown, right, out.width):
            out.print(line, soft_wrap=True)
    left_out = [columns[n] for n in range(len(columns)) if n not in shown and cells]
    more = [f"too narrow here for: {', '.join(left_out)} (--format json has all)"]
    for note in found.notes:
        out.print(Text(strip_control(note)))
    _small_print(out, [*found.small, *(more if left_out else [])])


def show_verdict(lines: Sequence[str]) -> None:
    """Print the verdict of a command whose tables do not contain it."""
    _say_verdict(console(), lines)


def _say_verdict(out: Any, lines: Sequence[str]) -> None:
    """Print the verdict and a blank line."""

    for number, line in enumerate(lines):
        out.print(Text(strip_control(line), style="" if number else "bold"))
    if lines:
        out.print()


_counted: list[int] = []
"""Notes that this command did not show, by table."""


def _small_print(out: Any, lines: Sequence[str]) -> None:
    """Print notes, or count them for `tell_notes`."""

    if not notes_shown():
        _counted.append(len(lines))
        return
    for line in lines:
        out.print(Text(strip_control(line), style="dim"))


def tell_notes() -> None:
    """Report how many notes a command did not show, if there were any."""
    count = sum(_counted)
    _counted.clear()
    if count:
        out = console()
        out.print()
        out.print(f"{count} {'note' if count == 1 else 'notes'}: --notes")


BAR_WIDTH, LEAST_BAR = 24, 8
_EIGHTHS = " ▏▎▍▌▋▊▉█"


def _with_bars(
    found: Table,
    columns: list[str],
    rows: list[list[str]],
    shown: list[int],
    out: Any,
) -> tuple[list[str], list[list[str]], list[int]]:
    """Return the table with a column of bars, if a terminal has room for it."""
    if found.bar is None or plain() or not out.is_terminal:
        return columns, rows, shown
    needed = _needed(columns, rows)
    room = out.width - sum(needed[n] + 2 for n in shown) - 2
    column, values = found.bar
    top = max((v for v in values if v is not None), default=0.0)
    if column not in shown or room < LEAST_BAR or top <= 0:
        return columns, rows, shown
    width = min(room, BAR_WIDTH)
    drawn = [
        [*row, _bar(value / top * width if value is not None else 0.0)]
        for row, value in zip(rows, values, strict=True)
    ]
    return [*columns, ""], drawn, [*shown, len(columns)]


def _bar(length: float) -> str:
    eighths = round(length * 8)
    return ("█" * (eighths // 8) + _EIGHTHS[eighths % 8]).rstrip()


def show_notes(lines: Iterable[str]) -> None:
    """Lines below a table, broken between words where the terminal is narrower."""

    out = console()
    for line in lines:
        out.print(Text(strip_control(line)))


def _drawn(
    title: Any,
    columns: Sequence[str],
    rows: Sequence[Sequence[str]],
    shown: Sequence[int],
    right: Sequence[int],
) -> Any:

    drawn = RichTable(
        title=title,
        box=box.HORIZONTALS,
        title_justify="left",
        header_style="bold",
        pad_edge=False,
        padding=(0, 1, 0, 0),
    )
    for number in shown:
        narrow = number in right
        drawn.add_column(
            Text(columns[number]),
            justify="right" if narrow else "left",
            overflow="fold",
            no_wrap=narrow,
        )
    for row in rows:
        drawn.add_row(*(Text(row[number], style=_STYLES.get(row[number], "")) for number in shown))
    return drawn


LEAST_TEXT = 16
"""A column of text may be folded to this width before a row takes two lines."""

LEAST_HEAD = 12
"""A label of a row is at least this long in some row."""


def _width(
    columns: Sequence[str],
    rows: Sequence[Sequence[str]],
    shown: Sequence[int],
    right: Sequence[int],
) -> int:
    """Return the least width that a table can be drawn in: numbers whole, texts folded."""
    needed = _needed(columns, rows)
    return sum((needed[n] if n in right else min(needed[n], LEAST_TEXT)) + 2 for n in shown)


def _needed(columns: Sequence[str], rows: Sequence[Sequence[str]]) -> list[int]:
    return [max([len(name), *(len(row[n]) for row in rows)]) for n, name in enumerate(columns)]


def _stacked(
    columns: Sequence[str],
    rows: Sequence[Sequence[str]],
    shown: Sequence[int],
    right: Sequence[int],
    width: int,
) -> list[Any]:
    """Return rows of two lines, with the label above the figures.

    Or a list where that is too wide too.
    """

    needed = _needed(columns, rows)
    # What a row is of is the first text of some length; what has no title stands beside it.
    texts = [n for n in shown if n not in right]
    longest = max(texts, key=lambda n: needed[n], default=shown[0])
    head = next((n for n in texts if columns[n] and needed[n] >= LEAST_HEAD), longest)
    beside = [n for n in shown if n != head and not columns[n]]
    rest = [n for n in shown if n != head and columns[n]]
    indent = "  "
    lines: list[Any] = []
    if sum(needed[n] + 2 for n in rest) + len(indent) <= width:

        def aligned(cells: Sequence[str]) -> str:
            parts = [
                cells[n].rjust(needed[n]) if n in right else cells[n].ljust(needed[n]) for n in rest
            ]
            return (indent + "  ".join(parts)).rstrip()

        lines += [Text(columns[head], style="bold"), Text(aligned(columns), style="bold")]
        for row in rows:
            lines += _head_line(row, head, beside)
            line = Text(aligned(row))
            for cell in {row[n] for n in rest} & set(_STYLES):
                line.highlight_words([cell], _STYLES[cell])
            lines.append(line)
        return lines
    for row in rows:
        lines += _head_line(row, head, beside)
        lines += [Text(f"{indent}{columns[n]}: {row[n]}") for n in rest if row[n] not in ("", "-")]
    return lines


def _head_line(row: Sequence[str], head: int, beside: Sequence[int]) -> list[Any]:
    """Return the label line of a row, or None if it equals that of the previous row."""

    before = [row[n] for n in beside if n < head and row[n]]
    after = [row[n] for n in beside if n > head and row[n]]
    headline = " ".join([*before, row[head]]) + (f": {', '.join(after)}" if after else "")
    return [Text(headline)] if headline.strip() else []


def _that_fit(
    columns: Sequence[str],
    rows: Sequence[Sequence[str]],
    optional_columns: Sequence[int],
    width: int,
) -> list[int]:
    """Return the columns that fit, dropping optional ones first."""
    needed = _needed(columns, rows)
    shown = list(range(len(columns)))
    for number in optional_columns:
        if sum(needed[n] + 2 for n in shown) <= width:
            break
        shown.remove(number)
    return shown


_STYLES = {
    "short": "bold red",
    "met": "green",
    "beaten": "bold green",
    "too close to call": "yellow",
    "one pass": "yellow",
    "held back": "yellow",
    "suspect": "bold red",
    "untested": "dim",
    "OK": "green",
    "warning": "bold yellow",
}
