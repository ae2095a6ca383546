"""Figures that a reviewer typed by hand, held against the shelf.

A placeholder stays true when a drive is measured again; a typed figure does not.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.comparability import long_write_of, rate_of
from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.interval import Interval
from jovik.base.plain_data import keyed
from jovik.base.quantities import (
    in_rate_unit,
    parse_rate,
    parse_size,
    parse_time,
    show_rate,
    show_size,
    show_time,
    significant,
)
from jovik.queries.ranking import price_for_terabyte
from jovik.report.placeholders import PLACEHOLDER
from jovik.report.review_data import ReviewData
from jovik.tables.table import Table

RATE, IOPS, TIME, SIZE, MONEY = "bytes/s", "IOPS", "ns", "bytes", "money"
UNITS = {
    RATE: r"[kMGT]i?B/s",
    IOPS: r"[kM]?\s?IOPS",
    TIME: r"(?:ns|µs|μs|us|ms|s|min)",
    SIZE: r"[kMGTP]i?B",
}
NUMBER = r"(?<![\w.,])(\d+(?:,\d{3})*(?:\.\d+)?)\s?"
"""A number as pages show it, not inside a word or another number."""
HIDDEN = (PLACEHOLDER, re.compile(r"```.*?```|`[^`\n]*`", re.S), re.compile(r"\]\([^)\n]*\)"))
"""Parts of Markdown whose numbers are no figures: placeholders, code and addresses."""
NEAR = 1.5
"""A size or a time that is farther from all of the shelf's than this factor is about other things.

A rate or a number of I/Os a second in a review is always about the drive.
"""
SHOWN = 0.005
"""The coarsest that the end of an interval is shown, half a unit of its last digit as a share."""


@dataclass(frozen=True)
class ShelfFigure:
    """A figure of the shelf: what it is, its sort, its value in the unit of the sort, in words.

    `placeholder` stands for it in a text, empty if none does. An `end` is that of an interval,
    which is typed as a page shows it, or means something else.
    """

    what: str
    sort: str
    value: float
    shown: str
    placeholder: str = ""
    end: bool = False


@dataclass(frozen=True)
class TypedFigure:
    """A figure in a text: its line, as it is written, its sort and value, and its precision.

    `half_unit` is half a unit of the last digit that is no closing zero.
    """

    line: int
    text: str
    sort: str
    value: float
    half_unit: float


@dataclass(frozen=True)
class HeldFigure:
    """A typed figure beside the nearest of the shelf, None if the shelf has none of its sort."""

    typed: TypedFigure
    nearest: ShelfFigure | None

    @property
    def agrees(self) -> bool:
        """Return True if the shelf's figure, rounded as this one is, is this one."""
        if self.nearest is None:
            return False
        return _is(self.typed, self.nearest)


def _is(typed: TypedFigure, known: ShelfFigure) -> bool:
    """Return True if a figure of the shelf, rounded as the typed one is, is the typed one."""
    if known.end and typed.half_unit > SHOWN * typed.value:
        return False
    return abs(known.value - typed.value) <= typed.half_unit * (1 + 1e-9)


def typed_figures(markdown: str, currency: str) -> list[TypedFigure]:
    """Return every figure with a unit in a text, in their order.

    Parameters
    ----------
    currency : str
        In which the drive is sold, such as ``EUR``.
    """
    for hidden in HIDDEN:
        markdown = hidden.sub(lambda m: re.sub(r"[^\n]", " ", m[0]), markdown)
    units = UNITS | ({MONEY: re.escape(currency)} if currency else {})
    found = []
    for sort, unit in units.items():
        for m in re.finditer(NUMBER + f"({unit})" + r"(?![\w/])", markdown):
            scale = _scale(sort, m[2])
            number = float(m[1].replace(",", ""))
            line = markdown.count("\n", 0, m.start()) + 1
            half = _half_unit(m[1]) * scale
            found.append((m.start(), TypedFigure(line, m[0], sort, number * scale, half)))
    return [one for _, one in sorted(found, key=lambda x: x[0])]


def _scale(sort: str, unit: str) -> float:
    """Return the value of one of a unit, in that of the sort."""
    one = f"1{unit}".replace("μ", "µ")
    if sort in (RATE, IOPS):
        return parse_rate(one)[0]
    if sort == TIME:
        return parse_time(one.replace("µs", "us"))
    return parse_size(one) if sort == SIZE else 1.0


def _half_unit(number: str) -> float:
    """Return half a unit of the last digit that tells something, at least the second one.

    50 of ``7,000``: nobody who rounds a rate to one digit tells anything by it.
    """
    plain = number.replace(",", "")
    if "." in plain:
        return 0.5 * 10.0 ** -len(plain.partition(".")[2])
    zeros = len(plain) - len(plain.rstrip("0"))
    return 0.5 * 10.0 ** max(min(zeros, len(plain) - 2), 0)


def shelf_figures(it: ReviewData) -> list[ShelfFigure]:
    """Return every figure of a drive that a reviewer may write about, placeholders first."""
    drive = it.sheet.drive
    found = [*_of_sheet(it), *_of_claims(it), *_of_steps(it)]
    for each in (r for b in it.noted.readings for r in b.each):
        sort, scale = {"s": (TIME, 1e9), "bytes/s": (RATE, 1.0), "IOPS": (IOPS, 1.0)}.get(
            each.unit, (MONEY if each.unit == drive.currency else "", 1.0)
        )
        if sort:
            named = f'{{{{ reading "{each.what}" }}}}'
            found.append(ShelfFigure(each.what, sort, each.value * scale, each.shown, named))
    return sorted(found, key=lambda f: not f.placeholder)


