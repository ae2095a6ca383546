"""From the text of a phrase to its step, or to the steps of a ladder."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from jovik.steps.access import IoStep
from jovik.steps.clauses import CLAUSES, Clause, read_head
from jovik.steps.others import HEADS
from jovik.steps.step import Step
from jovik.steps.sweep import expand_sweep
from jovik.steps.tokens import Cursor


@lru_cache(4096)
def parse(text: str) -> Step:
    """Read one step phrase; a phrase that was read before is the same step again.

    Raises
    ------
    PhraseError
        With the word at fault and what was expected there.
    """
    cursor = Cursor(text)
    for word, read in HEADS.items():
        if cursor.accept(word):
            return read(cursor)
    return _access(cursor)


def parse_all(text: str) -> tuple[Step, ...]:
    """Read a phrase whose numbers may be lists or ranges: the steps of the ladder, or the one step.

    Raises
    ------
    PhraseError
        With the word at fault and what was expected there.
    """
    return tuple(dict.fromkeys(parse(t) for t in expand_sweep(text)))


def parse_access(text: str) -> IoStep:
    """Read a phrase that has to be an access.

    Raises
    ------
    PhraseError
        With the word at fault and what was expected there.
    """
    return _access(Cursor(text))


def _access(cursor: Cursor) -> IoStep:
    values = read_head(cursor)
    left: list[Clause] = list(CLAUSES)
    places: dict[str, int] = {}
    while cursor.next is not None:
        start = cursor.at
        clause = next((c for c in left if cursor.accept(*c.keywords)), None)
        if clause is None:
            if any(cursor.accept(*c.keywords) for c in CLAUSES):
                raise cursor.wrong("each part once only", cursor.words[start])
            raise cursor.wrong(_list([c.shown for c in left]) if left else "nothing more")
        left.remove(clause)
        read = clause.read(cursor)
        places |= dict.fromkeys(read, start)
        values |= read
    _refuse_contradictions(cursor, values, places)
    return IoStep(**values)


def _refuse_contradictions(cursor: Cursor, values: dict[str, Any], places: dict[str, int]) -> None:
    block = values["block_bytes"]
    if values["read_percent"] == 100:
        for name, what in (
            ("durable", "'durable' only where something is written"),
            ("compressible_percent", "'payload' only where something is written"),
        ):
            if values.get(name):
                raise cursor.wrong(what, cursor.words[places[name]])
    if "until_stopped" in values:
        for name in ("time_ns", "amount_bytes", "amount_free_percent"):
            if name in values:
                raise cursor.wrong(
                    "either 'until stopped' or a time and an amount", cursor.words[places[name]]
                )
    for name in ("amount_bytes", "span_bytes"):
        if name in values and values[name] < block:
            raise cursor.wrong(
                f"at least one block ({block} bytes)", cursor.words[places[name] + 1]
            )


def _list(names: list[str]) -> str:
    return ", ".join(names[:-1]) + " or " + names[-1] if len(names) > 1 else names[0]
