"""Measure a storage drive and state how far each figure can be trusted.

From Python: `jovik.open_shelf`, then `measure`, `judge`, `rank`, `compare`, `upgrade`, `fit`,
`draw`, `review`, and what the shelf holds as pandas frames in `jovik.frames` (`docs/python.md`).
Each is loaded when it is first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from jovik.base.version import VERSION as __version__

if TYPE_CHECKING:
    from jovik import frames
    from jovik.answers.compare import compare
    from jovik.answers.fit import fit
    from jovik.answers.judge import judge
    from jovik.answers.rank import rank
    from jovik.answers.scout import scout
    from jovik.answers.upgrade import upgrade
    from jovik.api import (
        Measured,
        draw,
        exclude,
        include,
        measure,
        new_drive,
        open_shelf,
        overview,
        repeat,
        resume,
        review,
    )
    from jovik.base.errors import (
        DriveError,
        JovikError,
        RefusedError,
        ShelfUnreachableError,
        UnknownNameError,
        UsageError,
    )

_PLACES = {
    "answers.compare": ("compare",),
    "answers.fit": ("fit",),
    "answers.judge": ("judge",),
    "answers.rank": ("rank",),
    "answers.scout": ("scout",),
    "answers.upgrade": ("upgrade",),
    "api": (
        "Measured",
        "draw",
        "exclude",
        "include",
        "measure",
        "new_drive",
        "open_shelf",
        "overview",
        "repeat",
        "resume",
        "review",
    ),
    "base.errors": (
        "DriveError",
        "JovikError",
        "UsageError",
        "RefusedError",
        "ShelfUnreachableError",
        "UnknownNameError",
    ),
}

__all__ = [
    "DriveError",
    "JovikError",
    "Measured",
    "RefusedError",
    "ShelfUnreachableError",
    "UnknownNameError",
    "UsageError",
    "__version__",
    "compare",
    "draw",
    "exclude",
    "fit",
    "frames",
    "include",
    "judge",
    "measure",
    "new_drive",
    "open_shelf",
    "overview",
    "rank",
    "repeat",
    "resume",
    "review",
    "scout",
    "upgrade",
]


def __getattr__(name: str) -> Any:
    """Return the attribute of this name from its module."""
    if name == "frames":
        return import_module("jovik.frames")
    for module, names in _PLACES.items():
        if name in names:
            return getattr(import_module(f"jovik.{module}"), name)
    raise AttributeError(f"module 'jovik' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)
