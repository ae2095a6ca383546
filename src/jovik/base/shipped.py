"""Names of the files that ship with Jovik: a table, because the Tab key lists them unread."""

from __future__ import annotations

from pathlib import Path

PACKAGE = Path(__file__).parents[1]
SHIPPED = {
    "model": ("simulator/catalogue", ".toml"),
    "plan": ("steps/plans", ".toml"),
    "recording": ("steps/recordings", ".jrec"),
    "class": ("sheets/classes", ".toml"),
    "load": ("sheets/loads", ".toml"),
    "language": ("report/languages", ".json"),
}
"""The folder in the package and the suffix of each sort."""


def shipped_names(sort: str) -> list[str]:
    """Return the names of all files of a sort, in alphabetical order."""
    folder, suffix = SHIPPED[sort]
    return sorted(p.name.removesuffix(suffix) for p in (PACKAGE / folder).glob(f"*{suffix}"))


def shipped_path(sort: str, name: str) -> Path:
    """Return the place of a file."""
    folder, suffix = SHIPPED[sort]
    return PACKAGE / folder / f"{name}{suffix}"
