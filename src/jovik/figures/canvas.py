"""What every picture shares: the style, the size in pixels, the small print, saving."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from jovik.errors import Misuse, TargetRefused

ACCENT, INK, QUIET = "#B4451F", "#22262B", "#5B5F66"
DOTS_PER_INCH = 100
FORMS = (".png", ".svg", ".pdf")
STYLE = Path(__file__).with_name("jovik.mplstyle")


def check_out(out: Path) -> None:
    """Refuse a file that no picture can be written to, before anything is drawn.

    Raises
    ------
    Misuse
        The ending is not one of `FORMS`.
    TargetRefused
        Its folder is not there.
    """
    if out.suffix.lower() not in FORMS:
        raise Misuse(f"{out} does not end in {', '.join(FORMS)}", "the ending says which form the picture has")
    if not out.parent.is_dir():
        raise TargetRefused(f"there is no folder {out.parent} to put the picture in")


def figure(size: tuple[int, int]) -> Any:
    """An empty figure of so many pixels, in Jovik's style, without a window."""
    import matplotlib.style

    matplotlib.use("Agg")
    # Names of drives are text; a dollar sign in one is not mathematics.
    matplotlib.rcParams["text.parse_math"] = False
    matplotlib.style.use(STYLE)
    from matplotlib.figure import Figure

    return Figure(figsize=(size[0] / DOTS_PER_INCH, size[1] / DOTS_PER_INCH), dpi=DOTS_PER_INCH)


def small_print(fig: Any, text: str) -> None:
    """The line that keeps a picture honest when it travels alone."""
    fig.text(0.02, 0.022, text, fontsize=9, color=QUIET, va="bottom")


def save(fig: Any, out: Path) -> None:
    """Write the file.

    Raises
    ------
    TargetRefused
        It cannot be written.
    """
    try:
        fig.savefig(out)
    except OSError as error:
        raise TargetRefused(f"{out} cannot be written: {error.strerror}") from None
