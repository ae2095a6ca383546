"""Where does a drive lie in its class, and how far apart are classes?"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.drive_class import ClassFigure, Usual, class_figures, class_index
from jovik.analysis.evidence import link_rate_of
from jovik.analysis.run_effect import PRIOR_ALONE, RunEffect
from jovik.analysis.step_result import StepResult
from jovik.base.errors import UnknownNameError
from jovik.base.interval import Interval
from jovik.hardware.link import named_link
from jovik.sheets.drive_class import DriveClass, UsualFigure, class_names, read_class
from jovik.sheets.sheet import Drive
from jovik.steps import parse

NARROWER = 0.95
"""A link that carries less than this fraction of the drive's interface is a slower one."""
MAGNITUDE = 10.0
"""From so many times on, classes are an order of magnitude apart."""


@dataclass(frozen=True)
class ClassStanding:
    """A drive in its class: each class of step that it was measured in, and one overall figure.

    `index` is 100 if it does what is usual. `own` is False if its own class cannot be told,
    and another is taken for a yardstick. `link` is the link that it was measured on, if that
    carries less than the drive's interface: the class is then the link's.
    """

    drive_class: DriveClass
    figures: tuple[ClassFigure, ...]
    index: Interval | None
    own: bool = True
    link: str | None = None

    def of(self, result: StepResult) -> ClassFigure | None:
        """Return the figure of a result, or None if it is not one of them."""
        return next((f for f in self.figures if f.result is result), None)


def ranges_of(found: DriveClass) -> dict[str, Usual]:
    """Return the ranges of a class as the analysis takes them."""
    return {f.what: Usual(f.what, f.low, f.usual, f.high, f.unit == "IOPS") for f in found.figures}


def standing_of(
    drive: Drive, results: Sequence[StepResult], effect: RunEffect = PRIOR_ALONE
) -> ClassStanding | None:
    """Return where results of a drive lie in its class.

    None if its class is unknown, or it was not measured.
    """
    slower = slower_link(drive, results)
    try:
        found_class = class_of(replace(drive, interface=slower) if slower else drive)
    except UnknownNameError:
        return None
    if found_class is None:
        return None
    standing = standing_in(found_class, results, effect, capacity_bytes=drive.capacity_bytes)
    return replace(standing, link=slower) if standing is not None else None


def slower_link(drive: Drive, results: Sequence[StepResult]) -> str | None:
    """Return the link that all results are from, if it carries less than the drive's interface."""
    own = named_link(drive.interface)
    links = {r.conditions.link: link_rate_of(r) for r in results if r.conditions.link}
    rates = {link: rate for link, rate in links.items() if rate is not None}
    if drive.class_name or own is None or own[0].rate_bytes_s is None or not rates:
        return None
    fastest = max(rates, key=lambda link: rates[link])
    return fastest if rates[fastest] < NARROWER * own[0].rate_bytes_s else None


SPINNING, SOLID = "spinning", "solid state"
"""Media as sheets name them."""
FALLBACK_CLASS = "sata-ssd"
"""The class for a drive of unknown class, because most readers know one."""


def overall_of(drive: Drive, results: Sequence[StepResult]) -> ClassStanding | None:
    """Return an overall figure for a run of any drive: in its class, or against `FALLBACK_CLASS`.

    None if nothing that classes know was measured.
    """
    own = standing_of(drive, results)
    if own is not None:
        return own
    other = standing_in(read_class(FALLBACK_CLASS), results)
    return replace(other, own=False) if other is not None else None


def standing_in(
    found: DriveClass,
    results: Sequence[StepResult],
    effect: RunEffect = PRIOR_ALONE,
    *,
    capacity_bytes: int | None = None,
) -> ClassStanding | None:
    """Return the same in a named class, whatever the drive's own.

    Parameters
    ----------
    capacity_bytes : int, optional
        Of the drive; random figures within too small a part of it are no figures of some classes.
    """
    least = found.least_span_share * (capacity_bytes or 0)
    wide = [
        r
        for r in results
        if r.conditions.span_bytes >= least or not getattr(parse(r.kind), "random", False)
    ]
    figures = class_figures(wide, ranges_of(found))
    if not figures:
        return None
    return ClassStanding(found, tuple(figures), class_index(figures, effect))


