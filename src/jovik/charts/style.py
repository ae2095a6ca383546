"""What every picture shares.

The look in light and dark, the size in pixels, the small print, saving.
"""

from __future__ import annotations

import contextlib
import io
import textwrap
from collections.abc import Iterator, Sequence
from contextvars import ContextVar
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jovik.base.atomic_files import MADE, refuse_foreign, write_output
from jovik.base.errors import OutputError, UsageError
from jovik.base.interval import Interval
from jovik.base.sanitize import strip_control
from jovik.base.step_result import StepResult

DOTS_PER_INCH = 100
LETTER = 0.6
"""How wide a letter is on average, of the size of its type."""
_scale: ContextVar[float] = ContextVar("scale", default=1.0)
_force: ContextVar[bool] = ContextVar("force", default=False)
FORMS = (".png", ".svg", ".pdf")
STYLE = Path(__file__).with_name("jovik.mplstyle")
MOST_DRIVES = 6
"""More lines than this cannot be told apart."""


@dataclass(frozen=True)
class Theme:
    """The colours of a theme.

    `lines` are told apart by the colour-blind too (after Okabe and Ito, "Color Universal Design",
    2008), and each has a mark and a dash of its own for who sees none of them.
    """

    paper: str
    ink: str
    quiet: str
    grid: str
    edge: str
    accent: str
    pale: str
    lines: tuple[str, ...]
    marks: tuple[str, ...] = ("o", "s", "^", "D", "v", "P")
    dashes: tuple[Any, ...] = ("-", "--", "-.", ":", (0, (5, 1, 1, 1)), (0, (3, 1)))


LIGHT = Theme(
    "#FBF8F2",
    "#22262B",
    "#5B5F66",
    "#E4DED1",
    "#9A9488",
    "#B4451F",
    "#B9C2C6",
    ("#B4451F", "#1F6F8B", "#2F7D4A", "#8A5BA6", "#A07400", "#4B4B4B"),
)
DARK = Theme(
    "#1B1E22",
    "#ECE7DC",
    "#A9A79F",
    "#34383E",
    "#6F7277",
    "#F08A5D",
    "#56606A",
    ("#F08A5D", "#6EC1E4", "#8FD19E", "#CDA7E0", "#F2C14E", "#D0D0D0"),
)
THEMES = {"light": LIGHT, "dark": DARK}
QUIET = LIGHT.quiet


@contextlib.contextmanager
def drawing_to(out: Path, *, force: bool = False) -> Iterator[None]:
    """Check the file of a picture before anything is drawn, and draw it while this lasts.

    Parameters
    ----------
    force : bool
        If true, `save` replaces a file that Jovik did not make.

    Raises
    ------
    UsageError
        The ending is not one of `FORMS`, or Jovik did not make the file.
    OutputError
        Its folder does not exist.
    """
    if out.suffix.lower() not in FORMS:
        raise UsageError(
            f"{out} does not end in {', '.join(FORMS)}",
            "the ending says which form the picture has",
        )
    if not out.parent.is_dir():
        raise OutputError(f"there is no folder {out.parent} to put the picture in")
    refuse_foreign(out, MADE, force=force)
    before = _force.set(force)
    try:
        yield
    finally:
        _force.reset(before)


def figure(size: tuple[int, int], look: Theme = LIGHT) -> Any:
    """An empty figure of so many pixels, in Jovik's style, without a window."""
    import matplotlib.style

    matplotlib.style.use(STYLE)
    colours = {
        "figure.facecolor": look.paper,
        "axes.facecolor": look.paper,
        "savefig.facecolor": look.paper,
        "text.color": look.ink,
        "axes.labelcolor": look.ink,
        "axes.edgecolor": look.edge,
        "xtick.color": look.quiet,
        "ytick.color": look.ink,
        "grid.color": look.grid,
        # Names of drives are text; a dollar sign in one is not mathematics.
        "text.parse_math": False,
    }
    matplotlib.rcParams.update(colours)
    from matplotlib.figure import Figure

    return Figure(figsize=(size[0] / DOTS_PER_INCH, size[1] / DOTS_PER_INCH), dpi=DOTS_PER_INCH)


def titled(size: tuple[int, int], look: Theme, title: str, below: str) -> tuple[Any, Any]:
    """A figure with a title, a line below it, and one pair of axes with a grid along the values."""
    fig = figure(size, look)
    head(fig, size, look, title, below)
    ax = fig.add_axes((0.085, 0.17, 0.885, 0.66))
    ax.grid(axis="y", visible=True)
    ax.grid(axis="x", visible=False)
    ax.tick_params(labelsize=12)
    ax.xaxis.label.set_size(13)
    ax.yaxis.label.set_size(13)
    return fig, ax


