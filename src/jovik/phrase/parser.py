"""From the text of a phrase to a `Step`."""

from __future__ import annotations

from jovik.phrase.clauses import CLAUSES, Clause, read_head
from jovik.phrase.cursor import Cursor
from jovik.phrase.step import Step


def parse(text: str) -> Step:
    """Read one step phrase.

    Raises
    ------
    PhraseError
        With the word at fault and what was expected there.
    """
    cursor = Cursor(text)
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
    return Step(**values)


def _refuse_contradictions(cursor: Cursor, values: dict[str, int], places: dict[str, int]) -> None:
    block = values["block_bytes"]
    if values["read_percent"] == 100:
        for name, what in (
            ("durable", "'durable' only where something is written"),
            ("compressible_percent", "'payload' only where something is written"),
        ):
            if values.get(name):
                raise cursor.wrong(what, cursor.words[places[name]])
    for name in ("amount_bytes", "span_bytes"):
        if name in values and values[name] < block:
            raise cursor.wrong(f"at least one block ({block} bytes)", cursor.words[places[name] + 1])


def _list(names: list[str]) -> str:
    return ", ".join(names[:-1]) + " or " + names[-1] if len(names) > 1 else names[0]
