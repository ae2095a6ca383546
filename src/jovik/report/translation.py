"""A text in another language, found again by the English sentence that it is.

Jovik says everything in English first, in many places. A catalogue has each of these sentences
with placeholders, and a text is translated by the entry whose words it has: what stands in the
placeholders is translated in turn, numbers are written as the language writes them, and names stay
as they are. Texts of several parts (``A; B``, ``A: B``, ``A (B)``) are translated part by part. A
text with a part that no entry has stays English as a whole.

A placeholder's name, without digits at its end, says what may stand there: ``figure`` a number
with its unit and interval, ``name`` a name of the shelf, ``digits`` and ``numbers`` one or several
counts, ``raw`` one word that stays as it is (a version, a run), ``words`` anything that stays as it
is, and any other a text of the catalogue.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import lru_cache

UNITS = (
    *("MB/s", "GB/s", "kB/s", "B/s", "Gb/s", "GT/s", "files/s", "IOPS/W", "IOPS", "dB(A)", "dB"),
    *("KiB", "MiB", "GiB", "TiB", "kB", "MB", "GB", "TB", "PB", "EB", "B", "%", "x", "k"),
    *("years", "days", "hours", "min", "ms", "µs", "us", "ns", "s", "h", "d", "rpm", "kHz", "Hz"),
    *("°C", "Wh", "mW", "W", "J", "V", "A"),
)
NUMBER = r"[-+±]?\d+(?:,\d{3})*(?:\.\d+)?"
_UNIT = f"(?:{'|'.join(map(re.escape, sorted(UNITS, key=len, reverse=True)))}|[A-Z]{{3}})"
_DATE = r"\d{4}-\d\d-\d\d(?: \d\d:\d\d(?::\d\d)?(?: UTC)?)?"
_ONE = rf"(?:{_DATE}|(?:{NUMBER} ?{_UNIT} )*{NUMBER}(?:-\d+)?(?: ?{_UNIT})?)(?!\w|[.,]\d)"
FIGURE = rf"{_ONE}(?: to {_ONE})?(?: \({_ONE} to {_ONE}\)(?: ?{_UNIT}(?!\w))?)?"
FIRST_NAME = 0xF0000
"""Names of the shelf are replaced by letters of a private plane before sentences are looked for."""
_NAME = f"[{chr(FIRST_NAME)}-{chr(FIRST_NAME + 0xFFFD)}]"
VERBATIM = {
    "digits": r"\d+",
    "name": _NAME,
    "numbers": r"\d[\d, -]*",
    "raw": r"[^\s,;]+",
    "words": "[^;]+?",
}
"""Kinds of placeholders whose text stays as it is."""
KINDS = {"figure": FIGURE} | VERBATIM
PLACEHOLDER = re.compile(r"\{([a-z]+)(\d*)\}")
SENTENCES = ". "
SEPARATORS = (SENTENCES, "; and ", "; ", ": ", ", and ", ", ", " and ", " or ", " to ")
"""What parts the parts of a text, the weakest tie first."""
MOST_PARTS = 40
"""Of a text with so many, some are looked for that belong together."""
BRACKETS = "{text} ({text2})"
RANGE = "{text} to {text2}"
_TOKEN = re.compile(rf"{_DATE}|{NUMBER}|(?<=[\d ]){_UNIT}(?!\w)")


class Said(str):
    """A text of a page in its language, with the English that it comes from.

    Attributes
    ----------
    english : str
    translated : bool
        False if the catalogue has no entry for it.
    """

    english: str
    translated: bool

    def __new__(cls, text: str, english: str, translated: bool = True) -> Said:
        """Return the text."""
        made = super().__new__(cls, text)
        made.english, made.translated = english, translated
        return made


def english_of(text: str) -> str:
    """Return the English that a text comes from."""
    return text.english if isinstance(text, Said) else text


def stays_english(text: object) -> bool:
    """Return True for a text of a page in another language that no entry has."""
    return isinstance(text, Said) and not text.translated


@dataclass(frozen=True)
class Catalogue:
    """The sentences of a language, and how it writes numbers.

    Attributes
    ----------
    language : str
        Its two letters.
    name : str
        Its own name for itself.
    decimal, group : str
        What parts a fraction, and groups of three digits.
    messages : dict
        By the English sentence, both with placeholders.
    """

    language: str
    name: str
    decimal: str
    group: str
    messages: dict[str, str]

    def number(self, english: str) -> str:
        """Write a number that Jovik wrote, such as ``6,110.5``."""
        whole, point, rest = english.partition(".")
        return whole.replace(",", self.group) + (self.decimal + rest if point else "")


@dataclass(frozen=True)
class _Pattern:
    """An entry with placeholders: what it begins and ends with, and each placeholder's kind.

    `several` is of more than one sentence.
    """

    start: str
    end: str
    several: bool
    words: int
    regex: re.Pattern[str]
    kinds: dict[str, str]
    message: str


class Translator:
    """Texts of pages in one language, on a shelf with these names."""

    def __init__(
        self, catalogue: Catalogue, names: Iterable[str] = (), own_words: Iterable[str] = ()
    ) -> None:
        self.catalogue, self.own_words = catalogue, frozenset(own_words)
        self.names = [n for n in dict.fromkeys(names) if n.strip()]
        longest_first = sorted(self.names, key=len, reverse=True)
        self.named = re.compile(
            "|".join(rf"(?<!\w){re.escape(n)}(?!\w)" for n in longest_first) or "(?!)"
        )
        self.letters = {n: chr(FIRST_NAME + i) for i, n in enumerate(self.names)}
        self.patterns = _patterns(catalogue.messages)
        self.found: Callable[[str], str | None] = lru_cache(maxsize=100_000)(self._find)

    def __call__(self, text: str) -> Said:
        """Return a text of a page in the language, or as it is if no entry has it."""
        words = text.strip()
        lettered = self.named.sub(lambda m: self.letters[m[0]], words)
        # Such a letter in the text itself would be taken for a name.
        found = self.found(lettered) if not re.search(_NAME, words) else None
        if found is None and lettered != words:
            # A drive may be called by a word that Jovik says.
            found = self.found(words)
        if found is None:
            return Said(text, text, translated=False)
        return Said(re.sub(_NAME, lambda m: self.names[ord(m[0]) - FIRST_NAME], found), text)

    def _find(self, text: str) -> str | None:
        """Return a text in the language, or None if no entry has all of it."""
        if not any(c.isalpha() for c in text) or re.fullmatch(_NAME, text):
            return self._figures(text)
        if text in self.catalogue.messages:
            return self.catalogue.messages[text]
        if re.fullmatch(FIGURE, text):
            return self._figures(text)
        if text[-1] == "." and (whole := self.found(text[:-1])) is not None:
            return whole + "."
        several = SENTENCES in text
        for pattern in self.patterns:
            if several and not pattern.several:
                # What is of one sentence would take in the next.
                continue
            if text.startswith(pattern.start) and text.endswith(pattern.end):
                match = pattern.regex.fullmatch(text)
                filled = match and self._filled(match, pattern)
                if filled is not None:
                    return filled
        return text if text in self.own_words else self._in_parts(text)

    def _filled(self, match: re.Match[str], pattern: _Pattern) -> str | None:
        values = {}
        for name, kind in pattern.kinds.items():
            if kind in VERBATIM:
                values[name] = match[name]
            else:
                value = self._figures(match[name]) if kind == "figure" else self.found(match[name])
                if value is None:
                    return None
                values[name] = value
        return pattern.message.format(**values)

    def _in_parts(self, text: str) -> str | None:
        """Return the translation of a text's parts, put together again."""
        lower = text[:1].lower() + text[1:]
        if lower != text and (found := self.found(lower)) is not None:
            return found[:1].upper() + found[1:]
        if text[-1] in "!:" and (whole := self.found(text[:-1])) is not None:
            return whole + text[-1]
        for between in SEPARATORS:
            entry = f"{{text}}{between}{{text2}}"
            parts = text.split(between)
            said = [self.found(p) if p else None for p in parts] if len(parts) > 2 else [None]
            if None not in said:
                joint = self.catalogue.messages[entry].format(text="", text2="")
                return joint.join(filter(None, said))
            # What is a part may hold what parts others: "random read, 4 KiB, and durable".
            at = -len(between)
            for part in parts[:-1] if len(parts) <= MOST_PARTS else ():
                at += len(part) + len(between)
                both = self._both(entry, text[:at], text[at + len(between) :])
                if both is not None:
                    return both
        if text.endswith(")"):
            for at in (m.start() for m in re.finditer(r" \(", text)):
                both = self._both(BRACKETS, text[:at], text[at + 2 : -1])
                if both is not None:
                    return both
        return None

    def _both(self, entry: str, first: str, second: str) -> str | None:
        one = self.found(first) if first else None
        two = self.found(second) if one is not None and second else None
        if one is None or two is None:
            return None
        return self.catalogue.messages[entry].format(text=one, text2=two)

    def _figures(self, text: str) -> str:
        """Write numbers, units and ranges as the language does."""
        messages = self.catalogue.messages

        def token(m: re.Match[str]) -> str:
            found = m[0]
            if found[-1].isdigit() and "-" not in found[1:]:
                return self.catalogue.number(found)
            # A phrase has 4KiB, a sentence 4 KiB.
            close = found not in "kx" and text[: m.start()][-1:].isdigit()
            return ("\N{NO-BREAK SPACE}" if close else "") + messages.get(found, found)

        low_high = messages[RANGE].format(text="\0", text2="\0").strip("\0")
        return _TOKEN.sub(token, text).replace(" to ", low_high)


def _patterns(messages: dict[str, str]) -> list[_Pattern]:
    """Return the entries with placeholders, those with the most words of their own first."""
    structure = {f"{{text}}{s}{{text2}}" for s in SEPARATORS} | {BRACKETS}
    found = []
    for english, message in messages.items():
        if english in structure or not PLACEHOLDER.search(english):
            continue
        parts, kinds, end = [], {}, 0
        for m in PLACEHOLDER.finditer(english):
            kind, name = m[1], m[1] + m[2]
            kinds[name] = kind
            parts += [re.escape(english[end : m.start()]), f"(?P<{name}>{KINDS.get(kind, '.+?')})"]
            end = m.end()
        parts.append(re.escape(english[end:]))
        start = english[: english.index("{")]
        regex = re.compile("".join(parts), re.DOTALL)
        words = len(PLACEHOLDER.sub("", english))
        several = SENTENCES in english
        found.append(_Pattern(start, english[end:], several, words, regex, kinds, message))
    return sorted(found, key=lambda p: -p.words)