def head(fig: Any, size: tuple[int, int], look: Theme, title: str, below: str) -> None:
    """A title and a line below it, both whole: in smaller type, or on two lines, where need be."""
    lines = ((title, 0.975, 18.0, 13.0, True), (below, 0.912, 12.5, 9.0, False))
    for text, y, most, least, bold in lines:
        words = strip_control(text)
        # So many letters of this type fit side by side.
        room = size[0] * 0.95 / (LETTER * DOTS_PER_INCH / 72)
        fits = room / max(len(words), 1)
        if fits < least:
            words = "\n".join(textwrap.wrap(words, max(int(room / least), 12))[:2])
            fits = least
        fig.text(
            0.025,
            y,
            words,
            fontsize=min(most, max(fits, least)),
            fontweight="bold" if bold else "normal",
            color=look.ink if bold else look.quiet,
            va="top",
            linespacing=1.15,
        )


@contextlib.contextmanager
def at_scale(scale: float) -> Iterator[None]:
    """Save pictures with so many times the dots while this lasts."""
    before = _scale.set(_scale.get() * scale)
    try:
        yield
    finally:
        _scale.reset(before)


def small_print(fig: Any, text: str, colour: str = QUIET) -> None:
    """The lines that keep a picture honest when it travels alone."""
    wide = round(fig.get_figwidth() * DOTS_PER_INCH / 7.4)
    fig.text(
        0.025,
        0.02,
        strip_control("\n".join(textwrap.wrap(text, wide)[:2]), keep="\n"),
        fontsize=10,
        color=colour,
        va="bottom",
        linespacing=1.35,
    )


def provenance(results: Sequence[StepResult], *, units: bool = True) -> str:
    """Samples, passes, conditions and date of the results, for the footer."""
    if not results:
        return ""
    samples = sorted({r.conditions.unit for r in results if r.conditions.unit and units})
    passes = sorted({len(r.passes) for r in results})
    spread = f"{passes[0]}" if len(passes) == 1 else f"{passes[0]} to {passes[-1]}"
    engines = sorted({r.conditions.engine.replace("model", "simulated") for r in results})
    direct = sorted({"direct" if r.conditions.direct else "through the cache" for r in results})
    rigs = sorted({r.conditions.rig for r in results if r.conditions.rig})
    links = sorted({r.conditions.link for r in results if r.conditions.link})
    days = sorted({r.started[:10] for r in results if r.started})
    parts = [
        ", ".join(samples),
        f"{spread} {'pass' if spread == '1' else 'passes'}",
        f"engine: {', '.join(engines)}, {' and '.join(direct)}",
        f"rig: {', '.join(rigs)}" if rigs else "",
        f"link: {', '.join(links)}" if links else "",
        (days[0] if len(days) == 1 else f"{days[0]} to {days[-1]}") if days else "",
        "Jovik",
    ]
    return "; ".join(p for p in parts if p)


def error_bars(
    ax: Any, value: Interval, at: float, colour: str, *, across: bool = False, width: float = 2.0
) -> None:
    """The 95 % interval of one value, as a whisker with ends; nothing where one pass gave none."""
    if value.low is None or value.high is None or value.high <= value.low:
        return
    reach = [[value.median - value.low], [value.high - value.median]]
    which = {"xerr": reach} if across else {"yerr": reach}
    place = (value.median, at) if across else (at, value.median)
    ax.errorbar(
        *place,
        **which,
        fmt="none",
        ecolor=colour,
        elinewidth=width,
        capsize=5,
        capthick=width,
        zorder=4,
    )


def legend(ax: Any, look: Theme, **more: Any) -> None:
    """A legend without a box."""
    ax.legend(frameon=False, fontsize=12, labelcolor=look.ink, handlelength=3, **more)


def truncate(name: str, most: int = 24) -> str:
    """A drive's name, cut where it would not fit, without what a renderer would obey."""
    name = strip_control(name)
    return name if len(name) <= most else name[: most - 1] + "…"


def save(fig: Any, out: Path) -> None:
    """Write the file, whole or not at all.

    Raises
    ------
    OutputError
        It cannot be written.
    """
    import warnings

    form = out.suffix.lower().removeprefix(".")
    key = {"png": "Software", "svg": "Creator", "pdf": "Creator"}.get(form)
    drawn = io.BytesIO()
    with warnings.catch_warnings():
        # A name in a script that the font does not have is drawn as boxes; a warning of it on
        # the terminal helps nobody.
        warnings.filterwarnings("ignore", message="Glyph .* missing")
        about = {key: MADE.decode()} if key else None
        fig.savefig(drawn, format=form, metadata=about, dpi=DOTS_PER_INCH * _scale.get())
    mark = MADE if key else None
    write_output(out, drawn.getvalue(), mark=mark, force=_force.get())
