"""Charts of a page as SVG: legible without script and in print, answering if there is one.

Every chart is drawn in a wide and a narrow setting, of which the style sheet shows the one that
fits, so that its words keep their size. Colours, dashes and sizes are the style sheet's; what the
script needs to answer with is in attributes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from html import escape

from jovik.base.terminal_text import isolated
from jovik.charts.chart import (
    Axis,
    Band,
    BarChart,
    BarRow,
    Chart,
    HeatMap,
    Line,
    LineChart,
    Panel,
    View,
)


@dataclass(frozen=True)
class Setting:
    """How wide a chart is set, in pixels of its own."""

    name: str
    width: int
    height: int
    left: int
    label: int
    letter: float
    ticks: int


WIDE = Setting("wide", 960, 400, 76, 300, 7.3, 12)
NARROW = Setting("narrow", 380, 320, 56, 0, 7.0, 5)
RIGHT, TOP, BOTTOM = 16, 26, 50
BAR, GAP, GROUP = 18, 4, 14
LOWEST = 100
"""The least height of a panel, with the gap below it."""
LINE_HEIGHT = 18
SHADES = 6


def chart_svg(
    chart: Chart,
    name: str,
    alt: str,
    title: Callable[[str], str] | None = None,
    keys_label: str = "Lines of this chart",
) -> str:
    """Return a chart as markup: two drawings of it, and its names to be switched on and off.

    Parameters
    ----------
    name : str
        Its name among the charts of a page.
    alt : str
        Its content in words.
    title : callable, optional
        Returns the markup of its title, in which names of drives may need care.
    keys_label : str
        What its names are to a reader who does not see them.
    """
    drawn = "".join(_drawing(chart, setting, name, alt) for setting in (WIDE, NARROW))
    names = chart.names
    keys = ""
    if len(names) > 1:
        looks = _looks_of(chart)
        items = "".join(
            f'<li class="{looks[n]}" data-line="{n}">{_text(x)}</li>' for n, x in enumerate(names)
        )
        keys = f'<ul class="keys" aria-label="{_text(keys_label)}">{items}</ul>'
    views = [v.name for v in chart.views] if isinstance(chart, LineChart) else []
    more = f' data-views="{_text("|".join(views))}"' if len(views) > 1 else ""
    more += " data-zooms" if isinstance(chart, LineChart) and chart.zooms else ""
    return (
        f'<figure class="chart" id="chart-{name}"{more}>'
        f"<figcaption>{(title or _text)(chart.title)}</figcaption>{keys}{drawn}"
        f'<output class="said" aria-live="polite"></output></figure>'
    )


def _looks_of(chart: Chart) -> list[str]:
    """Return the class of each name's mark: bars are strong or pale, lines have six colours."""
    if isinstance(chart, BarChart) and chart.rows:
        first = chart.rows[0].bars
        return ["strong" if bar.strong else "pale" for bar in first]
    return [f"k{n % 6}" for n in range(len(chart.names))]


def _drawing(chart: Chart, setting: Setting, name: str, alt: str) -> str:
    if isinstance(chart, LineChart):
        panels = max(len(v.panels) for v in chart.views)
        setting = replace(setting, height=max(setting.height, TOP + BOTTOM + LOWEST * panels))
        body, height = _line_body(chart, setting), setting.height
    elif isinstance(chart, HeatMap):
        body, height = _heat_body(chart, setting)
    else:
        body, height = _bar_body(chart, setting)
    title = f"{name}-{setting.name}"
    return (
        f'<svg class="{setting.name}" viewBox="0 0 {setting.width} {height}" role="img" '
        f'aria-labelledby="{title}"><title id="{title}">{_text(alt)}</title>{body}</svg>'
    )


# Curves


def _line_body(chart: LineChart, setting: Setting) -> str:
    return "".join(
        f'<g class="view{"" if n == 0 else " off"}" data-view="{_text(v.name)}">'
        f"{_view(v, chart.names, setting)}</g>"
        for n, v in enumerate(chart.views)
    )