KNOWN_CLASSES = ("hdd-7200", "sata-ssd")
"""Classes that most readers know, the slower one first."""
APART = 1.3
"""Classes are apart in a figure from so many times on."""


@dataclass(frozen=True)
class Shortfall:
    """A figure in which a drive is no faster than usual for a slower class, and that class."""

    figure: ClassFigure
    other: DriveClass
    usual: UsualFigure


def shortfalls(found: ClassStanding) -> list[Shortfall]:
    """Return where a drive is surely no faster than usual for a class that is slower than its own.

    Each figure beside the slowest such class of those that most readers know.
    """
    short = []
    for f in found.figures:
        for other in map(read_class, KNOWN_CLASSES):
            usual = other.figure(f.usual.what)
            if usual is None or f.usual.usual < APART * usual.usual:
                continue
            if f.value.known and f.value.most <= usual.usual:
                short.append(Shortfall(f, other, usual))
                break
    return short


TELLING_STEPS = ("random read 4KiB", "sequential read")
"""Classes of step whose reasons best explain why classes differ."""


@dataclass(frozen=True)
class ClassGap:
    """Two classes that are an order of magnitude apart in a class of step, and why."""

    faster: DriveClass
    slower: DriveClass
    what: str
    times: float
    why_faster: str
    why_slower: str


def gaps(classes: Sequence[DriveClass]) -> list[ClassGap]:
    """Return the gap between each two classes that are an order of magnitude apart.

    The small access that waits for the medium tells most of why; then the stream, then the rest.
    """
    gaps = []
    distinct = list({c.name: c for c in classes}.values())
    for n, one in enumerate(distinct):
        for two in distinct[n + 1 :]:
            wide = [g for f in one.figures if (g := _gap(one, two, f.what)) is not None]
            telling = [g for what in TELLING_STEPS for g in wide if g.what == what]
            gaps += (telling or wide)[:1]
    return sorted(gaps, key=lambda g: -g.times)


def _gap(one: DriveClass, two: DriveClass, what: str) -> ClassGap | None:
    """Return the ratio of two classes in a class of step, or None below an order of magnitude."""
    f, g = one.figure(what), two.figure(what)
    if f is None or g is None or f.unit != g.unit:
        return None
    if f.usual >= MAGNITUDE * g.usual:
        return ClassGap(one, two, what, f.usual / g.usual, f.why, g.why)
    if g.usual >= MAGNITUDE * f.usual:
        return ClassGap(two, one, what, g.usual / f.usual, g.why, f.why)
    return None


def is_spinning(drive: Drive) -> bool:
    """Return True if the medium of a drive spins, by its sheet."""
    words = f"{drive.interface} {drive.medium}"
    return drive.medium.casefold() == SPINNING or "rpm" in words.casefold()


_PCIE = {3: "pcie3-ssd", 4: "pcie4-ssd", 5: "pcie5-ssd"}
_USB = {"USB 480 Mb/s": "usb2-ssd", "USB 5 Gb/s": "usb5-ssd"}
_USB |= {"USB 10 Gb/s": "usb10-ssd", "USB 20 Gb/s": "usb20-ssd"}


def class_of(drive: Drive) -> DriveClass | None:
    """Return class of a drive: the one its sheet names, or the one its interface and medium tell.

    Raises
    ------
    UnknownNameError
        The sheet names one that there is not.
    """
    if drive.class_name:
        return read_class(drive.class_name)
    medium, words = drive.medium.casefold(), f"{drive.interface} {drive.medium}"
    turns = re.search(r"(\d{1,2})[,.]?(\d00)\s*rpm", words, re.IGNORECASE)
    if turns is not None or medium == SPINNING:
        name = f"hdd-{turns[1]}{turns[2]}" if turns is not None else ""
        return read_class(name) if name in class_names() else None
    named = named_link(drive.interface)
    if named is None or medium not in (SOLID, "", "ssd"):
        return None
    link = named[0].now
    if named[0].kind == "SATA":
        return read_class("sata-ssd") if "6 Gb/s" in link else None
    if named[0].kind == "USB":
        return read_class(_USB[link]) if link in _USB and medium != "" else None
    generation = re.match(r"PCIe (\d)\.0 x4\b", link)
    of_link = _PCIE.get(int(generation[1])) if generation else None
    return read_class(of_link) if of_link else None
