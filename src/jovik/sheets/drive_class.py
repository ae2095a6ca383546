"""Classes of drives: what is usual for a kind of drive, step by step, as data with its reasons.

title = "SATA SSD"
about = "Flash behind SATA 6 Gb/s: the link ends it in a stream."

[[step]]
what = "sequential read"
from = "480MB/s"
usual = "540MB/s"
to = "560MB/s"
why = "the link carries 599 MB/s of payload, and commands take some of it"
source = "Serial ATA 3.5, 9.4 and 10.5"
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from importlib import resources
from typing import Annotated

from pydantic import Field

from jovik.base.errors import UnknownNameError
from jovik.base.quantities import parse_rate
from jovik.base.toml_files import StrictModel, from_text, read_toml
from jovik.hardware.link import named_link
from jovik.sheets.sheet import Drive

CLASS_PREFIX = "class:"
"""How a yardstick that is a class begins."""
SUSTAINED = "sustained write"
SPINNING = "spinning"
SOLID = "solid state"


@dataclass(frozen=True)
class UsualFigure:
    """What is usual of one class of step; `low`, `usual` and `high` are in `unit`.

    `what` is a phrase without its time, ``sequential read`` and ``sequential write`` for streams of
    any block and depth, or ``sustained write``; `unit` is ``bytes/s`` or ``IOPS``.
    """

    what: str
    low: float
    usual: float
    high: float
    unit: str
    why: str
    source: str


@dataclass(frozen=True)
class DriveClass:
    """A class of drives with its usual figures.

    Random figures are of an area of at least `least_span_share` of the drive: an arm that moves
    within a small one has short ways.
    """

    name: str
    title: str
    about: str
    figures: tuple[UsualFigure, ...]
    least_span_share: float = 0.0

    def figure(self, what: str) -> UsualFigure | None:
        """The usual figure of a class of step; None where the class has none."""
        return next((f for f in self.figures if f.what == what), None)


Figure = Annotated[tuple[float, str], from_text(parse_rate)]


class _StepTable(StrictModel):
    what: str
    low: Annotated[Figure, Field(alias="from")]
    usual: Figure
    high: Annotated[Figure, Field(alias="to")]
    why: str
    source: str


class _ClassFile(StrictModel):
    title: str
    about: str
    least_span_share: Annotated[float, Field(ge=0, lt=1)] = 0.0
    step: list[_StepTable]


@cache
def class_names() -> tuple[str, ...]:
    """Names of the classes that ship with Jovik."""
    files = resources.files("jovik.sheets.classes").iterdir()
    return tuple(sorted(f.name.removesuffix(".toml") for f in files if f.name.endswith(".toml")))


@cache
def read_class(name: str) -> DriveClass:
    """A class by its name.

    Raises
    ------
    UnknownNameError
        There is none.
    """
    if name not in class_names():
        raise UnknownNameError("class", name, class_names(), "see jovik fit --classes")
    text = (resources.files("jovik.sheets.classes") / f"{name}.toml").read_text(encoding="utf-8")
    given = read_toml(text, name, _ClassFile)
    return DriveClass(
        name,
        given.title,
        given.about,
        tuple(
            UsualFigure(s.what, s.low[0], s.usual[0], s.high[0], s.usual[1], s.why, s.source)
            for s in given.step
        ),
        given.least_span_share,
    )


_PCIE = {3: "pcie3-ssd", 4: "pcie4-ssd", 5: "pcie5-ssd"}
_USB = {"USB 480 Mb/s": "usb2-ssd", "USB 5 Gb/s": "usb5-ssd"}
_USB |= {"USB 10 Gb/s": "usb10-ssd", "USB 20 Gb/s": "usb20-ssd"}


def class_of(drive: Drive) -> DriveClass | None:
    """The class of a drive: the one its sheet names, or the one its interface and medium tell.

    Raises
    ------
    UnknownNameError
        The sheet names one that there is not.
    """
    if drive.class_name:
        return read_class(drive.class_name)
    medium, words = drive.medium.casefold(), f"{drive.interface} {drive.medium}"
    turns = re.search(r"(\d)[,.]?(\d00)\s*rpm", words, re.IGNORECASE)
    if turns is not None or medium == SPINNING:
        name = f"hdd-{turns[1]}{turns[2]}" if turns is not None else ""
        return read_class(name) if name in class_names() else None
    found = named_link(drive.interface)
    if found is None or medium not in (SOLID, "", "ssd"):
        return None
    link = found[0].now
    if found[0].kind == "SATA":
        return read_class("sata-ssd") if "6 Gb/s" in link else None
    if found[0].kind == "USB":
        return read_class(_USB[link]) if link in _USB and medium != "" else None
    generation = re.match(r"PCIe (\d)\.0 x4\b", link)
    of_link = _PCIE.get(int(generation[1])) if generation else None
    return read_class(of_link) if of_link else None
