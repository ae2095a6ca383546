"""From the text of a phrase to its step, or to the steps of a sweep."""

from __future__ import annotations

from functools import lru_cache

from jovik.steps.io_step import IoStep
from jovik.steps.ladder import expand_ladder
from jovik.steps.registry import STEPS
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor


@lru_cache(4096)
def parse(text: str) -> Step:
    """Read one step phrase. Reading it again returns the same step.

    Raises
    ------
    PhraseError
        With the word at fault and what was expected there.
    """
    cursor = Cursor(text)
    sort = next((s for s in STEPS if cursor.accept(s.word)), IoStep)
    return sort.read(cursor)


def parse_all(text: str) -> tuple[Step, ...]:
    """Read a phrase whose numbers may be lists or ranges: the steps of the sweep, or one step.

    Raises
    ------
    PhraseError
        With the word at fault and what was expected there.
    """
    return tuple(dict.fromkeys(parse(t) for t in expand_ladder(text)))


def parse_access(text: str) -> IoStep:
    """Read a phrase that has to be an I/O step.

    Raises
    ------
    PhraseError
        With the word at fault and what was expected there.
    """
    return IoStep.read(Cursor(text))
