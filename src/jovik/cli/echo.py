"""Printed lines that may contain strings of drives and files."""

from __future__ import annotations

import click

from jovik.base.terminal_text import strip_control


def echo(text: str, *, err: bool = False) -> None:
    """Print lines with nothing in them that a terminal would obey."""
    click.echo(strip_control(text, keep="\n"), err=err)