def _view(view: View, names: Sequence[str], setting: Setting) -> str:
    inner = setting.height - TOP - BOTTOM
    count = len(view.panels)
    each = (inner - GROUP * 2 * (count - 1)) / count
    width = setting.width - setting.left - RIGHT
    parts = []
    for n, panel in enumerate(view.panels):
        top = TOP + n * (each + GROUP * 2)
        parts.append(_panel(view, panel, names, setting, (top, each, width)))
    bottom = setting.height - BOTTOM
    parts.append(_x_axis(view.x, setting, bottom, width))
    return "".join(parts)


def _panel(
    view: View,
    panel: Panel,
    names: Sequence[str],
    setting: Setting,
    place: tuple[float, float, float],
) -> str:
    top, height, width = place
    left = setting.left
    parts = [f'<text class="title" x="{left}" y="{top - 9:.0f}">{_text(panel.y.title)}</text>']
    most = max(int(height // 26), 2)
    for at, words in _some(panel.y.ticks, most):
        y = top + height * (1 - _tick_share(panel.y, at))
        parts.append(f'<path class="grid" d="M{left} {y:.1f}h{width:.0f}"/>')
        parts.append(f'<text class="tick end" x="{left - 7}" y="{y + 4:.1f}">{_text(words)}</text>')
    inside = [_band(band, view.x) for band in view.bands if band.shaded]
    if panel.usual is not None:
        high, low = (1000 * (1 - panel.y.share(v)) for v in (panel.usual.high, panel.usual.low))
        inside.append(
            f'<rect class="band" x="0" y="{high:.1f}" width="1000" height="{low - high:.1f}"/>'
        )
    for level in panel.levels:
        y = 1000 * (1 - panel.y.share(level.value))
        inside.append(f'<path class="level" d="M0 {y:.1f}H1000"/>')
    for line in panel.lines:
        inside.append(_line(line, names.index(line.name), view.x, panel.y))
    for at, words in view.marks:
        x = 1000 * view.x.share(at)
        inside.append(
            f'<path class="mark" d="M{x:.1f} 0V1000"><title>{_text(words)}</title></path>'
        )
    parts.append(
        f'<svg class="plot" x="{left}" y="{top:.1f}" width="{width:.0f}" height="{height:.1f}" '
        f'viewBox="0 0 1000 1000" preserveAspectRatio="none">{"".join(inside)}</svg>'
    )
    for level in (x for x in panel.levels if x.words):
        y, end = top + height * (1 - panel.y.share(level.value)) - 4, left + width - 4
        words = _text(level.words)
        parts.append(f'<text class="value below end" x="{end:.0f}" y="{y:.1f}">{words}</text>')
    said = [(panel.name, top + 14)] if panel.name else []
    if panel.usual is not None:
        at = top + height * (1 - panel.y.share(panel.usual.low)) - 4
        said.append((panel.usual.words, at))
    for words, at in said:
        parts.append(
            f'<text class="value end" x="{left + width - 4:.0f}" y="{at:.1f}">{_text(words)}</text>'
        )
    for line in panel.lines:
        parts.append(_dots(line, names.index(line.name), view.x, panel.y, setting, place))
    if panel is view.panels[0]:
        parts += _mark_words(view, setting, place)
    return "".join(parts)


def _band(band: Band, x: Axis) -> str:
    start, end = 1000 * x.share(band.start), 1000 * x.share(band.end)
    return f'<rect class="band" x="{start:.1f}" y="0" width="{end - start:.1f}" height="1000"/>'


def _mark_words(view: View, setting: Setting, place: tuple[float, float, float]) -> Iterator[str]:
    """Yield words of marks, in the room that there is."""
    top, _, width = place
    for n, (at, words) in enumerate(view.marks):
        share = view.x.share(at)
        x = setting.left + share * width
        side, x = ("end", x - 6) if share > 0.55 else ("", x + 6)
        room = int((share if side else 1 - share) * width / setting.letter)
        short = words if len(words) <= room else words[: max(room - 1, 0)] + "…"
        y = top + 16 + 17 * n
        yield f'<text class="word value {side}" x="{x:.1f}" y="{y:.0f}">{_text(short)}</text>'


def _line(line: Line, number: int, x: Axis, y: Axis) -> str:
    places = [(1000 * x.share(p.x), 1000 * (1 - y.share(p.y))) for p in line.points]
    parts = [f'<g class="line k{number % 6}" data-line="{number}">']
    if line.joined and places:
        d = "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in places)
        parts.append(f'<path class="curve" d="{d}"/>')
    for p in line.points:
        if p.low is not None and p.high is not None:
            at = 1000 * x.share(p.x)
            low, high = (1000 * (1 - y.share(v)) for v in (p.low, p.high))
            parts.append(f'<path class="reach" d="M{at:.1f} {low:.1f}V{high:.1f}"/>')
    return "".join(parts) + "</g>"


def _dots(
    line: Line,
    number: int,
    x: Axis,
    y: Axis,
    setting: Setting,
    place: tuple[float, float, float],
) -> str:
    """Return points that respond. Those of a dense line are invisible until then."""
    if not line.asked and line.joined:
        return ""
    top, height, width = place
    dense = len(line.points) > width / 12
    dots = []
    for p in line.points:
        share = x.share(p.x)
        cx, cy = setting.left + width * share, top + height * (1 - y.share(p.y))
        kind = "dot faint" if line.quiet or (dense and line.joined) else "dot"
        kind += " hollow" if p.doubtful else ""
        words = f"{line.name}: {p.said}" if line.name else p.said
        dots.append(
            f'<circle class="{kind}" cx="{cx:.1f}" cy="{cy:.1f}" r="{3 if dense else 4.5}" '
            f'data-x="{share:.4f}" data-said="{_text(words)}"/>'
        )
    return f'<g class="dots k{number % 6}" data-line="{number}">{"".join(dots)}</g>'


def _x_axis(axis: Axis, setting: Setting, bottom: float, width: float) -> str:
    left = setting.left
    parts = [f'<path class="base" d="M{left} {bottom}h{width:.0f}"/>']
    for at, words in _some(axis.ticks, _room(axis, setting, width)):
        share = _tick_share(axis, at)
        x = left + width * share
        parts.append(
            f'<text class="tick mid" x="{x:.1f}" y="{bottom + 19:.0f}" data-x="{share:.4f}">'
            f"{_text(words)}</text>"
        )
    parts.append(
        f'<text class="title mid" x="{left + width / 2:.0f}" y="{bottom + 41:.0f}">'
        f"{_text(axis.title)}</text>"
    )
    return "".join(parts)


def _room(axis: Axis, setting: Setting, width: float) -> int:
    """Return how many words fit side by side."""
    longest = max((len(words) for _, words in axis.ticks), default=1)
    return max(int(width / (longest * setting.letter + 14)), 2)


def _some(ticks: Sequence[tuple[float, str]], most: int) -> list[tuple[float, str]]:
    """Return every one, or every second, third... of them, so that they fit."""
    every = -(-len(ticks) // most)
    return list(ticks[:: max(every, 1)])


def _tick_share(axis: Axis, at: float) -> float:
    width = axis.high - axis.low
    return (at - axis.low) / width if width > 0 else 0.0


# Heat maps


def _heat_body(chart: HeatMap, setting: Setting) -> tuple[str, int]:
    """Cells with their values in them, the darker the more."""
    left, high = (110, 34) if setting.label else (64, 30)
    wide = (setting.width - left - 4) / max(len(chart.columns), 1)
    parts = []
    for row, (name, cells) in enumerate(chart.rows):
        y = row * (high + 3)
        parts.append(f'<text class="tick end" x="{left - 8}" y="{y + 20}">{_text(name)}</text>')
        for column, cell in enumerate(cells):
            if cell is None:
                continue
            x = left + column * wide
            shade = min(max(round(cell.shade * SHADES), 0), SHADES - 1)
            words = cell.words if len(cell.words) * setting.letter < wide else cell.words.split()[0]
            parts.append(
                f'<g class="cell" data-line="0" data-said="{_text(cell.said)}">'
                f'<rect class="shade{shade}" x="{x:.1f}" y="{y}" width="{wide - 3:.1f}" '
                f'height="{high}"/><text class="mid in{shade}" x="{x + wide / 2 - 1:.1f}" '
                f'y="{y + 21}">{_text(words)}</text></g>'
            )
    bottom = len(chart.rows) * (high + 3)
    for column, name in enumerate(chart.columns):
        x = left + (column + 0.5) * wide
        parts.append(f'<text class="tick mid" x="{x:.1f}" y="{bottom + 15}">{_text(name)}</text>')
    middle = left + (setting.width - left) / 2
    parts.append(
        f'<text class="title mid" x="{middle:.0f}" y="{bottom + 36}">{_text(chart.across)}</text>'
    )
    return "".join(parts), bottom + 44


# Bars


def _bar_body(chart: BarChart, setting: Setting) -> tuple[str, int]:
    """Return rows of bars: words beside them if there is room, else above."""
    words_width = (
        max((len(b.words) for r in chart.rows for b in r.bars), default=0) * setting.letter
    )
    left = setting.label
    width = setting.width - left - RIGHT - words_width
    y, parts = 30.0 if chart.line else 8.0, []
    first = y
    for row in chart.rows:
        drawn, used = _bar_row(chart, row, setting, y, left, width)
        parts.append(drawn)
        y += used + GROUP
    if chart.line is not None:
        x = left + width * chart.line[0] / chart.top
        side, at = ("end", x + 4) if x > setting.width * 0.6 else ("mid", x)
        parts.append(f'<path class="held" d="M{x:.1f} {first - 6:.0f}V{y - GROUP / 2:.0f}"/>')
        parts.append(f'<text class="tick {side}" x="{at:.1f}" y="16">{_text(chart.line[1])}</text>')
    return "".join(parts), int(y + 4)


def _bar_row(
    chart: BarChart, row: BarRow, setting: Setting, y: float, left: float, width: float
) -> tuple[str, float]:
    parts, used = [], 0.0
    beside = setting.label > 0
    room = int((setting.label - 12) / setting.letter) if beside else 46
    for n, words in enumerate(w for w in (row.label, row.below) if w):
        kind = "label" if n == 0 else "below"
        short = words if len(words) <= room else words[: room - 1] + "…"
        x, base = (left - 10, y + 14 + 16 * n) if beside else (0.0, y + 13)
        side = " end" if beside else ""
        full = f"<title>{_text(words)}</title>" if short != words else ""
        parts.append(
            f'<text class="{kind}{side}" x="{x:.0f}" y="{base:.0f}">{full}{_text(short)}</text>'
        )
        if not beside:
            y, used = y + LINE_HEIGHT, used + LINE_HEIGHT
    top = max((max(b.value, b.high or 0.0) for b in row.bars), default=1.0)
    scale = width / ((top if chart.own_scale else chart.top) or 1.0)
    bars = 0.0
    for n, bar in enumerate(row.bars):
        at = y + n * (BAR + GAP)
        length = max(bar.value * scale, 1.0)
        kind = f"bar {'strong' if bar.strong else 'pale'} {bar.mark}".strip()
        parts.append(f'<g class="row" data-line="{n}" data-said="{_text(bar.said)}">')
        parts.append(
            f'<rect class="{kind}" x="{left}" y="{at:.1f}" width="{length:.1f}" height="{BAR}"/>'
        )
        end = bar.value
        if bar.low is not None and bar.high is not None:
            low, high = left + bar.low * scale, left + bar.high * scale
            middle = at + BAR / 2
            parts.append(
                f'<path class="reach" d="M{low:.1f} {middle}H{high:.1f}M{low:.1f} {middle - 4}v8'
                f'M{high:.1f} {middle - 4}v8"/>'
            )
            end = max(end, bar.high)
        parts.append(
            f'<text class="value" x="{left + end * scale + 7:.1f}" y="{at + 13.5:.1f}">'
            f"{_text(bar.words)}</text></g>"
        )
        bars += BAR + GAP
    lines = 16 * sum(1 for w in (row.label, row.below) if w) if beside else 0
    return "".join(parts), used + max(bars, lines)


def _text(words: str) -> str:
    return escape(isolated(words), quote=True)
