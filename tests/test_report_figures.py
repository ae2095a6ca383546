"""Every figure that a reader meets is the answer's own, to the digits shown.

The JSON of the commands is one source; what stands on pages, read back from their text, the other.
"""

from __future__ import annotations

import html
import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from tests.conftest import Program

COMET, SLATE = "Veldhaar Comet 2TB", "Corvane Slate 1TB"
DIGITS = r"(\d{1,3}(?:,\d{3})*(?:\.\d+)?)"
NUMBER = r"(?<![\w.,])" + DIGITS
UNITS = {
    **{"MB/s": ("rate", 1e6), "GB/s": ("rate", 1e9), "IOPS": ("iops", 1.0), "EUR": ("money", 1.0)},
    **{"ns": ("time", 1.0), "µs": ("time", 1e3), "ms": ("time", 1e6), "s": ("time", 1e9)},
    **{"MB": ("size", 1e6), "GB": ("size", 1e9), "TB": ("size", 1e12), "PB": ("size", 1e15)},
}
"""Units of pages: the sort of figure, and the unit in that of the sort."""
BY_KEY = (
    (re.compile(r"bytes_s$|bytes/s"), "rate", 1.0),
    (re.compile(r"iops$|^IOPS"), "iops", 1.0),
    (re.compile(r"_ns$|^ns$|^p\d+$|^mean$|^worst$"), "time", 1.0),
    (re.compile(r"_s$|^s$|^seconds$|^old$|^new$"), "time", 1e9),
    (re.compile(r"bytes$"), "size", 1.0),
    (re.compile(r"^price|^EUR$"), "money", 1.0),
)
"""By the key of a number or of what holds it, or the unit beside it: its sort and unit."""
LENGTHS = (("low_bytes", "high_bytes"), ("start_s", "end_s"))
"""Ends whose distance is shown: how exactly a cliff is known, how long a part of a write lasts."""
SCALES = (1.0, 1e-6, 100.0, 1e-3, 1e-9, 1e-12)
"""From the units of the JSON to those of a page: MB/s, per cent, µs, s and TB."""


def half_unit(shown: str) -> float:
    """Half a unit of the last digit. A page shows three or more."""
    plain = shown.replace(",", "")
    if "." in plain:
        return 0.5 * 10.0 ** -len(plain.partition(".")[2])
    zeros = len(plain) - len(plain.rstrip("0"))
    return 0.5 * 10.0 ** min(zeros, max(len(plain) - 3, 0))


@dataclass
class Answers:
    """All numbers by their sort, and the intervals and words, of JSON documents."""

    numbers: dict[str, list[float]] = field(default_factory=dict)
    intervals: set[tuple[float, float]] = field(default_factory=set)
    words: list[str] = field(default_factory=list)

    def take(self, value: Any, sort: tuple[str, float] = ("", 1.0)) -> None:
        if isinstance(value, dict):
            sort = _sort_of(str(value.get("unit", "")), sort)
            for low, high in (("low", "high"), ("from", "to"), *LENGTHS):
                ends = [value.get(low), value.get(high)]
                if all(isinstance(x, int | float) for x in ends):
                    first, last = (float(str(x)) for x in ends)
                    self.intervals.add((first, last))
                    self._add(last - first, _sort_of(low, sort))
            for key, one in value.items():
                self.take(one, _sort_of(key, sort))
        elif isinstance(value, list):
            for one in value:
                self.take(one, sort)
        elif isinstance(value, str):
            self.words.append(value)
        elif isinstance(value, int | float) and not isinstance(value, bool):
            self._add(float(value), sort)

    def _add(self, value: float, sort: tuple[str, float]) -> None:
        self.numbers.setdefault(sort[0], []).append(value * sort[1])

    def knows(self, shown: str, unit: str) -> bool:
        """Whether a number with a unit is one of these, or stands in their words."""
        sort, scale = UNITS[unit]
        value, half = float(shown.replace(",", "")) * scale, half_unit(shown) * scale * (1 + 1e-9)
        return any(abs(x - value) <= half for x in self.numbers.get(sort, ())) or any(
            f"{shown} {unit}" in x for x in self.words
        )

    def knows_time(self, first: str, unit: str, second: str) -> bool:
        """Whether ``3 min 56 s`` or ``2 h 5 min`` is one of the times."""
        seconds = 60.0 if unit == "min" else 3600.0
        smaller = seconds / 60
        value = (int(first) * seconds + int(second) * smaller) * 1e9
        return any(abs(x - value) <= smaller * 0.5e9 for x in self.numbers["time"]) or any(
            f"{first} {unit} {second}" in x for x in self.words
        )

    def knows_interval(self, low: str, high: str) -> bool:
        ends = [(float(x.replace(",", "")), half_unit(x) * (1 + 1e-9)) for x in (low, high)]
        return any(
            all(abs(end * s - x) <= half for end, (x, half) in zip(pair, ends, strict=True))
            for pair in self.intervals
            for s in SCALES
        ) or any(f"{low} to {high}" in x for x in self.words)