def _of_sheet(it: ReviewData) -> Iterator[ShelfFigure]:
    drive, terabyte = it.sheet.drive, price_for_terabyte(it.sheet.drive)
    if drive.price:
        yield ShelfFigure("price", MONEY, drive.price, drive.spelled_price, "{{ price }}")
    if terabyte is not None:
        shown = f"{terabyte:.0f} {drive.currency}"
        yield ShelfFigure("price per TB", MONEY, round(terabyte), shown, "{{ price-per-tb }}")
    for what, size in (("capacity", drive.capacity_bytes), ("endurance", drive.endurance_bytes)):
        if size:
            yield ShelfFigure(what, SIZE, size, show_size(size))


def _of_claims(it: ReviewData) -> Iterator[ShelfFigure]:
    for j in it.claims_report.verdicts if it.claims_report is not None else ():
        named = f'{{{{ claim "{j.claim.what}" }}}}'
        figures = [("claimed", j.claim.figure)]
        figures += [("measured", j.measured.median)] if j.measured is not None else []
        for word, value in figures:
            what = f"{j.claim.label}, {word}"
            yield ShelfFigure(what, j.claim.unit, value, j.claim.shown(value), named)


def _of_steps(it: ReviewData) -> Iterator[ShelfFigure]:
    for r in it.results:
        full = r.conditions.filled_percent
        label = r.step.label + (f", filled to {full} %" if full is not None else "")
        for word, value, sort, show in (
            ("figure", rate_of(r), RATE, show_rate),
            ("iops", r.iops, IOPS, lambda x: f"{significant(x)} IOPS"),
        ):
            named = f'{{{{ {word} "{r.kind}" }}}}' if full is None else ""
            for n, x in enumerate(_ends(value)):
                yield ShelfFigure(label, sort, x, show(x), named if n == 0 else "", end=n > 0)
        for name, ns in (all_latencies_ns(r) or {}).items():
            named = f'{{{{ latency "{r.kind}" }}}}' if full is None else ""
            if ns:
                yield ShelfFigure(f"{label}, {name}", TIME, ns, show_time(ns), named)
        written = long_write_of(r)
        cliff = written.cliff if written is not None else None
        if cliff is not None:
            yield ShelfFigure("the cliff", SIZE, cliff.at_bytes, show_size(cliff.at_bytes), CLIFF)
            yield ShelfFigure(
                "until the cliff", TIME, cliff.at_s * 1e9, show_time(cliff.at_s * 1e9)
            )
            for what, rate in (("before", cliff.before_bytes_s), ("after", cliff.after_bytes_s)):
                yield ShelfFigure(f"{what} the cliff", RATE, rate, show_rate(rate), CLIFF)


CLIFF = "{{ cliff }}"


def _ends(value: Interval) -> list[float]:
    """Return the figure and both ends of its interval."""
    return [value.median, *([value.least, value.most] if value.known else [])]


def held(typed: Sequence[TypedFigure], known: Sequence[ShelfFigure]) -> list[HeldFigure]:
    """Return typed figures beside the nearest of the shelf, without those about other things."""
    found = []
    for one in typed:
        same = [k for k in known if k.sort == one.sort and k.value > 0]
        nearest = min(
            same,
            key=lambda k: (not _is(one, k), k.end, abs(k.value - one.value)),
            default=None,
        )
        if one.sort in (TIME, SIZE) and not _near(one, nearest):
            continue
        found.append(HeldFigure(one, nearest))
    return found


def _near(one: TypedFigure, nearest: ShelfFigure | None) -> bool:
    if nearest is None or one.value <= 0:
        return False
    return abs(math.log(one.value / nearest.value)) <= math.log(NEAR)


@dataclass(frozen=True)
class TypedFiguresAnswer(Answer):
    """Figures of a text that were typed by hand. It is no if one differs from the shelf."""

    schema: ClassVar[str] = "typed-figures"

    drive: str
    figures: tuple[HeldFigure, ...]

    @property
    def differing(self) -> list[HeldFigure]:
        """Return those that differ from the shelf."""
        return [h for h in self.figures if not h.agrees]

    @property
    def status(self) -> int:
        """Return 1 if a figure differs."""
        return 1 if self.differing else 0

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        figures = [
            keyed(h, "agrees", line="typed.line", typed="typed.text", unit="typed.sort")
            | {"value": h.typed.value}
            | {
                "shelf": h.nearest.value if h.nearest else None,
                "what": h.nearest.what if h.nearest else None,
                "placeholder": h.nearest.placeholder or None if h.nearest else None,
            }
            for h in self.figures
        ]
        return {"drive": self.drive, "figures": figures}

    def csv(self) -> Csv:
        """Return a row for each figure."""
        return csv_of(self.data()["figures"], "line", "typed", "agrees", "what", "placeholder")

    def verdict(self) -> Sequence[str]:
        """Return how many figures differ."""
        count, wrong = len(self.figures), len(self.differing)
        if not count:
            return ["no figure in this text was typed by hand"]
        figures = "1 figure" if count == 1 else f"{count} figures"
        if not wrong:
            agree = "agrees" if count == 1 else "agree"
            return [f"{figures} typed by hand {agree} with the shelf now"]
        differ = "differs" if wrong == 1 else "differ"
        return [f"{wrong} of {figures} typed by hand {differ} from the shelf"]

    def tables(self) -> Sequence[Table]:
        """Return the figures that differ."""
        rows = [
            (
                str(h.typed.line),
                h.typed.text,
                in_rate_unit(h.nearest.shown) if h.nearest else "-",
                h.nearest.what if h.nearest else "no such figure",
                h.nearest.placeholder or "-" if h.nearest else "-",
            )
            for h in self.differing
        ]
        header = ["line", "typed", "on the shelf", "of", "stays true"]
        return [Table("Figures that differ", header, rows, right=(0, 1, 2))] if rows else []
