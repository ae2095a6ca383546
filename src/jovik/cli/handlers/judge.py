"""Carry out `jovik judge`."""

from __future__ import annotations

from jovik.answers import judge as answers
from jovik.base.settings import where_from
from jovik.cli.output import show
from jovik.shelf.store import Shelf


def judge(
    drive: str,
    margin: float,
    target: str | None,
    by_sample: bool,
    why: bool,
    work: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Compare the results of a drive with its claims."""
    with Shelf(where_from(shelf_at)) as shelf:
        if by_sample:
            return show(answers.samples(shelf, drive), form)
        if work:
            return show(answers.real_work(shelf, drive), form)
        answer = answers.judge(shelf, drive, margin, why=why)
        if target is not None:
            # Only a measurement needs the engine.
            from jovik.cli.handlers.settle import settle

            if settle(shelf, answer.found, target):
                answer = answers.judge(shelf, drive, margin, why=why)
    return show(answer, form)
