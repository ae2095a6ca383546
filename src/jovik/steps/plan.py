"""Plans: an ordered list of step phrases with titles and reasons, kept as TOML.

title = "First look"
about = "..."
passes = 5
steps = [
    "sequential read 1MiB depth 8 for 2s",
    { phrase = "random read 4KiB depth 1..64 for 1s", title = "Depth", why = "...", passes = 3,
    spare = 1 },
    { rounds = 5, steps = [
        "random read 4KiB for 1s", { phrase = "sequential read 1MiB for 1s", why = "..." },
    ] },
    { until = "steady", at_most = 25, track = ["random write 4KiB for 1min"], steps = [
        "random write 4KiB for 1min", "random read 4KiB for 1min",
    ] },
]

Steps in `rounds` are interleaved: the first pass of each, then the second of each. What drifts
while a plan runs is then felt by all of them alike. Rounds until steady end once every step that is
tracked (all of them unless `track` names some) passes the test of the SNIA specification; `figure`
is "rate" or "latency".
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal

from jovik.base.errors import JovikError, PhraseError, UnknownNameError
from jovik.base.shipped import shipped_names, shipped_path
from jovik.base.text_files import read_text
from jovik.steps.io_step import MOST_ROUNDS, IoStep
from jovik.steps.parser import parse_all
from jovik.steps.step import Step

DROP_ORDERS = (0, 9)


@dataclass(frozen=True)
class PlanEntry:
    """One line of a plan: a phrase, the steps it stands for, and why they are there.

    `passes` is None if the plan's own number holds. `drop_order` says in which order a time budget
    takes lines away: the highest first, 0 never. Lines of one `rounds` number, where they have one,
    are interleaved, as often as their `passes`; until those of its steps that are `tracked` are
    steady, if there are any.
    """

    phrase: str
    steps: tuple[Step, ...]
    title: str = ""
    why: str = ""
    passes: int | None = None
    drop_order: int = 0
    rounds: int | None = None
    tracked: tuple[Step, ...] = ()


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
        """Return every step, ladders walked."""
        return tuple(s for line in self.lines for s in line.steps)

    @classmethod
    def of(cls, phrases: list[str] | tuple[str, ...], name: str = "phrases") -> Plan:
        """Return a plan of bare phrases.

        Raises
        ------
        PhraseError
            One does not parse.
        """
        return cls(name, "Phrases", "", tuple(PlanEntry(p, parse_all(p)) for p in phrases))


def plan_names() -> list[str]:
    """Return names of the plans that ship with Jovik."""
    return shipped_names("plan")


def plan_text(name: str) -> tuple[str, str]:
    """Return a plan's TOML and its origin, by name or path.

    Raises
    ------
    UnknownNameError
        Neither a plan nor a file.
    UsageError
        A file that cannot be read as text.
    """
    if name in plan_names():
        return shipped_path("plan", name).read_text(encoding="utf-8"), name
    path = Path(name)
    if path.suffix == ".toml" and path.is_file():
        return read_text(path), str(path)
    raise UnknownNameError("plan", name, plan_names(), "or give the path of a plan's .toml file")


def load_plan(name: str) -> Plan:
    """Return a plan by the name of one that ships with Jovik or the path of a TOML file.

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

    plan = read_toml(text, where, PlanFile)
    lines = tuple(
        _entry(x, phrase, why, number)
        for number, x in enumerate(plan.steps)
        for phrase, why in (x.reasons() if x.steps else [(x.phrase, x.why)])
    )
    return Plan(name, plan.title, plan.about, lines, plan.passes)


def _entry(line: Any, phrase: str, why: str, number: int) -> PlanEntry:
    """Return a phrase of a line of the file. `number` is the line's."""
    steps = parse_all(phrase)
    if line.rounds is not None:
        return PlanEntry(phrase, steps, line.title, why, line.rounds, line.spare, number)
    if line.until is None:
        return PlanEntry(phrase, steps, line.title, why, line.passes, line.spare)
    figure = line.figure or "rate"
    return PlanEntry(
        phrase,
        tuple(_until_steady(s, figure) for s in steps),
        line.title,
        why,
        line.at_most or MOST_ROUNDS,
        line.spare,
        number,
        tuple(_until_steady(s, figure) for t in line.track or line.phrases for s in parse_all(t)),
    )


