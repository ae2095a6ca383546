"""Jovik measures a storage drive and says how far each figure can be trusted.

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
    from jovik.api import (
        Measured,
        compare,
        draw,
        exclude,
        fit,
        include,
        judge,
        measure,
        new_drive,
        open_shelf,
        overview,
        rank,
        repeat,
        resume,
        review,
        scout,
        upgrade,
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
    "api": (
        "Measured",
        "compare",
        "draw",
        "exclude",
        "fit",
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
    """Return what is asked for by name, from the module that has it."""
    if name == "frames":
        return import_module("jovik.frames")
    for module, names in _PLACES.items():
        if name in names:
            return getattr(import_module(f"jovik.{module}"), name)
    raise AttributeError(f"module 'jovik' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)
