"""The reviewer's hand: placeholders that stay true, a verdict of one's own, other languages."""

from __future__ import annotations

import re
import tomllib
from importlib import resources
from pathlib import Path

import pytest

from jovik.base.errors import UnknownNameError
from jovik.charts.chart import Cell, HeatMap, between, decades, from_zero, powers_of_ten
from jovik.charts.svg import chart_svg
from jovik.report.document import Bullets, ClaimMarks, Document, Facts, Section
from jovik.report.language import in_language, language_names, read_language
from jovik.report.placeholders import NAMED_PLACEHOLDERS, PLAIN_PLACEHOLDERS
from jovik.report.reviewer_text import split_part
from jovik.tables import Table
from tests.conftest import Program

SLATE = "Corvane Slate 1TB"
TOP = Path(__file__).resolve().parents[1]


@pytest.fixture
def measured(jovik: Program) -> Program:
    steps = ["sequential read 1MiB depth 8 for 1s", "random read 4KiB for 1s"]
    jovik("measure", "model:slate", *steps, "--passes", "3", "--seed", "1")
    jovik("note", SLATE, "--reading", "boot time=8.1s")
    return jovik


def page(jovik: Program, words: str, *more: str) -> str:
    (jovik.folder / "mine.md").write_text(words, encoding="utf-8")
    jovik("report", SLATE, "--words", "mine.md", "--out", "page.md", *more)
    return (jovik.folder / "page.md").read_text(encoding="utf-8")


def test_figures_in_the_reviewers_words_stay_true(measured: Program) -> None:
    words = 'It reads {{ figure "sequential read 1MiB depth 8" }}. {{judge}}, {{ price }}.'
    step = measured("runs", "show", "last", "--format", "json").json["steps"][0]
    before = page(measured, words)
    rate = step["rate_bytes_s"]["median"] / 1e6
    assert f"It reads {rate:.0f} (" in before and "claims met" in before and "EUR" in before
    said = re.search(r"It reads .*?\)", before)
    again = ["sequential read 1MiB depth 8 for 1s", "--passes", "3", "--seed", "9"]
    measured("measure", "model:slate@link=SATA 3 Gb/s", "--drive", SLATE, *again)
    assert said is not None and said[0] in page(measured, words), "a slower link tells nothing new"
    measured("measure", "model:slate", "--drive", SLATE, *again)
    assert said[0] not in page(measured, words), "measured again, said again"
    every = "\n\n".join(
        [
            *(f"{{{{ {w} }}}}" for w in PLAIN_PLACEHOLDERS if w not in ("cliff",)),
            '{{ iops "random read 4KiB" }}; {{ latency “random read 4KiB” }}',
            '{{ claim "sequential read" }}; {{ reading "boot time" }}',
        ]
    )
    made = page(measured, every)
    assert "{{" not in made and "IOPS" in made and "at the median" in made and "8.10 s" in made


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("{{ jugde }}", "nearest: judge"),
        ('{{ figure "random raed 4KiB" }}', "random read 4KiB"),
        ("{{ figure }}", "needs a name in quotes"),
        ("{{ cliff }}", "there is no such figure"),
        ('{{ claim "telepathy" }}', "there is no claim called"),
        ('{{ reading "weight" }}', "there are: boot time"),
        ('{{ "x" }}', "there is no placeholder"),
    ],
)
def test_a_placeholder_that_means_nothing_is_told_with_the_nearest(
    measured: Program, words: str, said: str
) -> None:
    (measured.folder / "mine.md").write_text(words, encoding="utf-8")
    refused = measured("report", SLATE, "--words", "mine.md", "--out", "page.html", status=2)
    assert said in refused.err
    assert not (measured.folder / "page.html").exists()


def test_a_verdict_of_ones_own_takes_the_place_of_ours(measured: Program) -> None:
    made = page(measured, "# Verdict\n\nBuy it.\n\n# More\n\nIt hums.\n")
    verdict = made[made.index("## The verdict") : made.index("## In the reviewer")]
    assert "Buy it." in verdict and "claims met" not in verdict and "It hums." not in verdict
    assert "It hums." in made[made.index("## In the reviewer") :]
    assert split_part("Nothing of that.\n# Verdict\n\nlate", "verdict") == (
        "",
        "Nothing of that.\n# Verdict\n\nlate",
    )
    assert split_part("## verdict ##\nA\n### B\nC\n# D\n", "verdict") == ("A\n### B\nC", "# D\n")


def test_an_editor_opens_a_draft_whose_placeholders_are_known(
    measured: Program,
) -> None:
    editor = measured.folder / "editor"
    editor.write_text('#!/bin/sh\necho "Quiet: {{ price }}." >> "$1"\n')
    editor.chmod(0o755)
    measured.env["EDITOR"] = str(editor)
    measured("report", SLATE, "--edit", "--out", "page.md")
    kept = (measured.shelf.parent / "words" / "corvane-slate-1tb.md").read_text()
    assert "{{ judge }}" in kept
    assert "Quiet: 64 EUR." in (measured.folder / "page.md").read_text()
    assert "--edit" in measured("report", "--all", "--edit", "--out", "x", status=2).err


