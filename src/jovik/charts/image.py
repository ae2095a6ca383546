"""Charts as files: PNG, SVG or PDF, drawn by Matplotlib on a canvas.

Every value, tick and word is the chart's (`jovik.charts.chart`); only the setting is of this file.
"""

from __future__ import annotations

import io
import textwrap
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import Any

import matplotlib.style
from matplotlib.colors import LinearSegmentedColormap, to_rgb
from matplotlib.figure import Figure

from jovik.base.atomic_files import MADE_WITH_JOVIK, write_output
from jovik.base.terminal_text import strip_control
from jovik.charts.canvas import Canvas, Theme
from jovik.charts.chart import BarChart, Chart, HeatMap, Line, LineChart, Panel, View
from jovik.charts.provenance import LONGEST_NAME, truncate

DOTS_PER_INCH = 100
LETTER = 0.6
"""How wide a letter is on average, of the size of its type."""
STYLE = Path(__file__).with_name("jovik.mplstyle")
RIGHT, TOP, BOTTOM = 0.97, 0.83, 0.17
MOST_MARKED = 40
"""Points of a line that each get a mark."""
MOST_ROWS = 32
NAME_HIGH = 0.05
"""How high a name at the end of a line is, of its panel."""
DARKEST = 0.6
"""Share of the colour in the cell of the most: a figure has to be legible on it."""
NARROWEST_BAND = 0.022
COLOURS = {"bad": "bad", "good": "accent", "open": "pale"}


def draw(chart: Chart, out: Path, canvas: Canvas, *, view: int = 0, force: bool = False) -> None:
    """Draw a chart to a file, whole or not at all.

    Parameters
    ----------
    view : int
        Which view of curves that have several.
    force : bool
        If true, replace a file that Jovik did not make.

    Raises
    ------
    OutputError
        The file cannot be written.
    """
    room = canvas.roomy()
    # The look of Jovik's pictures does not stay behind in the style of whoever draws.
    with matplotlib.rc_context(), warnings.catch_warnings():
        # A name in a script that the font does not have is drawn as boxes; a warning of it on
        # the terminal helps nobody.
        warnings.filterwarnings("ignore", message="Glyph .* missing")
        figure = _figure(room)
        _words(figure, chart, room)
        if isinstance(chart, LineChart):
            _curves(figure, chart, chart.views[view], room)
        elif isinstance(chart, HeatMap):
            _cells(figure, chart, room.theme)
        else:
            _bars(figure, chart, room)
        _save(figure, out, room, force=force)


def _figure(canvas: Canvas) -> Figure:
    look = canvas.theme
    matplotlib.style.use(STYLE)
    matplotlib.rcParams.update(
        dict.fromkeys(("figure.facecolor", "axes.facecolor", "savefig.facecolor"), look.paper)
        | dict.fromkeys(("text.color", "axes.labelcolor", "ytick.color"), look.ink)
        | {"axes.edgecolor": look.edge, "xtick.color": look.quiet, "grid.color": look.grid}
        # Names of drives are text; a dollar sign in one is not mathematics.
        | {"text.parse_math": False}
    )
    size = canvas.width / DOTS_PER_INCH, canvas.height / DOTS_PER_INCH
    return Figure(figsize=size, dpi=DOTS_PER_INCH)


def _words(figure: Figure, chart: Chart, canvas: Canvas) -> None:
    """Set heading, line below it and small print: smaller, or on two lines, if necessary."""
    look, about = canvas.theme, chart.about
    for text, y, most, least, bold in (
        (about.heading or chart.title, 0.975, 18.0, 13.0, True),
        (about.below, 0.912, 12.5, 9.0, False),
    ):
        words = strip_control(text)
        # So many letters of this type fit side by side.
        fits = canvas.width * 0.95 / (LETTER * DOTS_PER_INCH / 72) / max(len(words), 1)
        if fits < least:
            letters = canvas.width * 0.95 / (LETTER * DOTS_PER_INCH / 72) / least
            words = "\n".join(textwrap.wrap(words, max(int(letters), 12))[:2])
        figure.text(
            0.025,
            y,
            words,
            fontsize=min(most, max(fits, least)),
            fontweight="bold" if bold else "normal",
            color=look.ink if bold else look.quiet,
            va="top",
            linespacing=1.15,
        )
    small = textwrap.wrap(about.footer or "Jovik", round(canvas.width / 7.4))[:2]
    figure.text(
        0.025,
        0.02,
        strip_control("\n".join(small), keep="\n"),
        fontsize=10,
        color=look.quiet,
        va="bottom",
        linespacing=1.35,
    )


