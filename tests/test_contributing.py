"""The recipes of CONTRIBUTING.md, followed in a copy of the code."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

import jovik as package
from tests.conftest import Program

SOURCE = Path(package.__file__).parent
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


STEP = '''"""A nap: idle for a second."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from typing_extensions import override

from jovik.steps.step import PreparingStep

if TYPE_CHECKING:
    from jovik.base.io_session import ProgressCallback
    from jovik.runs.running_step import RunningStep


@dataclass(frozen=True)
class NapStep(PreparingStep):
    """Stay idle for a second."""

    word: ClassVar[str] = "nap"

    @override
    def prepare(self, run: RunningStep, watch: ProgressCallback) -> tuple[str, None]:
        run.session.wait(10**9)
        return "napped", None
'''
CLAUSE = """    Clause(
        ("gently",), "gently", lambda c: {"gently": True}, lambda s: "gently" if s.gently else ""
    ),
"""
FINDING = """@dataclass(frozen=True)
class IoCount:
    \"\"\"How many I/Os the passes made.\"\"\"

    ios: int


"""
ANALYSIS = '''"""The I/Os of passes."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.base.findings import IoCount
from jovik.base.trace import Trace


def io_count(traces: Sequence[Trace]) -> IoCount:
    """Return the number of I/Os of all passes."""
    return IoCount(sum(t.ios for t in traces))
'''


def put_before(file: Path, mark: str, text: str) -> None:
    before = file.read_text(encoding="utf-8")
    assert before.count(mark) == 1
    file.write_text(before.replace(mark, text + mark), encoding="utf-8")


@dataclass
class Changed:
    """A copy of the code, run on a shelf of its own."""

    code: Path
    env: dict[str, str]

    def run(self, *words: str) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "jovik", *words],
            cwd=self.code,
            env=self.env,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr
        return done.stdout


@pytest.fixture
def changed(jovik: Program, shown: Program, tmp_path: Path) -> Changed:
    code = tmp_path / "code"
    shutil.copytree(SOURCE, code / "jovik", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.copy(shown.shelf, tmp_path / "shelf.db")
    # The lines of this copy are not those that a measurement of coverage counts.
    env = {k: v for k, v in (os.environ | jovik.env).items() if "COVERAGE" not in k}
    return Changed(code, env | {"PYTHONPATH": str(code), "JOVIK_SHELF": str(tmp_path / "shelf.db")})


def test_a_step_is_a_file_and_a_row(changed: Changed) -> None:
    steps = changed.code / "jovik/steps"
    (steps / "nap.py").write_text(STEP)
    put_before(steps / "registry.py", "    ReplayStep,\n)", "    NapStep,\n")
    put_before(
        steps / "registry.py",
        "from jovik.steps.precondition",
        "from jovik.steps.nap import NapStep\n",
    )
    words = ["random read 4KiB for 100ms within 8MB", "nap", "--drive", "Napper", "--passes", "2"]
    changed.run("sheet", "new", "Napper")
    run = json.loads(changed.run("measure", "model:comet", *words, "--format", "json"))
    assert [s["notes"][0] for s in run["steps"] if s["phrase"] == "nap"] == ["napped"]
    assert "nap" not in {s["kind"] for d in ranking(changed) for s in d["steps"]}


def test_a_part_of_a_phrase_is_a_field_and_a_row(changed: Changed) -> None:
    steps = changed.code / "jovik/steps"
    put_before(steps / "io_step.py", "    durable: bool = False\n", "    gently: bool = False\n")
    put_before(steps / "io_clauses.py", '    Clause(\n        ("durable",),', CLAUSE)
    changed.run("sheet", "new", "Gentle")
    words = ["random read 4KiB gently for 100ms within 8MB", "--drive", "Gentle", "--passes", "2"]
    (step,) = json.loads(changed.run("measure", "model:comet", *words, "--format", "json"))["steps"]
    assert step["phrase"] == "random read 4KiB for 100ms within 8MB gently"


def test_a_finding_is_a_class_and_a_function_and_a_line(changed: Changed) -> None:
    code = changed.code / "jovik"
    put_before(code / "base/findings.py", "@dataclass(frozen=True)\nclass Findings:", FINDING)
    field = "    counted: IoCount | None = None\n"
    put_before(code / "base/findings.py", "    lost: LostData | None", field)
    (code / "analysis/io_count.py").write_text(ANALYSIS)
    put_before(
        code / "runs/findings.py",
        "    gone = next(",
        "    collected.findings = replace(collected.findings, counted=io_count(traces))\n",
    )
    put_before(
        code / "runs/findings.py",
        "from jovik.analysis.cliff_agreement",
        "from jovik.analysis.io_count import io_count\n",
    )
    changed.run("sheet", "new", "Counted")
    words = ["random read 4KiB for 100ms within 8MB", "--drive", "Counted", "--passes", "2"]
    changed.run("measure", "model:comet", *words)
    (step,) = json.loads(changed.run("runs", "show", "last", "--format", "json"))["steps"]
    assert step["facts"]["counted"]["ios"] > 0
    assert "whole" in changed.run("shelf", "check")


def ranking(changed: Changed) -> list[dict[str, Any]]:
    drives: list[dict[str, Any]] = json.loads(changed.run("rank", "--format", "json"))["drives"]
    return drives


def test_a_picture_is_a_file_and_a_row_and_an_answer_a_file_in_two_packages(
    changed: Changed,
) -> None:
    code, run = changed.code, changed.run
    put_before(code / "jovik/charts/kinds.py", '    "upgrade": ChartKind(', ROW)
    (code / "jovik/charts/passes.py").write_text(CHART)
    put_before(code / "jovik/cli/__init__.py", '    "demo": "', '    "names": "List names.",\n')
    (code / "jovik/answers/names.py").write_text(ANSWER)
    (code / "jovik/cli/names_command.py").write_text(COMMAND)

    comet = "Veldhaar Comet 2TB"
    assert "How many passes" in run("picture", "--help") and "List names." in run("--help")
    run("picture", "passes", comet, "--out", "x.svg")
    assert "Passes" in (code / "x.svg").read_text(encoding="utf-8")
    asked = ("names", "--containing", "Comet", "--format")
    assert json.loads(run(*asked, "json")) == {"schema": "jovik names 1", "names": [comet]}
    assert run(*asked, "csv").split("\n")[:2] == ["drive", comet]
    assert f"| {comet} |" in run(*asked, "markdown") and comet in run(*asked, "table")