def _sort_of(key: str, above: tuple[str, float]) -> tuple[str, float]:
    return next(((sort, unit) for known, sort, unit in BY_KEY if known.search(key)), above)


def answers(shown: Program) -> Answers:
    found = Answers()
    asked = [["rank"], ["fit", "--classes"], ["upgrade", SLATE, COMET], ["upgrade", COMET, SLATE]]
    for drive in (COMET, SLATE):
        asked += [["judge", drive], ["judge", drive, "--real-work"], ["fit", drive]]
        asked += [["sheet", "show", drive], ["note", drive]]
    asked += [["sheet", "show", d] for d in ("Ilmaris Drift 1TB", "Tarnmoor Pebble 1TB")]
    runs = shown("runs", "--format", "json").json["runs"]
    asked += [["runs", "show", run["run"]] for run in runs]
    for words in asked:
        found.take(json.loads(shown(*words, "--format", "json", status=None).out))
    return found


def text_of(page: str) -> str:
    """The words of a page, charts and their values included, without scripts and attachments."""
    page = re.sub(r"<(style|script)[^>]*>.*?</\1>|<a download[^>]*>", "", page, flags=re.S)
    # The ticks of axes are no figures of a drive.
    page = re.sub(r'<text class="tick[^"]*"[^>]*>[^<]*</text>', "", page)
    values = " | ".join(re.findall(r'class="row"[^>]*data-said="([^"]*)"', page))
    return html.unescape(re.sub(r"<[^>]+>", " | ", page) + values)


def strangers(found: Answers, text: str) -> Iterator[str]:
    """Yield each figure of a text that no answer has."""
    for m in re.finditer(r"(\d+) (min|h) (\d+) (?:s|min)", text):
        if not found.knows_time(m[1], m[2], m[3]):
            yield m[0]
    text = re.sub(r"\d+ (min|h) \d+ (s|min)", "", text)
    for m in re.finditer(rf"{NUMBER} to {DIGITS}(?![\w.]*\d)", text):
        if not found.knows_interval(m[1], m[2]):
            yield m[0]
    units = "|".join(sorted(map(re.escape, UNITS), key=len, reverse=True))
    for m in re.finditer(rf"{NUMBER} ({units})(?![\w/])", text):
        if not found.knows(m[1], m[2]):
            yield m[0]


def test_every_figure_on_a_page_is_an_answers_own(shown: Program) -> None:
    found = answers(shown)
    shown("report", COMET, "--against", SLATE, "--out", "review.html")
    shown("report", COMET, "--beside", SLATE, "--out", "pair.html")
    shown("report", "--all", "--each", "--base-url", "https://reviews.example/", "--out", "site")
    shown("upgrade", SLATE, COMET, "--out", "client.html")
    pages = ["review.html", "pair.html", "client.html", "site/index.html", "site/compare.html"]
    pages += ["site/class-pcie4-ssd.html", "site/feed.xml"]
    for page in pages:
        text = text_of((shown.folder / page).read_text())
        figures = len(re.findall(rf"{NUMBER} (?:to|{'|'.join(UNITS)})", text))
        assert figures >= {"client.html": 8, "site/feed.xml": 1}.get(page, 20), page
        assert sorted(set(strangers(found, text))) == [], page
    # The reader of figures finds one that is wrong.
    text = text_of((shown.folder / "review.html").read_text())
    wrong = text.replace("7,030 to 7,270", "7,040 to 7,270").replace("149 EUR", "148 EUR")
    assert set(strangers(found, wrong)) == {"7,040 to 7,270", "148 EUR"}
