"""Plans: an ordered list of step phrases with titles and reasons, kept as TOML.

title = "First look"
about = "..."
passes = 5
steps = [
    "sequential read 1MiB depth 8 for 2s",
    { phrase = "random read 4KiB depth 1..64 for 1s", title = "Depth", why = "...", passes = 3,
    spare = 1 },
    { rounds = 5, steps = ["random read 4KiB for 1s", "sequential read 1MiB for 1s"] },
]

Steps in `rounds` are interleaved: the first pass of each, then the second of each. What drifts
while a plan runs is then felt by all of them alike.
"""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any

from jovik.base.errors import JovikError, PhraseError, UnknownNameError
from jovik.base.text_files import read_text
from jovik.steps.parser import parse_all
from jovik.steps.step import Step

SPARE = (0, 9)


@dataclass(frozen=True)
class PlanEntry:
    """One line of a plan: a phrase, the steps it stands for, and why they are there.

    `passes` is None where the plan's own number holds. `spare` says in which order a time budget
    takes lines away: the highest first, 0 never. Lines of one `rounds` number, where they have one,
    are interleaved, as often as their `passes`.
    """

    phrase: str
    steps: tuple[Step, ...]
    title: str = ""
    why: str = ""
    passes: int | None = None
    spare: int = 0
    rounds: int | None = None


@dataclass(frozen=True)
class Plan:
    """Lines in their order.

    `passes` is how often each step is repeated unless the line or the person says otherwise.
    """

    name: str
    title: str
    about: str
    lines: tuple[PlanEntry, ...]
    passes: int = 5

    @property
    def steps(self) -> tuple[Step, ...]:
        """Every step, ladders walked."""
        return tuple(s for line in self.lines for s in line.steps)

    @classmethod
    def of(cls, phrases: list[str] | tuple[str, ...], name: str = "phrases") -> Plan:
        """A plan of bare phrases.

        Raises
        ------
        PhraseError
            One does not parse.
        """
        return cls(name, "Phrases", "", tuple(PlanEntry(p, parse_all(p)) for p in phrases))


def plan_names() -> list[str]:
    """Names of the plans that ship with Jovik."""
    return sorted(
        f.name.removesuffix(".toml")
        for f in resources.files("jovik.steps.plans").iterdir()
        if f.name.endswith(".toml")
    )


def plan_text(name: str) -> tuple[str, str]:
    """A plan's TOML and where it is from, by name or path.

    Raises
    ------
    UnknownNameError
        Neither a plan nor a file.
    UsageError
        A file that cannot be read as text.
    """
    if name in plan_names():
        return (resources.files("jovik.steps.plans") / f"{name}.toml").read_text(
            encoding="utf-8"
        ), name
    path = Path(name)
    if path.suffix == ".toml" and path.is_file():
        return read_text(path), str(path)
    raise UnknownNameError("plan", name, plan_names(), "or give the path of a plan's .toml file")


def load_plan(name: str) -> Plan:
    """A plan by the name of one that ships with Jovik or the path of a TOML file.

    Raises
    ------
    UnknownNameError
        Neither a plan nor a file.
    UsageError
        A file that is not a plan: the line and the key at fault are in the message.
    """
    text, where = plan_text(name)
    return _read(Path(where).stem, text, where)


def _read(name: str, text: str, where: str) -> Plan:
    # Pydantic is only loaded where a plan is.
    from pydantic import Field, field_validator

    from jovik.base.toml_files import StrictModel, read_toml

    line: Any = _line_model()

    class PlanFile(StrictModel):
        title: str = name
        about: str = ""
        passes: int = Field(5, ge=1, le=1000)
        steps: list[line] = Field(min_length=1)

        @field_validator("steps", mode="before")
        @classmethod
        def _parse(cls, lines: Any) -> Any:
            if not isinstance(lines, list):
                return lines
            given = [{"phrase": x} if isinstance(x, str) else x for x in lines]
            for one in given:
                for phrase in _phrases_of(one):
                    try:
                        parse_all(phrase)
                    except PhraseError as error:
                        raise ValueError(f"{error.message}\n{error.hint}") from None
                    except JovikError as error:
                        raise ValueError(error.message) from None
            return given

    found = read_toml(text, where, PlanFile)
    lines = tuple(
        PlanEntry(
            phrase,
            parse_all(phrase),
            x.title,
            x.why,
            x.rounds if x.rounds is not None else x.passes,
            x.spare,
            number if x.rounds is not None else None,
        )
        for number, x in enumerate(found.steps)
        for phrase in (x.steps or [x.phrase])
    )
    return Plan(name, found.title, found.about, lines, found.passes)


def _line_model() -> Any:
    """The model of a line, made where a plan is read."""
    from pydantic import Field, model_validator

    from jovik.base.toml_files import StrictModel

    class LineFile(StrictModel):
        phrase: str = ""
        title: str = ""
        why: str = ""
        passes: int | None = Field(None, ge=1, le=1000)
        spare: int = Field(0, ge=SPARE[0], le=SPARE[1])
        rounds: int | None = Field(None, ge=2, le=1000)
        steps: list[str] = []

        @model_validator(mode="after")
        def _either(self) -> Any:
            if not self.phrase and not self.steps:
                raise ValueError("'phrase' is missing, or 'rounds' and their 'steps'")
            if self.phrase and self.steps:
                raise ValueError("a line has either a 'phrase', or 'rounds' and their 'steps'")
            if bool(self.steps) != (self.rounds is not None):
                raise ValueError("'rounds' and 'steps' go together")
            if self.rounds is not None and self.passes is not None:
                raise ValueError("'rounds' says how often; leave 'passes' out")
            for phrase in self.steps:
                for step in parse_all(phrase):
                    if step.once or not step.measures:
                        raise ValueError(
                            f"'{phrase}' cannot be repeated round by round; "
                            "put it before or behind the rounds"
                        )
            return self

    return LineFile


def _phrases_of(line: Any) -> list[str]:
    """The phrases of a line as it stands in the file, whatever else is wrong with it."""
    if not isinstance(line, dict):
        return []
    inner = line.get("steps")
    found = [line.get("phrase"), *(inner if isinstance(inner, list) else [])]
    return [x for x in found if isinstance(x, str)]
