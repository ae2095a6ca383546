"""The house rules that no linter has: how long things are, and that one name is one concept."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "jovik"
MOST_LINES, MOST_FILE_LINES = 60, 500
LONG = {
    "uring_loop": "compiled: a call in it would cost",
    "replay_loop": "compiled: a call in it would cost",
    "replay_lane": "compiled: a call in it would cost",
    "blocking_loop": "compiled: a call in it would cost",
    "identify": "one look at a drive, in the order in which it is told",
    "readings": "one row for each figure of a health log",
    "draw_latency": "one picture, from its axes to its marks",
    "demo": "the tour, one line after the other",
    "rank": "the options of the command, checked and handed on",
    "_load": "the three sorts of load, side by side",
    "upgrade": "a migration is the schema of its day",
}
"""Functions that are longer than they should be, and why."""


def modules() -> Iterator[tuple[Path, ast.Module]]:
    for path in sorted(SOURCE.rglob("*.py")):
        yield path, ast.parse(path.read_text(encoding="utf-8"))


def test_functions_and_files_are_short_or_named_here() -> None:
    seen = set()
    for path, tree in modules():
        lines = [x for x in path.read_text(encoding="utf-8").splitlines() if x.strip()]
        assert len(lines) <= MOST_FILE_LINES, path
        for node in ast.walk(tree):
            if not isinstance(node, ast.FunctionDef) or node.end_lineno is None:
                continue
            first = node.body[1 if ast.get_docstring(node) and len(node.body) > 1 else 0]
            if node.end_lineno - first.lineno + 1 > MOST_LINES:
                assert node.name in LONG, (path, node.name)
                seen.add(node.name)
    assert seen == set(LONG), "exceptions that are none any more"


def test_every_public_docstring_begins_with_one_summary_line() -> None:
    for path, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.ClassDef | ast.Module):
                text = ast.get_docstring(node)
                if text is not None and "\n" in text:
                    summary, second = text.splitlines()[:2]
                    assert len(summary) <= 100 and second.strip() == "", (path, summary)


def test_nothing_is_left_out_of_the_formatter() -> None:
    marks = ("fmt: skip", "fmt: off")
    for folder in (SOURCE, SOURCE.parents[1] / "tests"):
        for path in folder.rglob("*.py"):
            if path.name != Path(__file__).name:
                assert not any(m in path.read_text(encoding="utf-8") for m in marks), path


def test_no_decision_reads_a_sentence() -> None:
    for path, _ in modules():
        text = path.read_text(encoding="utf-8")
        for read in ('startswith("the', "in note", "facts["):
            lines = [x for x in text.splitlines() if read in x and "in notes" not in x]
            assert not lines, (path, lines)
