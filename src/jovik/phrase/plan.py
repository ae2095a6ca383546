"""Plans: an ordered list of step phrases with a title, kept as TOML.

title = "First look"
about = "..."
steps = ["sequential read 1MiB depth 8 for 2s", ...]
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from jovik.errors import PhraseError, UnknownName
from jovik.phrase.parser import parse
from jovik.phrase.step import Step


@dataclass(frozen=True)
class Plan:
    """Steps in their order; `passes` is how often each is repeated unless the person says otherwise."""

    name: str
    title: str
    about: str
    steps: tuple[Step, ...]
    passes: int = 5


def plan_names() -> list[str]:
    """Names of the plans that ship with Jovik."""
    return sorted(f.name.removesuffix(".toml") for f in resources.files("jovik.plans").iterdir() if f.name.endswith(".toml"))


def load_plan(name: str) -> Plan:
    """A plan that ships with Jovik, by name, or one of the person's own, by the path of its TOML file.

    Raises
    ------
    UnknownName
        Neither a plan nor a file.
    Misuse
        A file that is not a plan: the line and the key at fault are in the message.
    """
    if name in plan_names():
        return _read(name, (resources.files("jovik.plans") / f"{name}.toml").read_text(encoding="utf-8"), name)
    path = Path(name)
    if path.suffix == ".toml" and path.is_file():
        return _read(path.stem, path.read_text(encoding="utf-8"), str(path))
    raise UnknownName("plan", name, plan_names(), "or give the path of a plan's .toml file")


def _read(name: str, text: str, where: str) -> Plan:
    # Pydantic is only loaded where a plan is.
    from pydantic import Field, field_validator

    from jovik.tomlfile import Shape, read_toml

    class PlanFile(Shape):
        title: str = name
        about: str = ""
        passes: int = Field(5, ge=1, le=1000)
        steps: list[str] = Field(min_length=1)

        @field_validator("steps")
        @classmethod
        def _parse(cls, lines: list[str]) -> list[str]:
            for line in lines:
                try:
                    parse(line)
                except PhraseError as error:
                    raise ValueError(f"{error.message}\n{error.hint}") from None
            return lines

    given = read_toml(text, where, PlanFile)
    return Plan(name, given.title, given.about, tuple(parse(line) for line in given.steps), given.passes)
