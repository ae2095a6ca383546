"""Whether notes are shown below the tables of a command, or counted.

One choice for a whole command, which is why it is not handed from table to table.
"""

from __future__ import annotations

from contextvars import ContextVar

CHOICES = ("shown", "counted")

_shown: ContextVar[bool] = ContextVar("notes_shown", default=False)
_plain: ContextVar[bool] = ContextVar("plain", default=False)


def choose_notes(how: str) -> None:
    """Show notes from now on, or count them.

    Raises
    ------
    ValueError
        It is none of `CHOICES`.
    """
    if how not in CHOICES:
        raise ValueError(f"'{how}' is not a setting for notes; write {' or '.join(CHOICES)}")
    _shown.set(how == "shown")


def notes_shown() -> bool:
    """Return whether notes are shown."""
    return _shown.get()


def choose_plain(plain: bool) -> None:
    """Leave bars out of tables from now on."""
    _plain.set(plain)


def plain() -> bool:
    """Return whether bars are left out."""
    return _plain.get()