def _save(figure: Figure, out: Path, canvas: Canvas, *, force: bool) -> None:
    form = out.suffix.lower().removeprefix(".")
    key = {"png": "Software", "svg": "Creator", "pdf": "Creator"}.get(form)
    drawn = io.BytesIO()
    about = {key: MADE_WITH_JOVIK.decode()} if key else None
    # A little more than the ratio, so that 639.999 pixels become 640.
    dots = DOTS_PER_INCH * canvas.scale + 1e-6
    figure.savefig(drawn, format=form, metadata=about, dpi=dots)
    write_output(out, drawn.getvalue(), mark=MADE_WITH_JOVIK if key else None, force=force)


# Curves


def _curves(figure: Figure, chart: LineChart, view: View, canvas: Canvas) -> None:
    look, count = canvas.theme, len(view.panels)
    names = [n for n in chart.names if n]
    spots = _ends(view, names, canvas)
    legend = len(names) > 1 and not spots
    rows = -(-len(names) // 2) if legend else 0
    top = TOP - 0.036 * rows
    ticks = max((len(words) for p in view.panels for _, words in p.y.ticks), default=1)
    left = (52 + 9 * ticks) / canvas.width
    grid = figure.add_gridspec(
        count,
        1,
        left=left,
        right=RIGHT,
        top=top,
        bottom=BOTTOM,
        hspace=0.14,
    )
    handles: dict[str, Any] = {}
    for number, panel in enumerate(view.panels):
        ax = figure.add_subplot(grid[number, 0])
        _frame(ax, view, panel, look, last=number == count - 1)
        for line in panel.lines:
            drawn = _line(ax, view, panel, line, chart.names.index(line.name), look)
            handles.setdefault(line.name, drawn)
        if number == 0:
            _remarks(ax, view, panel, canvas)
            for name, spot in spots.items():
                ax.annotate(
                    strip_control(truncate(name, LONGEST_NAME)),
                    (view.x.place(spot.x), panel.y.place(spot.y)),
                    (10, 0) if spot.beside else (-10, 6),
                    textcoords="offset points",
                    ha="left" if spot.beside else "right",
                    va="center" if spot.beside else "bottom",
                    fontsize=12,
                    fontweight="bold",
                    color=handles[name].get_color(),
                    zorder=6,
                )
    if legend:
        figure.legend(
            [handles[n] for n in names],
            [truncate(n, 56) for n in names],
            loc="lower left",
            bbox_to_anchor=(left - 0.005, top + 0.004),
            ncols=2,
            frameon=False,
            fontsize=12,
            labelcolor=look.ink,
            handlelength=3,
        )


@dataclass(frozen=True)
class _Spot:
    """Where a name stands: beside the end of its line, or above its last stretch."""

    x: float
    y: float
    beside: bool


def _ends(view: View, names: list[str], canvas: Canvas) -> dict[str, _Spot]:
    """Return where the name of each line stands, if all have room at the ends of their lines.

    Nothing if a legend is needed: for several panels, or if a line would cross a name.
    """
    if len(view.panels) > 1 or len(names) < 2 or view.notes or view.marks:
        return {}
    panel = view.panels[0]
    drawn = [line for line in panel.lines if line.joined and line.points]
    at = [[(view.x.share(p.x), panel.y.share(p.y)) for p in line.points] for line in drawn]
    crowded = [dot for points in at for dot in _along(points)]
    spots: dict[str, _Spot] = {}
    for line, points in zip(drawn, at, strict=True):
        (x, y), wide = points[-1], 8.4 * len(truncate(line.name, LONGEST_NAME)) / canvas.width
        places = {
            True: (x + 0.012, y - NAME_HIGH / 2, x + 0.012 + wide, y + NAME_HIGH / 2),
            False: (x - 0.012 - wide, y + 0.012, x - 0.012, y + 0.012 + NAME_HIGH),
        }
        for beside, (left, low, right, high) in places.items():
            inside = left >= 0 and right <= 1 and low >= 0 and high <= 1
            if inside and not any(left <= a <= right and low <= b <= high for a, b in crowded):
                spots[line.name] = _Spot(line.points[-1].x, line.points[-1].y, beside)
                # The next name has to leave room for this one.
                steps = [n / 20 for n in range(21)]
                crowded += [
                    (left + n * (right - left), low + m * (high - low))
                    for n in steps
                    for m in steps
                ]
                break
    return spots if set(spots) == set(names) else {}


def _along(points: list[tuple[float, float]]) -> Iterator[tuple[float, float]]:
    """Yield places on a line that are near enough to each other for no name to lie between them."""
    for (a, b), (c, d) in pairwise(points):
        many = max(int(max(abs(c - a), abs(d - b)) * 200), 1)
        yield from ((a + (c - a) * n / many, b + (d - b) * n / many) for n in range(many + 1))


def _frame(ax: Any, view: View, panel: Panel, look: Theme, *, last: bool) -> None:
    """Set axes, ticks, bands and levels."""
    for band in (b for b in view.bands if b.shaded):
        ax.axvspan(band.start, band.end, color=look.grid, alpha=0.55, linewidth=0)
    if panel.usual is not None:
        ax.axhspan(panel.usual.low, panel.usual.high, color=look.grid, alpha=0.6, linewidth=0)
        place = {"xycoords": ("axes fraction", "data"), "textcoords": "offset points"}
        words = strip_control(panel.usual.words)
        ax.annotate(words, (1, panel.usual.low), (-6, 4), ha="right", color=look.quiet, **place)
    if panel.name:
        place = {"xycoords": "axes fraction", "textcoords": "offset points", "va": "top"}
        box = {"facecolor": look.paper, "edgecolor": "none", "pad": 2}
        name = strip_control(truncate(panel.name, LONGEST_NAME))
        ax.annotate(name, (1, 1), (-6, -4), ha="right", fontsize=12, bbox=box, zorder=6, **place)
    for level in panel.levels:
        at = panel.y.place(level.value)
        ax.axhline(at, color=look.edge, linewidth=1.0, linestyle=":")
        if level.words:
            place = {"xycoords": ("axes fraction", "data"), "textcoords": "offset points"}
            ax.annotate(level.words, (1, at), (-6, 3), ha="right", color=look.quiet, **place)
    ax.grid(axis="y", visible=True)
    ax.grid(axis="x", visible=False)
    ax.set_xlim(view.x.low, view.x.high)
    ax.set_ylim(panel.y.low, panel.y.high)
    longest = max((len(words) for _, words in view.x.ticks), default=1)
    every = max(-(-len(view.x.ticks) * (longest + 2) // 110), 1)
    shown = view.x.ticks[::every]
    ax.set_xticks([at for at, _ in shown], [words for _, words in shown] if last else [])
    ax.set_yticks([at for at, _ in panel.y.ticks], [words for _, words in panel.y.ticks])
    ax.tick_params(labelsize=12)
    ax.set_ylabel(panel.y.title, fontsize=13)
    if last:
        ax.set_xlabel(view.x.title, fontsize=13)


def _line(ax: Any, view: View, panel: Panel, line: Line, number: int, look: Theme) -> Any:
    """Draw a line, its marks and its whiskers, and return its entry in the legend."""
    colour, mark = (of[number % len(of)] for of in (look.lines, look.marks))
    dash = look.dashes[number % len(look.dashes)]
    if not line.marked:
        colour, dash = look.ink, "-"
    if line.quiet:
        return None
    at = [(view.x.place(p.x), panel.y.place(p.y), p) for p in line.points]
    few = len(at) <= MOST_MARKED and line.asked and line.marked
    drawn = None
    if line.joined:
        width = 2.6 if not line.marked else 2.2 if few else 1.4
        (drawn,) = ax.plot(
            [x for x, _, p in at], [y for _, y, p in at], color=colour, linewidth=width, ls=dash
        )
    if few or not line.joined:
        small = 9 if few else 5
        for doubtful in (False, True):
            run = [(x, y) for x, y, p in at if p.doubtful == doubtful]
            if run:
                (dots,) = ax.plot(
                    *zip(*run, strict=True),
                    color=colour,
                    marker=mark,
                    markersize=small,
                    linestyle="none",
                    markerfacecolor=look.paper if doubtful else colour,
                    zorder=5,
                    markeredgewidth=2.0 if doubtful else 0.0,
                )
                drawn = drawn or dots
    for x, _, p in at:
        if p.low is not None and p.high is not None and p.high > p.low:
            ends = panel.y.place(p.low), panel.y.place(p.high)
            ax.plot([x, x], ends, color=colour, lw=2.0, marker="_", markersize=10, mew=2, zorder=4)
    return drawn


def _remarks(ax: Any, view: View, panel: Panel, canvas: Canvas) -> None:
    """Write the words of marks, bands and single points."""
    look, width = canvas.theme, view.x.high - view.x.low
    for number, (at, words) in enumerate(view.marks):
        right = view.x.share(at) > 0.55
        ax.axvline(view.x.place(at), color=look.ink, linewidth=1.6, linestyle="--")
        ax.annotate(
            "\n".join(textwrap.wrap(words, 44)),
            (view.x.place(at), 0.97 - 0.1 * number),
            xycoords=("data", "axes fraction"),
            textcoords="offset points",
            xytext=(-10 if right else 10, 0),
            ha="right" if right else "left",
            va="top",
            fontsize=12.5,
            zorder=6,
            bbox={"facecolor": look.paper, "edgecolor": "none", "pad": 3, "alpha": 0.85},
        )
    for band in view.bands:
        if band.words and (band.end - band.start) / (width or 1.0) >= NARROWEST_BAND:
            ax.annotate(
                band.words,
                ((band.start + band.end) / 2, 0.015),
                xycoords=("data", "axes fraction"),
                ha="center",
                fontsize=11,
                color=look.quiet,
            )
    for x, y, words in view.notes:
        right = view.x.share(x) > 0.5
        ax.annotate(
            strip_control(words),
            (view.x.place(x), panel.y.place(y)),
            xytext=(-9 if right else 9, 9),
            textcoords="offset points",
            ha="right" if right else "left",
            fontsize=12,
            color=look.ink,
            zorder=6,
        )


# Bars


def _bars(figure: Figure, chart: BarChart, canvas: Canvas) -> None:
    beside = chart.beside
    side = min(300 / canvas.width, 0.34) if not beside else min(224 / canvas.width, 0.4)
    names = len(chart.names) > 1
    ax = figure.add_axes((side, 0.13, (0.5 if beside else 0.97) - side, 0.71 - 0.04 * names))
    _bar_rows(ax, chart, canvas.theme)
    if chart.line is not None:
        ax.axvline(chart.line[0], color=canvas.theme.ink, linewidth=1.6)
        ax.set_xlabel(f"solid line: {chart.line[1]}", fontsize=12)
    if chart.margin is not None:
        ax.axvline(chart.margin, color=canvas.theme.ink, linewidth=1.2, linestyle=":")
    if names:
        ax.legend(
            *zip(*zip(ax.containers, chart.names, strict=False), strict=True),
            loc="lower left",
            bbox_to_anchor=(0, 1.0),
            ncols=2,
            frameon=False,
            fontsize=12,
            labelcolor=canvas.theme.ink,
        )
    rows = (len(beside) + 1) // 2
    if beside:
        grid = figure.add_gridspec(
            rows,
            2,
            left=0.545,
            right=0.975,
            top=0.84,
            bottom=0.13,
            hspace=0.75,
            wspace=0.16,
        )
    for number, one in enumerate(beside):
        small = figure.add_subplot(grid[number // 2, number % 2])
        _bar_rows(small, one, canvas.theme, small=True)
        title = "\n".join(textwrap.wrap(one.title, max(int(0.2 * canvas.width / 7.6), 16))[:2])
        small.set_title(title, fontsize=9.5, pad=4, loc="left")


def _bar_rows(ax: Any, chart: BarChart, look: Theme, *, small: bool = False) -> None:
    rows = chart.rows[:MOST_ROWS]
    each = max((len(r.bars) for r in rows), default=1)
    high = (0.76 if each > 1 else 0.58) / each
    furthest, letters = 0.0, 0.0
    for n in range(each):
        values, places, colours = [], [], []
        for y, row in enumerate(rows):
            bar = row.bars[n]
            unit = max((max(b.value, b.high or 0.0) for b in row.bars), default=1.0) or 1.0
            scale = 1 / unit if chart.own_scale else 1.0
            limit = chart.cut_at if chart.cut_at is not None else float("inf")
            at = y + (n - (each - 1) / 2) * high
            value, cut = min(bar.value, limit) * scale, bar.value > limit
            values.append(value)
            places.append(at)
            colours.append(_colour(bar.mark, strong=bar.strong, look=look))
            end = value
            if bar.low is not None and bar.high is not None and not cut:
                ends = [min(v, limit) * scale for v in (bar.low, bar.high)]
                ax.plot(ends, [at, at], color=look.ink, lw=1.6, marker="|", ms=8, mew=1.6, zorder=3)
                end = max(end, ends[1])
            if chart.line is not None and end > chart.line[0] * 0.72:
                # The words stand clear of the line.
                end = max(end, chart.line[0])
            furthest, words = max(furthest, end), bar.words + " (bar cut)" * cut
            letters = max(letters, float(len(words)))
            ax.annotate(
                strip_control(words),
                (end, at),
                xytext=(6, 0),
                textcoords="offset points",
                va="center",
                fontsize=9 if small else 11.5 if len(rows) <= 20 else 8,
            )
        ax.barh(places, values, height=high * 0.94, color=colours, zorder=2)
    inches = ax.get_position().width * ax.figure.get_figwidth()
    # Room for the words, which are as wide as they are whatever the scale.
    share = min(letters * (0.062 if small else 0.085) / inches, 0.6)
    ax.set_xlim(0, (furthest or 1.0) / (1 - share) * 1.02)
    ax.set_ylim(len(rows) - 0.4, -0.6)
    ax.set_xticks([])
    ax.spines["bottom"].set_visible(False)
    ax.axvline(0, color=look.ink, linewidth=0.8)
    ax.grid(visible=False)
    between = ", " if len(rows) > 10 else "\n"
    labels = []
    for row in rows:
        below = "\n".join(textwrap.wrap(row.below, 30))
        labels.append(f"{truncate(row.label, 36)}{between}{below}" if below else row.label)
    ax.set_yticks([] if small else range(len(rows)), [] if small else labels)
    size = 12 if len(rows) <= 8 else 10.5 if len(rows) <= 14 else 8
    one_strong = not all(r.bars[0].strong for r in rows)
    for label, row in zip(ax.get_yticklabels(), rows, strict=False):
        strong = one_strong and each == 1 and row.bars[0].strong
        label.set(fontsize=size, fontweight="bold" if strong else "normal")


def _colour(mark: str, *, strong: bool, look: Theme) -> str:
    colour: str = getattr(look, COLOURS.get(mark, "accent" if strong else "pale"))
    return colour


# Heat maps


def _cells(figure: Figure, chart: HeatMap, look: Theme) -> None:
    ax = figure.add_axes((0.11, BOTTOM, 0.865, 0.68))
    shades = LinearSegmentedColormap.from_list("cells", [look.paper, look.lines[1]])
    for row, (_, cells) in enumerate(chart.rows):
        for column, cell in enumerate(cells):
            if cell is None:
                continue
            shade = to_rgb(shades(cell.shade * DARKEST))
            ax.add_patch(matplotlib.patches.Rectangle((column - 0.5, row - 0.5), 1, 1, color=shade))
            # Ink or paper, whichever stands out from the cell (W3C, relative luminance, WCAG 2.2).
            light = _contrast(shade, to_rgb(look.paper)) > _contrast(shade, to_rgb(look.ink))
            ax.text(
                column,
                row,
                cell.words,
                ha="center",
                va="center",
                fontsize=13,
                color=look.paper if light else look.ink,
            )
    ax.set_xlim(-0.5, len(chart.columns) - 0.5)
    ax.set_ylim(len(chart.rows) - 0.5, -0.5)
    ax.set_xticks(range(len(chart.columns)), chart.columns, fontsize=13)
    ax.set_yticks(range(len(chart.rows)), [name for name, _ in chart.rows], fontsize=13)
    ax.set_xlabel(chart.across, fontsize=13)
    ax.grid(visible=False)
    ax.spines[:].set_visible(False)
    ax.tick_params(length=0)


def _contrast(one: tuple[float, ...], two: tuple[float, ...]) -> float:
    def luminance(colour: tuple[float, ...]) -> float:
        linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in colour]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    bright, dark = sorted((luminance(one), luminance(two)), reverse=True)
    return (bright + 0.05) / (dark + 0.05)
