"""The tutorial, followed word by word."""

from __future__ import annotations

import shlex
from pathlib import Path

from tests.conftest import Program

TOP = Path(__file__).resolve().parents[1]


def test_every_command_of_the_tutorial_does_what_is_quoted_below_it(jovik: Program) -> None:
    said, count = "", 0
    for line in (TOP / "docs" / "tutorial.md").read_text(encoding="utf-8").splitlines():
        if line.startswith("    jovik "):
            answer = jovik(*shlex.split(line)[1:], status=None)
            # 1 is an answer too: a claim fell short, a load is not carried.
            assert answer.status in (0, 1), (line, answer.err)
            said, count = f"{said}\n{answer.out}\n{answer.err}", count + 1
        elif line.startswith("> "):
            assert line[2:] in " ".join(said.split("\n")) or line[2:] in said, line
        elif line.startswith("##"):
            said = ""
    assert count == 21
    assert {p.name for p in jovik.folder.iterdir()} == {"cliff.png", "review.html", "review-copy.db", "fjord.zip"}
