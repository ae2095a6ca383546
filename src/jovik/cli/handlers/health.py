"""Carry out `jovik health`."""

from __future__ import annotations

from jovik.answers import health as answers
from jovik.cli.output import show


def health(target: str, form: str) -> int:
    """Read the health log of a drive."""
    return show(answers.health(target), form)
