"""The canvas of a picture: its size in pixels, its theme, and the file."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jovik.base.atomic_files import MADE_WITH_JOVIK, refuse_foreign
from jovik.base.errors import OutputError, UsageError

FORMS = (".png", ".svg", ".pdf")
LEAST_WIDTH = 960
"""Pixels that the words of a picture need side by side."""
MOST_DRIVES = 6
"""More lines than this are indistinguishable."""


@dataclass(frozen=True)
class Theme:
    """The colours of a theme, which are those of a page: a colour means the same in both.

    `accent` is the drive that a picture is about, or a claim that was met, `bad` a claim that is
    short. Any two of `lines` are at least 10 apart in CIELAB, for protanopes and deuteranopes, too
    (Machado and others, IEEE TVCG 15, 2009), and each has a mark and a dash of its own.
    """

    paper: str
    ink: str
    quiet: str
    grid: str
    edge: str
    accent: str
    bad: str
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
    "#17617C",
    "#A63C19",
    "#C3CCD0",
    ("#17617C", "#8A4B08", "#3F6B2F", "#7D4A99", "#1F1F66", "#4B4B4B"),
)
DARK = Theme(
    "#1B1E22",
    "#ECE7DC",
    "#A9A79F",
    "#34383E",
    "#6F7277",
    "#7FCBEA",
    "#F39A72",
    "#56606A",
    ("#7FCBEA", "#F2B36B", "#9FD18F", "#9999FF", "#FFF0A0", "#D0D0D0"),
)
THEMES = {"light": LIGHT, "dark": DARK}
QUIET = LIGHT.quiet


@dataclass(frozen=True)
class Canvas:
    """Size in pixels, look, and how many dots each pixel becomes."""

    width: int = 1280
    height: int = 800
    theme: Theme = LIGHT
    scale: float = 1.0

    def roomy(self) -> Canvas:
        """Return a larger canvas that is saved smaller, so that the words of a picture fit."""
        shrink = min(self.width / LEAST_WIDTH, 1.0)
        return Canvas(
            round(self.width / shrink), round(self.height / shrink), self.theme, self.scale * shrink
        )


def check_file(out: Path, *, force: bool = False) -> None:
    """Check the file of a picture before anything is drawn.

    Parameters
    ----------
    force : bool
        If true, a file that Jovik did not make may be replaced.

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
            "the ending selects the format of the picture",
        )
    if not out.parent.is_dir():
        raise OutputError(f"there is no folder {out.parent} for the picture")
    refuse_foreign(out, MADE_WITH_JOVIK, force=force)
