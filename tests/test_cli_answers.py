"""What a person gets: the answer in the first five lines, the small print counted."""

from __future__ import annotations

import re
from typing import Any

import pytest

from tests.conftest import Program
from tests.programs import on_a_terminal

COMET, SLATE = "Veldhaar Comet 2TB", "Corvane Slate 1TB"
ANSWERS: list[tuple[list[str], str]] = [
    (["judge", COMET], r"Comet 2TB: 4 of 6 claims met, 1 short"),
    (["rank"], r"Comet 2TB is first of 4: index 1\d\d \(1\d\d to 1\d\d\)"),
    (["rank", "--by", "random read 4KiB"], r"Comet 2TB is first in random read, 4 KiB: 7\d"),
    (["compare", SLATE, COMET], r"of 17 steps: 17 faster"),
    (["upgrade", SLATE, COMET], r"Comet 2TB: worth it for reading large files"),
    (["fit", COMET], r"Comet 2TB can sustain 17 of 18 loads; not 8K video"),
    (["judge", COMET, "--real-work"], r"of the advertised rate, its streams reach"),
]


@pytest.fixture
def person(shown: Program) -> Program:
    """Somebody without a settings file."""
    shown.env["JOVIK_CONFIG"] = ""
    return shown


@pytest.mark.parametrize("columns", [80, 120])
@pytest.mark.parametrize(("words", "answer"), ANSWERS)
def test_the_first_five_lines_hold_the_answer(
    person: Program, words: list[str], answer: str, columns: int
) -> None:
    person.env["COLUMNS"] = str(columns)
    said = person(*words, status=None).out
    lines = said.splitlines()
    assert re.search(answer, " ".join(" ".join(lines[:5]).split())), lines[:5]
    assert max(map(len, lines)) <= columns, max(lines, key=len)
    notes = person(*words, "--notes", status=None).out
    assert "--notes" not in notes
    if "notes: --notes" in said:
        counted = int(re.findall(r"(\d+) notes?: --notes", said)[0])
        assert len(notes.splitlines()) > len(lines) - 2 and counted >= 1
        assert lines[-2] == "" and lines[-1].endswith("--notes")


def test_a_measurement_begins_with_what_it_came_to(person: Program) -> None:
    for columns in ("80", "120"):
        person.env["COLUMNS"] = columns
        steps = ["sequential read 1MiB depth 8 for 1s", "sequential write 1MiB over 30% of free"]
        said = person("measure", "model:drift", *steps, "--passes", "2").out
        first = " ".join(said.splitlines()[:5])
        assert re.search(r"class index [\d.]+ .*where 100 is usual for a PCIe 4.0 x4 SSD", first)
        assert "the cliff: after" in said, "what changes a decision is never counted away"
        assert max(map(len, said.splitlines())) <= int(columns)


def shown_on_a_terminal(jovik: Program, words: list[str], columns: int) -> str:
    env = {k: v for k, v in jovik.env.items() if k != "COLUMNS"}
    return on_a_terminal(jovik.command(*words), env, rows=40, columns=columns)[1].decode()


def test_ratios_are_bars_on_a_terminal_with_room(person: Program) -> None:
    wide = shown_on_a_terminal(person, ["rank", "--no-steps"], 140)
    bars = [len(re.findall("█", x)) for x in wide.splitlines() if "█" in x]
    assert len(bars) == 4 and bars[0] > bars[1] > bars[2] >= 1
    assert "█" not in shown_on_a_terminal(person, ["rank", "--no-steps", "--plain"], 140)
    assert "█" not in shown_on_a_terminal(person, ["rank", "--no-steps"], 70)
    assert "█" not in person("rank", "--no-steps").out, "a pipe gets figures"


def test_notes_can_be_shown_for_good(person: Program) -> None:
    config = person.folder / "settings.toml"
    person.env["JOVIK_CONFIG"] = str(config)
    person("config", "set", "notes", "shown")
    assert "margin 5 %" in person("judge", COMET, status=1).out
    assert "counted" in person("config", "set", "notes", "loud", status=2).err
    shown: Any = person("judge", COMET, "--format", "json", status=1).json
    assert shown["summary"].startswith("4 of 6")