def _until_steady(step: Step, figure: str) -> Step:
    """Return a timed step as one of rounds until steady: its time is a round's."""
    assert isinstance(step, IoStep)
    return replace(step, steady=figure, time_ns=step.time)


def _line_model() -> Any:
    """Return the model of a line, made where a plan is read."""
    from pydantic import Field, model_validator

    from jovik.base.toml_files import StrictModel

    class InnerFile(StrictModel):
        phrase: str
        why: str = ""

    class LineFile(StrictModel):
        phrase: str = ""
        title: str = ""
        why: str = ""
        passes: int | None = Field(None, ge=1, le=1000)
        spare: int = Field(0, ge=DROP_ORDERS[0], le=DROP_ORDERS[1])
        rounds: int | None = Field(None, ge=2, le=1000)
        until: Literal["steady"] | None = None
        at_most: int | None = Field(None, ge=1, le=1000)
        track: list[str] = []
        figure: Literal["rate", "latency"] | None = None
        steps: list[str | InnerFile] = []

        @property
        def phrases(self) -> list[str]:
            return [x if isinstance(x, str) else x.phrase for x in self.steps]

        def reasons(self) -> list[tuple[str, str]]:
            """Return each phrase of the rounds with its reason, by default that of the line."""
            return [
                (x, self.why) if isinstance(x, str) else (x.phrase, x.why or self.why)
                for x in self.steps
            ]

        @model_validator(mode="after")
        def _either(self) -> Any:
            if not self.phrase and not self.steps:
                raise ValueError("'phrase' is missing, or rounds with their 'steps'")
            if self.phrase and self.steps:
                raise ValueError("a line has either a 'phrase', or rounds with their 'steps'")
            if self.rounds is not None and self.until is not None:
                raise ValueError("either a number of 'rounds', or 'until'")
            in_rounds = self.rounds is not None or self.until is not None
            if bool(self.steps) != in_rounds:
                raise ValueError("'steps' go with 'rounds' or 'until', and these with 'steps'")
            if in_rounds and self.passes is not None:
                raise ValueError("'rounds' sets the number; omit 'passes'")
            if self.until is None and (self.track or self.at_most or self.figure):
                raise ValueError("'track', 'at_most' and 'figure' go with 'until = \"steady\"'")
            if self.until is not None:
                _refuse_untracked(self.phrases, self.track)
            for phrase in self.phrases:
                for step in parse_all(phrase):
                    if step.once or not step.measures:
                        raise ValueError(
                            f"'{phrase}' cannot be repeated round by round; "
                            "put it before or after the rounds"
                        )
            return self

    return LineFile


def _refuse_untracked(phrases: list[str], track: list[str]) -> None:
    """Refuse rounds until steady of steps that have no such rounds (ValueError)."""
    steps = {s for p in phrases for s in parse_all(p)}
    for step in steps:
        timed = isinstance(step, IoStep) and not step.has_amount and not step.until_stopped
        if not timed or (isinstance(step, IoStep) and step.steady):
            raise ValueError(
                f"'{step.canonical}' cannot be part of a round; "
                "use a timed read, write or mix, such as 'random write 4KiB for 1min'"
            )
    for phrase in track:
        if not steps.issuperset(parse_all(phrase)):
            raise ValueError(f"'{phrase}' is tracked and is not among the steps")


def _phrases_of(line: Any) -> list[str]:
    """Return the phrases of a line of the file, even if the line is otherwise wrong."""
    if not isinstance(line, dict):
        return []
    inner, track = line.get("steps"), line.get("track")
    within = (
        [x.get("phrase") if isinstance(x, dict) else x for x in inner or []]
        if isinstance(inner, list)
        else []
    )
    phrases = [line.get("phrase"), *within]
    phrases += track if isinstance(track, list) else []
    return [x for x in phrases if isinstance(x, str)]
