"""Loads: the demands on a drive as data, computed from open formulas.

title = "4K video, uncompressed"
about = "..."
hours_a_day = 4

[frames]                # rate = width x height x bits x frames a second / 8 / compression
direction = "write"
width = 3840
height = 2160
bits = 20               # for each pixel: 10-bit samples at 4:2:2
rate = 50
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field

from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.quantities import parse_rate
from jovik.base.shipped import shipped_names, shipped_path
from jovik.base.text_files import read_text
from jovik.base.toml_files import Size, StrictModel, Time, from_text, read_toml

Positive = Annotated[float, Field(gt=0, le=1e9, strict=False)]


def _rate(text: str) -> float:
    value, unit = parse_rate(text)
    if unit != "bytes/s":
        raise ValueError(f"'{text}' is not a rate in bytes; write 40MB/s")
    return value


Rate = Annotated[float, from_text(_rate)]


@dataclass(frozen=True)
class Load:
    """One stream of a load.

    Attributes
    ----------
    read_bytes_s, write_bytes_s : float
        Its continuous demand.
    random : bool
        Whether it falls all over the drive.
    block_bytes, depth : int
        How it asks.
    latency_ns : int or None
        No access may take longer, or a buffer runs dry.
    hours_a_day : float
        How long it goes on, for the endurance.
    many : bool
        Whether more than one of it at once makes sense.
    weights : dict
        What counts how much for it in a ranking, by class of step (`sequential read`, `random
        write` ...).
    formula : str
        Where the rate comes from.
    common : int
        Its place among uses, the commonest first.
    """

    name: str
    title: str
    about: str
    read_bytes_s: float
    write_bytes_s: float
    random: bool
    block_bytes: int
    depth: int
    latency_ns: int | None
    hours_a_day: float
    many: bool
    weights: dict[str, float]
    formula: str
    common: int = 99


class VideoFrames(StrictModel):
    """Pictures one after the other."""

    direction: Literal["read", "write"]
    width: Annotated[int, Field(gt=0, le=10**9)]
    height: Annotated[int, Field(gt=0, le=10**9)]
    bits: Positive
    rate: Positive
    compression: Positive = 1.0


class AudioVoices(StrictModel):
    """Voices of sound, each read ahead by a block."""

    direction: Literal["read", "write"]
    rate: Annotated[int, Field(gt=0, le=10**9)]
    bits: Annotated[int, Field(gt=0, le=10**9)]
    channels: Annotated[int, Field(gt=0, le=10**9)] = 2
    read_ahead: Size = 65536


class FixedRate(StrictModel):
    """Rates that are simply known."""

    read: Rate | None = None
    write: Rate | None = None
    random: bool = False
    block: Size = 2**20
    depth: Annotated[int, Field(ge=1, le=1024)] = 1
    latency: Time | None = None


class LoadFile(StrictModel):
    """A load as written: one of the three sorts."""

    title: str
    about: str = ""
    hours_a_day: Annotated[float, Field(ge=0, le=24, strict=False)] = 8.0
    many: bool = True
    weights: dict[str, Positive] = {}
    common: Annotated[int, Field(ge=1, le=99)] = 99
    frames: VideoFrames | None = None
    samples: AudioVoices | None = None
    steady: FixedRate | None = None


def load_names() -> list[str]:
    """Return names of the loads that ship with Jovik."""
    return shipped_names("load")


def read_load(name: str) -> Load:
    """Return a load by the name of one that ships with Jovik or the path of a TOML file.

    Raises
    ------
    UnknownNameError
        Neither a load nor a file.
    UsageError
        A file that is not a load.
    """
    path = Path(name)
    if name in load_names():
        text, where = shipped_path("load", name).read_text(encoding="utf-8"), name
    elif path.suffix == ".toml" and path.is_file():
        text, where = read_text(path), str(path)
    else:
        raise UnknownNameError(
            "load", name, load_names(), "or give the path of a load's .toml file"
        )
    given = read_toml(text, where, LoadFile)
    return replace(_load(path.stem, where, given), common=given.common)


def _load(name: str, where: str, given: LoadFile) -> Load:
    sorts = [x for x in (given.frames, given.samples, given.steady) if x is not None]
    if len(sorts) != 1:
        raise UsageError(
            f"{where}: a load has one of [frames], [samples] and [steady]", "see jovik fit --loads"
        )
    common = (given.hours_a_day, given.many)
    sort = sorts[0]
    if isinstance(sort, VideoFrames):
        frame = sort.width * sort.height * sort.bits / 8 / sort.compression
        rate = frame * sort.rate
        squeezed = f" / {sort.compression:g}" if sort.compression != 1 else ""
        formula = (
            f"{sort.width} x {sort.height} x {sort.bits:g} bit x {sort.rate:g} a second / "
            f"8{squeezed}"
        )
        both = (0.0, rate) if sort.direction == "write" else (rate, 0.0)
        weights = given.weights or {f"sequential {sort.direction}": 1.0}
        # A recorder gathers frames into large blocks and keeps several in flight; a stream has no
        # latency of its own.
        return Load(
            name,
            given.title,
            given.about,
            *both,
            False,
            2**20,
            8,
            None,
            *common,
            dict(weights),
            formula,
        )
    if isinstance(sort, AudioVoices):
        rate = sort.rate * sort.bits / 8 * sort.channels
        formula = (
            f"{sort.rate} x {sort.bits} bit x {sort.channels} / 8, {sort.read_ahead} bytes ahead"
        )
        both = (0.0, rate) if sort.direction == "write" else (rate, 0.0)
        weights = given.weights or {f"random {sort.direction}": 1.0}
        # What was read ahead lasts for so long; the next block has to be there by then.
        lasts = round(sort.read_ahead / rate * 1e9)
        return Load(
            name,
            given.title,
            given.about,
            *both,
            True,
            sort.read_ahead,
            1,
            lasts,
            *common,
            dict(weights),
            formula,
        )
    assert isinstance(sort, FixedRate)
    if sort.read is None and sort.write is None:
        raise UsageError(f"{where}: [steady] needs a read or a write rate")
    order = "random" if sort.random else "sequential"
    weights = given.weights or {
        f"{order} {d}": 1.0 for d, r in (("read", sort.read), ("write", sort.write)) if r
    }
    return Load(
        name,
        given.title,
        given.about,
        sort.read or 0.0,
        sort.write or 0.0,
        sort.random,
        sort.block,
        sort.depth,
        sort.latency,
        *common,
        dict(weights),
        "as stated",
    )
