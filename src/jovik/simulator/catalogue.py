"""The model drives that ship with Jovik.

A TOML file each, a sheet with a `[behaviour]` behind it.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated

from pydantic import Field

from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.shipped import shipped_names, shipped_path
from jovik.base.text_files import read_text
from jovik.base.toml_files import StrictModel, read_toml
from jovik.hardware.link import Link, named_link
from jovik.sheets.sheet import Sheet, SheetFile
from jovik.simulator.parameters import Behaviour

MODEL_PREFIX = "model:"
"""How a target that is a model drive begins."""


class OriginTable(StrictModel):
    """Where a twin comes from: the results that it was fitted to.

    `fast` and `slow` are the twin at both ends of what they allow, `typical_error` the median share
    by which a step is mispredicted from the others.
    """

    drive: str
    samples: list[str] = []
    firmware: list[str] = []
    runs: list[str] = []
    fitted: str = ""
    typical_error: Annotated[float, Field(ge=0, le=100)] = 0.0
    determined: dict[str, list[str]] = {}
    not_determined: list[str] = []
    fast: Behaviour | None = None
    slow: Behaviour | None = None


class ModelFile(SheetFile):
    """A model drive as written: its advertised specifications, its behaviour, and its origin."""

    behaviour: Behaviour
    origin: OriginTable | None = None


@dataclass(frozen=True)
class ModelDrive:
    """A model drive: its name, its advertised specifications, and its true behaviour.

    `link` is the link it was attached to, None for the link of its own parameters.
    `unique_serial` is False if another model drive may have its serial, which a user has chosen.
    """

    name: str
    sheet: Sheet
    behaviour: Behaviour
    link: Link | None = None
    unique_serial: bool = True


def model_names() -> list[str]:
    """Return names of the model drives that ship with Jovik."""
    return shipped_names("model")


def load_model(name: str) -> ModelDrive:
    """Return a model drive by its name, or from the path of a TOML file of the person's own.

    ``pebble@link=USB 480 Mb/s`` hangs it on another link, ``@firmware=2.0`` and ``@serial=B2`` make
    it a sample with other firmware, or another sample.

    Raises
    ------
    UnknownNameError
        There is none.
    UsageError
        The file is not a model drive: the line and key are in the message; or what comes after an
        ``@`` cannot be read.
    """
    name, *parts = name.split("@")
    drive = _read(name)
    for part in parts:
        drive = _changed(drive, part)
    return drive


def _changed(drive: ModelDrive, part: str) -> ModelDrive:
    """Return a model drive with one thing changed."""
    key, _, value = part.partition("=")
    key, value = key.strip(), value.strip()
    if key == "firmware" and value:
        return replace(drive, behaviour=_with(drive.behaviour, firmware=value))
    if key == "serial" and value:
        behaviour = _with(drive.behaviour, serial=value)
        return replace(drive, behaviour=behaviour, unique_serial=False)
    link = named_link(value) if key == "link" else None
    carried = link[0].rate_bytes_s if link is not None else None
    if link is None or carried is None:
        raise UsageError(
            f"'@{part}' of a model drive is not understood",
            "write @link=USB 480 Mb/s, @link=SATA 3 Gb/s, @link=PCIe 3.0 x2, @firmware=2.0 or "
            "@serial=B2",
        )
    own = drive.behaviour.link_rate
    rate = min(own, carried) if own else carried
    return replace(drive, link=link[0], behaviour=_with(drive.behaviour, link_rate=rate))


def _with(behaviour: Behaviour, **values: object) -> Behaviour:
    """Return the behaviour with some parameters changed."""
    return behaviour.model_copy(update=values)


def _read(name: str) -> ModelDrive:
    path = Path(name)
    if path.suffix == ".toml" and path.is_file():
        text, where = read_text(path), str(path)
    elif name in model_names():
        text, where = shipped_path("model", name).read_text(encoding="utf-8"), name
    else:
        raise UnknownNameError(
            "model drive", name, model_names(), "or give the path of a model's .toml file"
        )
    given = read_toml(text, where, ModelFile)
    sheet, behaviour = given.sheet(), given.behaviour
    if behaviour.serial:
        return ModelDrive(path.stem, sheet, behaviour, unique_serial=name in model_names())
    drive = sheet.drive
    identity = f"{drive.name}/{drive.maker}/{drive.model}/{drive.capacity_bytes}"
    serial = f"MODEL-{zlib.crc32(identity.encode()):08X}"
    return ModelDrive(path.stem, sheet, _with(behaviour, serial=serial))
