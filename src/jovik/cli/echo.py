"""Printed lines that may contain strings of drives and files."""

from __future__ import annotations

import shutil
import sys

import click

from jovik.base.terminal_text import strip_control
from jovik.cli.waiting_line import clear


def echo(text: str, *, err: bool = False) -> None:
    """Print lines with nothing in them that a terminal would obey.

    On a terminal they end between words.
    """
    clear()
    plain = strip_control(text, keep="\n")
    if (sys.stderr if err else sys.stdout).isatty():
        plain = between_words(plain, shutil.get_terminal_size().columns)
    click.echo(plain, err=err)


def between_words(text: str, width: int) -> str:
    """Return lines that end between words. A word that is longer than a line stays whole.

    So does an indented line: it is advice, of which a user may copy a command.
    """
    return "\n".join(_wrapped(line, width) for line in text.split("\n"))


def _wrapped(line: str, width: int) -> str:
    if len(line) < width or line.startswith(" "):
        return line
    import textwrap

    return textwrap.fill(line, width - 1, break_long_words=False, break_on_hyphens=False)
