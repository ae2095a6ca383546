"""Reading a phrase word by word, with the place of each word kept for the message."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from jovik.base.errors import PhraseError

_WORD = re.compile(r'"[^"]*"|\S+')
_BARE_NUMBER = re.compile(r"\d[\d.,_]*\Z")
T = TypeVar("T")


@dataclass(frozen=True)
class Word:
    """One word of a phrase and its position."""

    text: str
    start: int
    end: int


class Cursor:
    """The words of one phrase and the next to be read.

    Commas at the end of a word are passed over, so that a label (``random read, 4 KiB, depth 32``)
    parses too.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        self.words = []
        for match in _WORD.finditer(text):
            word = match[0].rstrip(",") if len(match[0]) > 1 else match[0]
            self.words.append(Word(word, match.start(), match.start() + len(word)))
        self.at = 0

    @property
    def next(self) -> Word | None:
        """Return the next word, or None at the end."""
        return self.words[self.at] if self.at < len(self.words) else None

    def wrong(self, expected: str, word: Word | None = None) -> PhraseError:
        """Return the error for `word` (the next one unless given)."""
        word = word or self.next
        if word is None:
            end = len(self.text.rstrip())
            return PhraseError(
                self.text, end + (1 if end else 0), end + (1 if end else 0), expected
            )
        return PhraseError(self.text, word.start, word.end, expected)

    def accept(self, *keywords: str) -> bool:
        """Step over these words if they come next."""
        ahead = [w.text.casefold() for w in self.words[self.at : self.at + len(keywords)]]
        if ahead == list(keywords):
            self.at += len(keywords)
            return True
        return False

    def choice(self, expected: str, *options: str) -> str:
        """Read one of the options."""
        word = self.next
        if word is None or word.text.casefold() not in options:
            raise self.wrong(expected)
        self.at += 1
        return word.text.casefold()

    def read(
        self, convert: Callable[[str], T], expected: str, check: Callable[[T], str] = lambda _: ""
    ) -> T:
        """Read a quantity, joining a number with a unit that stands apart (``4 KiB``).

        `convert` raises ValueError for what it cannot read; `check` gives what is wrong with a
        value, or nothing.
        """
        word = self.next
        if word is None:
            raise self.wrong(expected)
        value: T | None = None
        used = 1
        reason = ""
        for count in (1, 2):
            joined = self.words[self.at : self.at + count]
            if len(joined) < count or (count == 2 and not _BARE_NUMBER.match(word.text)):
                break
            try:
                value = convert(" ".join(w.text for w in joined))
            except ValueError as error:
                reason = reason or str(error)
            else:
                used, reason = count, ""
                break
        span = Word(word.text, word.start, self.words[self.at + used - 1].end)
        if value is None:
            raise self.wrong(f"{expected}: {reason}" if reason else expected, span)
        problem = check(value)
        if problem:
            raise self.wrong(problem, span)
        self.at += used
        return value


def whole(text: str) -> int:
    """Return a whole number, or raise ValueError."""
    if not text.isascii() or not text.isdigit():
        raise ValueError("not a whole number")
    return int(text)


def percentage(text: str) -> int:
    """Return ``70%`` as 70, or raise ValueError."""
    if not text.endswith("%"):
        raise ValueError("not a percentage")
    return whole(text[:-1].strip())


def in_range(limits: tuple[int, int], what: str) -> Callable[[int], str]:
    """Return a check for `Cursor.read`.

    Nothing where a number lies between the limits, else what was expected.
    """
    low, high = limits
    return lambda n: "" if low <= n <= high else f"{what} from {low} to {high}"


def above_zero(what: str) -> Callable[[int], str]:
    """Return a check for `Cursor.read` that a value is not zero."""
    return lambda n: "" if n > 0 else f"{what} above zero"
