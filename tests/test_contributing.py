"""What CONTRIBUTING.md says of adding a picture and a command, done in a copy of the code."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import jovik
from tests.conftest import Program

SOURCE = Path(jovik.__file__).parent
CHART = '''"""Passes of each step of a drive."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.charts.chart import About, Bar, BarChart, BarRow
from jovik.shelf.store import Shelf


def passes_of(shelf: Shelf, drives: Sequence[str]) -> BarChart:
    """Chart how many passes each step has."""
    results = shelf.results.latest(shelf.sheets.get(drives[0]).drive.name)
    rows = [
        BarRow(r.kind, (Bar(len(r.passes), str(len(r.passes)), r.kind),)) for r in results
    ]
    return BarChart("Passes", tuple(rows), about=About(alt="Passes of each step"))
'''
ROW = """    "passes": ChartKind("How many passes each step of DRIVE has.", "passes:passes_of"),
"""
ANSWER = '''"""Names of the drives."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from jovik.answers.answer import Answer
from jovik.shelf.store import Shelf
from jovik.tables.table import Table


@dataclass(frozen=True)
class NamesAnswer(Answer):
    """Names of drives."""

    schema: ClassVar[str] = "names"

    names: tuple[str, ...]

    def tables(self) -> Sequence[Table]:
        """Return a row for each name."""
        return [Table("Names", ["drive"], [(n,) for n in self.names])]


def names(shelf: Shelf, containing: str) -> NamesAnswer:
    """List the drives whose name contains a text."""
    return NamesAnswer(tuple(n for n in shelf.sheets.names() if containing in n))
'''
COMMAND = '''"""`jovik names`."""

from __future__ import annotations

import click

from jovik.cli.handled_by import answered_by
from jovik.cli.options import format_option, shelf_option


@click.command()
@click.option("--containing", default="", help="Only names with this text.")
@format_option("markdown")
@shelf_option
@answered_by("names:names")
def names() -> None:
    """List the names of drives."""
'''


def put_before(file: Path, mark: str, text: str) -> None:
    before = file.read_text(encoding="utf-8")
    assert before.count(mark) == 1
    file.write_text(before.replace(mark, text + mark), encoding="utf-8")


def test_a_picture_is_a_file_and_a_row_and_an_answer_a_file_in_two_packages(
    shown: Program, tmp_path: Path
) -> None:
    code = tmp_path / "code"
    shutil.copytree(SOURCE, code / "jovik", ignore=shutil.ignore_patterns("__pycache__"))
    put_before(code / "jovik/charts/kinds.py", '    "upgrade": ChartKind(', ROW)
    (code / "jovik/charts/passes.py").write_text(CHART)
    put_before(code / "jovik/cli/__init__.py", '    "demo": "', '    "names": "List names.",\n')
    (code / "jovik/answers/names.py").write_text(ANSWER)
    (code / "jovik/cli/names_command.py").write_text(COMMAND)

    # The lines of this copy are not those that a measurement of coverage counts.
    environment = {k: v for k, v in (os.environ | shown.env).items() if "COVERAGE" not in k}

    def run(*words: str) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "jovik", *words],
            cwd=tmp_path,
            env=environment | {"PYTHONPATH": str(code)},
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    comet = "Veldhaar Comet 2TB"
    assert "How many passes" in run("picture", "--help") and "List names." in run("--help")
    run("picture", "passes", comet, "--out", "x.svg")
    assert "Passes" in (tmp_path / "x.svg").read_text(encoding="utf-8")
    asked = ("names", "--containing", "Comet", "--format")
    assert json.loads(run(*asked, "json")) == {"schema": "jovik names 1", "names": [comet]}
    assert run(*asked, "csv").split("\n")[:2] == ["drive", comet]
    assert f"| {comet} |" in run(*asked, "markdown") and comet in run(*asked, "table")
