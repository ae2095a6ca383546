"""The runs of a shelf and their figures."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from jovik.base.errors import UsageError
from jovik.shelf.runs import RunFigures, RunRecord
from jovik.shelf.store import Shelf

LAST = "last"
"""The word for the run that was begun last."""


@dataclass(frozen=True)
class ListedRun:
    """A run and its figures, None without a single pass."""

    record: RunRecord
    figures: RunFigures | None


def listed_runs(
    shelf: Shelf, drive: str | None = None, *, since: str | None = None, rig: str | None = None
) -> list[ListedRun]:
    """Return the runs of a drive, or of all, newest first.

    Parameters
    ----------
    since : str, optional
        A date, ``2026-11-23``: only runs begun on that day or later.
    rig : str, optional
        Only runs on this rig.

    Raises
    ------
    UnknownNameError
        No drive is called that.
    UsageError
        `since` is no date.
    """
    name = shelf.sheets.get(drive).drive.name if drive is not None else None
    begun = ""
    if since is not None:
        try:
            begun = datetime.date.fromisoformat(since).isoformat()
        except ValueError:
            raise UsageError(f"'{since}' is not a date", "write 2026-11-23") from None
    figures = shelf.runs.figures(name)
    return [
        ListedRun(r, figures.get(r.id))
        for r in reversed(shelf.runs.every(name))
        if r.started >= begun and rig in (None, r.rig)
    ]


def run_key(shelf: Shelf, word: str) -> str:
    """Return the run of a word: ``last``, or an unambiguous part of its name.

    Raises
    ------
    UsageError
        There is no run, or several are named like that.
    UnknownNameError
        None is.
    """
    if word != LAST:
        return shelf.runs.named(word)
    key = shelf.runs.latest()
    if key is None:
        raise UsageError(
            "there is no run on this shelf", "begin one: jovik measure TARGET --drive NAME"
        )
    return key
