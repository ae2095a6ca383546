"""A chart as plain data: lines, bars or a heat map, and the text of each point.

The builders in this package make them, `jovik.charts.svg` draws them for a page, and
`jovik.charts.image` for a file.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

WANTED_TICKS = 6


@dataclass(frozen=True)
class About:
    """The words around a chart that travels alone, as a picture.

    `heading` and `below` stand above it, `footer` is its small print, and `alt` says what it shows
    to a reader who does not see it.
    """

    heading: str = ""
    below: str = ""
    footer: str = ""
    alt: str = ""


@dataclass(frozen=True)
class Axis:
    """A numeric axis: its title, its ends, and the places that carry words.

    On a logarithmic one, places are logarithms to the base of ten.
    """

    title: str
    low: float
    high: float
    ticks: tuple[tuple[float, str], ...]
    log: bool = False

    def place(self, value: float) -> float:
        """Return where a value lies on the axis, in the units of `low`, `high` and `ticks`."""
        return math.log10(max(value, 1e-300)) if self.log else value

    def share(self, value: float) -> float:
        """Return the position of a value between the ends, from 0 to 1."""
        at = self.place(value)
        width = self.high - self.low
        return min(max((at - self.low) / width, 0.0), 1.0) if width > 0 else 0.0


@dataclass(frozen=True)
class Point:
    """A point with the ends of its interval, if it has one, and its value in words.

    `doubtful` is one that is not simply the drive's.
    """

    x: float
    y: float
    said: str
    low: float | None = None
    high: float | None = None
    doubtful: bool = False


@dataclass(frozen=True)
class Line:
    """Points that belong together.

    `asked` says whether hovering answers for it: a line of a thousand points is drawn by all, and
    asked by fewer. `joined` says whether its points are joined, `quiet` whether they are not seen
    before they are asked, `marked` whether a picture draws a mark at each.
    """

    name: str
    points: tuple[Point, ...]
    asked: bool = True
    joined: bool = True
    quiet: bool = False
    marked: bool = True


@dataclass(frozen=True)
class Reference:
    """A reference value for lines, with a label unless it is obvious."""

    value: float
    words: str = ""


@dataclass(frozen=True)
class UsualRange:
    """A range of values that is usual, with its label."""

    low: float
    high: float
    words: str


@dataclass(frozen=True)
class Panel:
    """Lines over one axis of values. A view may have several panels, one below the other.

    `levels` are values that the lines are compared with, and `usual` is a range of them. `name` is
    that of the drive, if each panel is of another one.
    """

    y: Axis
    lines: tuple[Line, ...]
    levels: tuple[Reference, ...] = ()
    usual: UsualRange | None = None
    name: str = ""


@dataclass(frozen=True)
class Band:
    """A stretch of the horizontal axis, such as a step of a run, with a word if it has room."""

    start: float
    end: float
    words: str = ""
    shaded: bool = True


@dataclass(frozen=True)
class View:
    """One way to look at it, such as over time or over bytes.

    `marks` are places of the horizontal axis that are worth a word. `notes` are words beside points
    of the first panel, in a picture.
    """

    name: str
    x: Axis
    panels: tuple[Panel, ...]
    marks: tuple[tuple[float, str], ...] = ()
    bands: tuple[Band, ...] = ()
    notes: tuple[tuple[float, float, str], ...] = ()


@dataclass(frozen=True)
class LineChart:
    """Curves. The first view is shown first."""

    title: str
    views: tuple[View, ...]
    zooms: bool = False

    about: About = About()

    @property
    def names(self) -> tuple[str, ...]:
        """Return the names of its lines, in the order of their colours."""
        every = [x.name for v in self.views for p in v.panels for x in p.lines]
        return tuple(dict.fromkeys(every))


@dataclass(frozen=True)
class Bar:
    """A bar from zero to its value, in the unit of the axis, with its value in words.

    `mark` is a second way to tell it: ``good``, ``bad``, ``open`` or empty.
    """

    value: float
    words: str
    said: str
    low: float | None = None
    high: float | None = None
    mark: str = ""
    strong: bool = True


@dataclass(frozen=True)
class BarRow:
    """The label of a row, a second line for it, and its bars, one for each name of the chart."""

    label: str
    bars: tuple[Bar, ...]
    below: str = ""


@dataclass(frozen=True)
class BarChart:
    """Rows of bars. `line` is a reference value, with its label.

    `own_scale` draws each row to its own largest value. `margin` is a second, dotted line. A
    picture cuts bars beyond `cut_at`, and draws the charts `beside` it: other quantities of the
    same rows.
    """

    title: str
    rows: tuple[BarRow, ...]
    names: tuple[str, ...] = ()
    line: tuple[float, str] | None = None
    own_scale: bool = False
    margin: float | None = None
    cut_at: float | None = None
    beside: tuple[BarChart, ...] = ()
    about: About = About()

    @property
    def top(self) -> float:
        """Return the largest value that is drawn."""
        ends = [max(b.value, b.high or 0.0) for r in self.rows for b in r.bars]
        return max([*ends, self.line[0] if self.line else 0.0, 1e-9])


@dataclass(frozen=True)
class Cell:
    """A cell of a heat map: its darkness (0 to 1), its value, and its text."""

    shade: float
    words: str
    said: str


@dataclass(frozen=True)
class HeatMap:
    """Values over rows and columns. The cells contain the values, so that colour is optional."""

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, tuple[Cell | None, ...]], ...]
    across: str

    names: tuple[str, ...] = ()
    about: About = About()


Chart = LineChart | BarChart | HeatMap


def from_zero(title: str, values: Sequence[float]) -> Axis:
    """Return an axis from zero to a little above the largest value, with round numbers on it."""
    top = max([*values, 1e-12]) * 1.06
    step = _round_step(top / WANTED_TICKS)
    count = int(top / step) + 1
    ticks = tuple((n * step, _number(n * step, step)) for n in range(count))
    return Axis(title, 0.0, top, ticks)


def between(title: str, low: float, high: float) -> Axis:
    """Return an axis between two values, with round numbers on it."""
    if high <= low:
        high = low + 1.0
    step = _round_step((high - low) / WANTED_TICKS)
    first = math.ceil(low / step)
    ticks = [(n * step, _number(n * step, step)) for n in range(first, int(high // step) + 1)]
    return Axis(title, low, high, tuple(ticks))


def places(title: str, values: Sequence[float], words: Sequence[str]) -> Axis:
    """Return an axis with a word at each of these places, and some room beyond the outer two."""
    low, high = min(values), max(values)
    room = (high - low) * 0.04 or 0.5
    return Axis(title, low - room, high + room, tuple(zip(values, words, strict=True)))


def decades(title: str, values: Sequence[float], words: Sequence[str]) -> Axis:
    """Return a logarithmic axis over positive values. `words` label the powers of ten.

    Parameters
    ----------
    words : sequence of str
        Of each power from ``floor(log10(min))`` to ``ceil(log10(max))``.
    """
    low, high = _powers(values)
    ticks = tuple(zip(map(float, range(low, high + 1)), words, strict=True))
    return Axis(title, float(low), float(high), ticks, log=True)


def powers_of_ten(values: Sequence[float]) -> list[float]:
    """Return the powers of ten that `decades` marks."""
    low, high = _powers(values)
    return [10.0**n for n in range(low, high + 1)]


def _powers(values: Sequence[float]) -> tuple[int, int]:
    good = [v for v in values if v > 0] or [1.0]
    low, high = math.floor(math.log10(min(good))), math.ceil(math.log10(max(good)))
    return low, max(high, low + 1)


def _round_step(rough: float) -> float:
    """1, 2 or 5 times a power of ten, not below `rough`."""
    power = 10.0 ** math.floor(math.log10(rough)) if rough > 0 else 1.0
    return next(m * power for m in (1, 2, 5, 10) if m * power >= rough * 0.999)


def _number(value: float, step: float) -> str:
    digits = max(0, -math.floor(math.log10(step) + 1e-9)) if step < 1 else 0
    return f"{value:,.{digits}f}"