@pytest.mark.parametrize("language", ["de", "fr", "es"])
def test_headings_verdicts_and_numbers_of_a_language(measured: Program, language: str) -> None:
    found = read_language(language)
    assert found is not None
    plain = page(measured, "It costs 1,234.5 EUR.")
    made = page(measured, "It costs 1,234.5 EUR.", "--language", language)
    for english, other in found.headings.items():
        if f"## {english}\n" in plain:
            assert f"## {other}\n" in made, english
    assert "It costs 1,234.5 EUR." in made, "the reviewer's text as it is"
    (row,) = [x for x in made.splitlines() if x.startswith("| random read, 4 KiB | ")][:1]
    (same,) = [x for x in plain.splitlines() if x.startswith("| random read, 4 KiB | ")][:1]
    row, same = row.replace("\\", ""), same.replace("\\", "")  # Markdown's escapes
    figures = re.findall(r"\d[\d.,]*\d", same.partition("KiB")[2])
    how = found.numbers
    for figure in figures:
        written = figure.replace(",", "|").replace(".", how.decimal).replace("|", how.thousands)
        assert written in row, (figure, row)
    assert any("," in f or "." in f for f in figures)
    measured("report", SLATE, "--language", language, "--out", "page.html")
    assert f'<html lang="{language}">' in (measured.folder / "page.html").read_text()
    # Whoever has a page read aloud hears English sentences as English; verdicts keep their colour.
    measured("report", SLATE, "--out", "english.html")
    page_words, english_page = (
        (measured.folder / name).read_text() for name in ("page.html", "english.html")
    )
    for tag in ("p", "li", "caption", "figure"):
        whole = re.findall(rf"<{tag}(?=[ >])[^>]*>", page_words)
        marked = [x for x in whole if 'lang="en"' in x]
        assert marked and len(marked) >= len(whole) // 3, tag
    assert 'lang="en"' not in english_page.split("<body>")[1]
    colours = re.findall(r'<td class="(good|bad|open)"', page_words)
    assert colours == re.findall(r'<td class="(good|bad|open)"', english_page)
    wrong = measured("report", SLATE, "--language", "dee", "--out", "x.md", status=2)
    assert "nearest" in wrong.err


def test_each_language_has_every_heading_of_the_others() -> None:
    files = resources.files("jovik.report.languages")
    read = {
        f.name: tomllib.loads(f.read_text(encoding="utf-8"))
        for f in files.iterdir()
        if f.name.endswith(".toml")
    }
    assert {f"{n}.toml" for n in language_names() if n != "en"} == set(read)
    for part in ("headings", "verdicts"):
        keys = {frozenset(found[part]) for found in read.values()}
        assert len(keys) == 1, part
    source = "".join(p.read_text(encoding="utf-8") for p in (TOP / "src/jovik/report").glob("*.py"))
    for heading in next(iter(read.values()))["headings"]:
        assert f'"{heading}' in source or heading in ("Contents", "per TB"), heading


def test_numbers_are_written_as_the_language_does() -> None:
    rows = [["PCIe 4.0 x4", "7,230.5"], ["random, 4 KiB", "1.5 to 2"]]
    table = Table("t", ["step", "MB/s"], rows)
    blocks = (
        Bullets("Best for", ("4.0 words",), "+"),
        Facts((("price", "1,234.50 EUR"),)),
        ClaimMarks((("read", "7,230 MB/s ±1.2 %", "up to 7,100 MB/s", "met", "good"),)),
        table,
    )
    sections = (Section("verdict", "The verdict", blocks), Section("x", "Instead of Slate", ()))
    made = in_language(Document("t", "s", sections, "c"), "de")
    bullets, facts, marks, numbers = made.sections[0].blocks
    assert isinstance(bullets, Bullets) and bullets.title == "Gut für"
    assert isinstance(facts, Facts) and facts.items == (("Preis", "1.234,50 EUR"),)
    assert isinstance(marks, ClaimMarks)
    assert marks.items[0][1:4] == ("7.230 MB/s ±1,2 %", "up to 7.100 MB/s", "erfüllt")
    assert isinstance(numbers, Table)
    assert [list(r) for r in numbers.rows] == [
        ["PCIe 4.0 x4", "7.230,5"],
        ["random, 4 KiB", "1,5 to 2"],
    ], "what a drive is called is no figure"
    assert made.sections[1].title == "Statt Slate" and made.language == "de"
    with pytest.raises(UnknownNameError):
        in_language(made, "xx")
    assert set(NAMED_PLACEHOLDERS) | set(PLAIN_PLACEHOLDERS) >= {"judge", "figure"}


def test_a_heat_map_says_its_values_without_any_colour() -> None:
    cells = (Cell(0.0, "710", "0 % reads: 710 IOPS"), None, Cell(1.0, "6,210 ?", "all reads"))
    chart = HeatMap("t", ("0 %", "50 %", "100 %"), (("4 KiB", cells),), "reads")
    drawn = chart_svg(chart, "mixes", "I/Os a second over mix and block")
    assert drawn.count('data-said="0 % reads: 710 IOPS"') == 2, "at each of two widths"
    assert "shade0" in drawn and "shade5" in drawn and ">710<" in drawn and ">6,210 ?<" in drawn
    hostile = HeatMap("<b>", ("x",), (("<i>", (Cell(0.5, "&", '"><script>'),)),), "r")
    assert not re.search(r"<(b|i|script)>", chart_svg(hostile, "x", "<b>"))


def test_axes_have_round_numbers_within_their_ends() -> None:
    for top in (0.003, 0.97, 7.0, 1234.0, 9.9e6):
        axis = from_zero("x", [top])
        marks = [at for at, _ in axis.ticks]
        assert marks[0] == 0 and 3 <= len(marks) <= 12 and top <= axis.high <= 1.1 * top
        assert axis.share(0) == 0 and axis.share(axis.high) == 1
    axis = between("°C", 38.2, 61.7)
    assert all(38.2 <= at <= 61.7 for at, _ in axis.ticks) and len(axis.ticks) >= 3
    values = [12e3, 754e3]
    words = [str(p) for p in powers_of_ten(values)]
    log = decades("ns", values, words)
    assert [w for _, w in log.ticks] == ["10000.0", "100000.0", "1000000.0"]
    assert 0 < log.share(12e3) < log.share(754e3) < 1
