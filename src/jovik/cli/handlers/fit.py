"""Carry out `jovik fit`."""

from __future__ import annotations

from jovik.answers import fit as answers
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.cli.output import show
from jovik.shelf.store import Shelf


def fit(
    drive: str | None,
    names: tuple[str, ...],
    listing: bool,
    classes: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Report the workloads that a drive carries, or the drives that carry a workload."""
    if classes:
        return show(answers.classes(), form)
    if listing:
        return show(answers.LoadsAnswer(tuple(answers.every_load(names))), form)
    if drive is None and not names:
        raise UsageError(
            "which drive? NAME is missing",
            "jovik fit NAME; jovik fit --load voices for all drives; jovik fit --loads "
            "lists the loads",
        )
    with Shelf(where_from(shelf_at)) as shelf:
        if drive is None:
            return show(answers.carriers(shelf, *names), form)
        return show(answers.fit(shelf, drive, *names), form)
