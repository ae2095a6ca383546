"""Ladders: a phrase whose numbers are lists or ranges, and the steps it stands for.

A list is ``depth 1,4,32``; a range doubles, ``depth 1..32``, unless ``by N`` says how far apart its
numbers are (``payload 0..100% compressible by 10``). The end of a range always belongs to it.
Several make every combination.
"""

from __future__ import annotations

import itertools
import re

from jovik.base.errors import PhraseError
from jovik.base.quantities import MAX_QUANTITY, MOST_DIGITS, parse_size, spell_size
from jovik.steps.tokens import Cursor, Word

MOST_RUNGS = 256
EACH_PACE = re.compile(r"(?<=\")\s+at\s+each\s+pace\b", re.IGNORECASE)
"""Behind the recording of a replay: a step for each of its paces."""
_NUMBER = r"\d+(?:\.\d+)?"
_UNIT = r"[A-Za-z%]*"
_RANGE = re.compile(rf"({_NUMBER})({_UNIT})\.\.({_NUMBER})({_UNIT}(?:/s)?)")
_LIST = re.compile(rf"{_NUMBER}{_UNIT}(?:/s)?(?:,{_NUMBER}{_UNIT}(?:/s)?)+")
_ITEM = re.compile(rf"({_NUMBER})({_UNIT}(?:/s)?)")


def expand_ladder(text: str) -> list[str]:
    """Return the single phrases of a ladder, or the phrase itself if it has no list or range.

    Raises
    ------
    PhraseError
        A range that cannot be walked, or too many steps.
    """
    if EACH_PACE.search(text):
        return [EACH_PACE.sub(pace, text) for pace in ("", " at its pace", " as fast as it goes")]
    words = Cursor(text).words
    choices: list[list[str]] = []
    last_range: int | None = None
    skip = 0
    for number, word in enumerate(words):
        if skip:
            skip -= 1
            continue
        if _RANGE.fullmatch(word.text):
            last_range = len(choices)
            choices.append([word.text])
        elif word.text.casefold() == "by" and last_range is not None and number + 1 < len(words):
            match, stride = _RANGE.fullmatch(choices[last_range][0]), words[number + 1]
            size = _ITEM.fullmatch(stride.text)
            if match is None or size is None or float(size[1]) <= 0:
                raise PhraseError(
                    text,
                    stride.start,
                    stride.end,
                    "how far apart the numbers of the range are, such as 10",
                )
            choices[last_range] = _walk(text, word, match, float(size[1]))
            last_range, skip = None, 1
        elif _LIST.fullmatch(word.text) and not re.search(r",0", word.text):
            choices.append(_items(word.text))
        else:
            choices.append([word.text])
    for index, options in enumerate(choices):
        match = _RANGE.fullmatch(options[0])
        if match:
            word = next(w for w in words if w.text == options[0])
            choices[index] = _walk(text, word, match, None)
    count = 1
    for options in choices:
        count *= len(options)
    if count == 1 and all(len(o) == 1 for o in choices):
        return [text]
    if count > MOST_RUNGS:
        raise PhraseError(
            text, 0, len(text), f"at most {MOST_RUNGS} steps from one phrase; these are {count}"
        )
    return [_plain_ends(" ".join(chosen)) for chosen in itertools.product(*choices)]


def _plain_ends(text: str) -> str:
    """Return the step without a mix at the ends of a ladder of mixes.

    All reads are a read step, no reads a write step.
    """
    return re.sub(r"\bmixed 0% read\b", "write", re.sub(r"\bmixed 100% read\b", "read", text))


def _items(text: str) -> list[str]:
    """``4,16,64KiB``: a number without a unit takes the last one's."""
    parts = [_ITEM.fullmatch(p) for p in text.split(",")]
    unit = parts[-1][2] if parts[-1] else ""
    return list(dict.fromkeys(f"{p[1]}{p[2] or unit}" for p in parts if p))


def _walk(text: str, word: Word, found: re.Match[str], stride: float | None) -> list[str]:
    low, unit_low, high, unit = found.groups()
    scale = (1, 1)
    if unit_low and unit_low != unit:
        try:
            scale = (parse_size(f"1{unit_low}"), parse_size(f"1{unit}"))
        except ValueError as error:
            raise PhraseError(text, word.start, word.end, f"a range of sizes: {error}") from None
    at, end = float(low) * scale[0], float(high) * scale[1]
    if end > MAX_QUANTITY or len(low) > MOST_DIGITS:
        raise PhraseError(text, word.start, word.end, "smaller numbers")
    if end <= at:
        raise PhraseError(
            text, word.start, word.end, "a range from the smaller to the larger number"
        )
    if stride is None and at <= 0:
        raise PhraseError(
            text,
            word.start,
            word.end,
            "'by N' behind a range that begins with 0, since 0 cannot be doubled",
        )
    values: list[float] = []
    while at < end and len(values) <= MOST_RUNGS:
        values.append(at)
        at = at * 2 if stride is None else at + stride
    values.append(end)
    if scale == (1, 1):
        return [f"{v:g}{unit}" for v in values]
    return [spell_size(round(v)) for v in values]
