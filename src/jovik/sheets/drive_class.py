"""Classes of drives: the usual figures of a kind of drive, step by step, with reasons.

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

from dataclasses import dataclass
from functools import cache
from typing import Annotated

from pydantic import Field

from jovik.base.errors import UnknownNameError
from jovik.base.quantities import parse_rate
from jovik.base.shipped import shipped_names, shipped_path
from jovik.base.toml_files import StrictModel, from_text, read_toml


@dataclass(frozen=True)
class UsualFigure:
    """The usual range of one class of step. `low`, `usual` and `high` are in `unit`.

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
        """Return the usual figure of a class of step, or None if the class has none."""
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
    """Return names of the classes that ship with Jovik."""
    return tuple(shipped_names("class"))


@cache
def read_class(name: str) -> DriveClass:
    """Return a class by its name.

    Raises
    ------
    UnknownNameError
        There is none.
    """
    if name not in class_names():
        raise UnknownNameError("class", name, class_names(), "see jovik fit --classes")
    text = shipped_path("class", name).read_text(encoding="utf-8")
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
