"""The reviewer's hand: placeholders that stay true, and a verdict of one's own."""

from __future__ import annotations

import re

import pytest

from jovik.charts.chart import Cell, HeatMap, between, decades, from_zero, powers_of_ten
from jovik.charts.svg import chart_svg
from jovik.report.placeholders import PLAIN_PLACEHOLDERS
from jovik.report.reviewer_text import split_part
from tests.conftest import Program

SLATE = "Corvane Slate 1TB"


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
