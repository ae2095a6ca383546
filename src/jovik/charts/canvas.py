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
