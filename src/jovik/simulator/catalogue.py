"""The model drives that ship with Jovik.

A TOML file each, a sheet with a `[behaviour]` behind it.
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from jovik.base.errors import UnknownNameError
from jovik.base.text_files import read_text
from jovik.base.toml_files import read_toml
from jovik.sheets.sheet import Sheet, SheetFile
from jovik.simulator.parameters import Behaviour

MODEL_PREFIX = "model:"
"""How a target that is a model drive begins."""


class ModelFile(SheetFile):
    """A model drive as written: what its box says and how it behaves."""

    behaviour: Behaviour


@dataclass(frozen=True)
class ModelDrive:
    """A model drive: the name it is called by, what its box says, and how it really behaves."""

    name: str
    sheet: Sheet
    behaviour: Behaviour


def model_names() -> list[str]:
    """Names of the model drives that ship with Jovik."""
    files = (resources.files("jovik.simulator") / "catalogue").iterdir()
    return sorted(f.name.removesuffix(".toml") for f in files if f.name.endswith(".toml"))


def load_model(name: str) -> ModelDrive:
    """A model drive by its name, or from the path of a TOML file of the person's own.

    Raises
    ------
    UnknownNameError
        There is none.
    UsageError
        The file is not a model drive: the line and key are in the message.
    """
    path = Path(name)
    if path.suffix == ".toml" and path.is_file():
        text, where = read_text(path), str(path)
    elif name in model_names():
        text, where = (
            (resources.files("jovik.simulator") / "catalogue" / f"{name}.toml").read_text(
                encoding="utf-8"
            ),
            name,
        )
    else:
        raise UnknownNameError(
            "model drive", name, model_names(), "or give the path of a model's .toml file"
        )
    given = read_toml(text, where, ModelFile)
    return ModelDrive(path.stem, given.sheet(), given.behaviour)
