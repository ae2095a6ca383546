"""Answers: the same object for a terminal, JSON, CSV, Markdown, a notebook and Python."""

from __future__ import annotations

import csv
import io
from typing import Any

import pytest
from markdown_it import MarkdownIt

import jovik as package
from jovik.answers.answer import Answer
from jovik.shelf.store import Shelf
from tests.conftest import Program

COMET, SLATE = "Veldhaar Comet 2TB", "Corvane Slate 1TB"
QUESTIONS: dict[str, tuple[list[str], Any]] = {
    "rank": (["rank", "--review", COMET], lambda s: package.rank(s, review=COMET)),
    "rank by price": (["rank", "--by", "price"], lambda s: package.rank(s, by="price")),
    "judge": (["judge", COMET], lambda s: package.judge(s, COMET)),
    "compare": (["compare", SLATE, COMET], lambda s: package.compare(s, SLATE, COMET)),
    "upgrade": (["upgrade", SLATE, COMET], lambda s: package.upgrade(s, SLATE, COMET)),
    "fit": (["fit", COMET], lambda s: package.fit(s, COMET)),
}


@pytest.mark.parametrize("question", QUESTIONS)
def test_python_gives_the_answer_of_the_command(shown: Program, question: str) -> None:
    words, ask = QUESTIONS[question]
    printed = shown(*words, "--format", "json", status=None)
    with Shelf(shown.env["JOVIK_SHELF"]) as shelf:
        answer: Answer = ask(shelf)
    told = printed.json
    assert told.pop("schema") == f"jovik {answer.schema} 1"
    assert told == answer.data() and printed.status == answer.status


@pytest.mark.parametrize("question", QUESTIONS)
def test_every_format_has_the_cells_of_the_table(shown: Program, question: str) -> None:
    words, ask = QUESTIONS[question]
    with Shelf(shown.env["JOVIK_SHELF"]) as shelf:
        answer: Answer = ask(shelf)
    markdown = shown(*words, "--format", "markdown", status=None).out
    assert markdown == answer.markdown()
    rendered = MarkdownIt("commonmark").enable("table").render(markdown)
    cells = {c for table in answer.tables() for row in table.rows for c in row if c}
    page = answer._repr_html_()
    for cell in cells:
        text = cell.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
        assert text in rendered, cell
        assert text in page.replace("&#x27;", "'"), cell
    rows = list(csv.reader(io.StringIO(shown(*words, "--format", "csv", status=None).out)))
    assert rows[0] == list(answer.csv().header) and len({len(r) for r in rows}) == 1


def test_a_hostile_name_is_text_in_markdown(jovik: Program) -> None:
    name = "<img src=x> | *b* [a](b) `c`"
    jovik("sheet", "new", name)
    steps = ["random read 4KiB for 1s", "--passes", "2", "--seed", "1"]
    jovik("measure", "model:comet", *steps, "--drive", name)
    page = (
        MarkdownIt("commonmark").enable("table").render(jovik("rank", "--format", "markdown").out)
    )
    assert "<img" not in page and "<a " not in page and "<code" not in page
    assert "&lt;img src=x&gt; | *b* [a](b) `c`" in page
