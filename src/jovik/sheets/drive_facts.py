"""The facts of a drive on its sheet, a row each: in TOML, as options, and in the log of changes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from jovik.base.quantities import show_size, spell_size

if TYPE_CHECKING:
    from jovik.sheets.sheet import Drive

Spelling = Callable[["Drive"], str]


@dataclass(frozen=True)
class DriveFact:
    """A key of `[drive]`, which is an option of `jovik sheet` too.

    `exact` spells it as a sheet holds it, `shown` for a reader. Both are empty if it is unknown.
    """

    key: str
    help: str
    exact: Spelling
    shown: Spelling


def _text(key: str, about: str, spelling: Spelling) -> DriveFact:
    return DriveFact(key, about, spelling, spelling)


def _size(key: str, about: str) -> DriveFact:
    def spelled(spell: Callable[[int], str]) -> Spelling:
        def spelling(drive: Drive) -> str:
            size: int | None = getattr(drive, f"{key}_bytes")
            return spell(size) if size is not None else ""

        return spelling

    return DriveFact(key, about, spelled(spell_size), spelled(show_size))


def _warranty(drive: Drive) -> str:
    return f"{drive.warranty_years:g} years" if drive.warranty_years is not None else ""


DRIVE_FACTS = (
    _text("maker", "Who makes it.", lambda d: d.maker),
    _text("model", "The model's name.", lambda d: d.model),
    _size("capacity", "As printed, such as 1TB."),
    _text("interface", "Such as 'PCIe 4.0 x4' or 'SATA 6 Gb/s'.", lambda d: d.interface),
    _text("medium", "Such as 'solid state' or 'spinning'.", lambda d: d.medium),
    _text("price", "Such as '89 EUR'.", lambda d: d.spelled_price),
    _text("warranty", "Such as '5 years'.", _warranty),
    _size("endurance", "Rated bytes written, such as 600TB."),
    _size("flash", "Raw flash, such as 1100GB, if it is known."),
    _text(
        "class",
        "Its class (jovik fit --classes), if the interface does not determine it.",
        lambda d: d.class_name or "",
    ),
)
"""Every fact but the name, in the order of a sheet."""
