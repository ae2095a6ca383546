"""Plans: an ordered list of step phrases with a title, kept as TOML.

    title = "First look"
    about = "..."
    steps = ["sequential read 1MiB depth 8 for 2s", ...]
"""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from jovik.errors import Misuse, PhraseError, UnknownName
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
    try:
        given = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise Misuse(f"{where} is not TOML: {error}") from None
    unknown = set(given) - {"title", "about", "steps", "passes"}
    if unknown:
        raise Misuse(f"{where}: '{min(unknown)}' is not a key of a plan", "there are title, about, steps, passes")
    lines, passes = given.get("steps"), given.get("passes", 5)
    if not isinstance(lines, list) or not lines or not all(isinstance(x, str) for x in lines):
        raise Misuse(f"{where}: 'steps' must be a list of phrases")
    if not isinstance(passes, int) or not 1 <= passes <= 1000:
        raise Misuse(f"{where}: 'passes' must be a whole number from 1 to 1000")
    try:
        steps = tuple(parse(line) for line in lines)
    except PhraseError as error:
        raise Misuse(f"{where}: {error.message}", error.hint) from None
    return Plan(name, str(given.get("title", name)), str(given.get("about", "")), steps, passes)
