"""Whether to buy a drive: the rules in their order, and the answer wherever readers meet it."""

from __future__ import annotations

import contextlib
import html
import json
import re
import sqlite3
from collections.abc import Sequence
from dataclasses import replace
from xml.etree import ElementTree

import pytest

from jovik.analysis.advice import Answer, Rule, advice
from jovik.analysis.drive_class import ClassFigure
from jovik.analysis.drive_faults import DriveFault
from jovik.analysis.suitability import Suitability
from jovik.base.findings import FailedIos, LostData
from jovik.base.interval import Interval
from jovik.base.terminal_text import isolated
from jovik.queries.drive_class import ClassStanding, ranges_of, shortfalls
from jovik.sheets.drive_class import read_class
from jovik.sheets.load import read_load
from jovik.tables.advice import advice_sentence
from tests.conftest import Program
from tests.truth.shelves import result

FAILED = FailedIos(3, ())
FAKE = LostData(10**9, 10**8, 10**8)
ONE: dict[str, Sequence[DriveFault]] = {"sample 1": ()}
COMET = "Veldhaar Comet 2TB"


def use(name: str, headroom: float | None) -> Suitability:
    return Suitability(read_load(name), headroom, int(headroom or 0), "read rate", None)


ALL = [use(n, 5.0) for n in ("boot", "games", "edit-4k", "edit-8k", "backup")]
USUAL = Interval(110.0, 105.0, 116.0)


@pytest.mark.parametrize(
    ("faults", "slower", "index", "figures", "uses", "rule"),
    [
        (ONE, (), USUAL, 7, ALL, Rule.GOOD),
        (ONE, (), Interval(45.0, 40.0, 49.0), 7, ALL, Rule.FAR_BELOW),
        (ONE, (), Interval(45.0, 40.0, 51.0), 7, ALL, Rule.BELOW),
        (ONE, (), Interval(80.0, 70.0, 91.0), 7, ALL, Rule.GOOD),
        (ONE, (), USUAL, 2, ALL, Rule.UNKNOWN),
        (ONE, (), Interval(110.0), 7, ALL, Rule.UNKNOWN),
        (ONE, (), None, 0, ALL, Rule.UNKNOWN),
        (ONE, (), USUAL, 7, [use("boot", None)], Rule.UNKNOWN),
        (ONE, (), USUAL, 7, [use("boot", 1.2), use("games", 0.9)], Rule.NO_USE),
        (ONE, (), USUAL, 7, [use("boot", 1.3), use("games", 0.9)], Rule.SOME_USES),
        ({"a": [FAILED]}, (), None, 0, [], Rule.FAULTS),
        ({"a": [FAILED], "b": []}, (), USUAL, 7, ALL, Rule.FAULTS),
        ({"a": [FAILED], "b": [], "c": []}, (), USUAL, 7, ALL, Rule.FAULTY_SAMPLE),
        ({"a": [FAKE], "b": [], "c": []}, (), USUAL, 7, ALL, Rule.FAULTS),
        ({"a": [], "b": [], "c": []}, ("b",), USUAL, 7, ALL, Rule.FAULTY_SAMPLE),
    ],
)
def test_the_first_rule_that_applies_decides(
    faults: dict[str, Sequence[DriveFault]],
    slower: Sequence[str],
    index: Interval | None,
    figures: int,
    uses: Sequence[Suitability],
    rule: Rule,
) -> None:
    assert advice(faults, slower, index, figures, "SATA SSD", uses).rule is rule


def test_the_answer_is_a_sentence_for_people() -> None:
    found = advice(ONE, (), USUAL, 7, "SATA SSD", ALL)
    told = "Buy: 1.1 times as fast as is usual for a SATA SSD, between 1.1 and 1.2, and fast enough"
    assert found.answer is Answer.BUY and advice_sentence(found).startswith(told)
    some = [use("boot", 0.4), *ALL[1:], use("capture-8k", 0.5)]
    told = advice_sentence(advice(ONE, (), USUAL, 7, "SATA SSD", some))
    assert told == (
        "Buy if you need it for loading a game and editing 4K video, not for a desktop's boot drive"
    )
    three = advice({"a": [], "b": [], "c": []}, ("b",), USUAL, 7, "SATA SSD", ALL)
    assert advice_sentence(three) == (
        "Buy if you test yours at once: 1 of 3 samples is far slower than the others"
    )
    mixed = advice({"a": [FAILED], "b": [], "c": []}, ("b",), USUAL, 7, "SATA SSD", ALL)
    assert "1 of 3 samples failed and 1 is far slower than the others" in advice_sentence(mixed)
    unknown = replace(found, rule=Rule.UNKNOWN)
    assert advice_sentence(unknown) == "No answer yet: too little was measured"
    for rule in Rule:
        assert advice_sentence(replace(found, rule=rule, faults=(FAILED,)))


def test_a_page_begins_with_the_answer_and_counts_claims_later(shown: Program) -> None:
    shown("report", COMET, "--out", "review.html")
    page = (shown.folder / "review.html").read_text()
    first = page.index('class="loud">Buy: 1.')
    data = json.loads(re.findall(r'<script type="application/ld.json">(.*?)</script>', page)[0])
    product = data["itemReviewed"]
    assert data["@type"] == "Review" and data["reviewBody"].startswith("Buy: 1.")
    assert product["name"] == COMET and product["brand"]["name"] == "Veldhaar"
    assert product["offers"] == {"@type": "Offer", "price": "149.00", "priceCurrency": "EUR"}
    assert first < page.index("of 6 claims met") and first < page.index("<svg")
    assert re.search(r"Overall: 1\.\d times Ilmaris Drift 1TB, between 1\.\d and [12]\.\d", page)
    words = shown.folder / "mine.md"
    words.write_text(
        '# Answer\n\nAvoid: the cap came off at {{ claim "sequential read" }}.\n\n'
        "# Verdict\n\nIt is fast.\n"
    )
    shown("report", COMET, "--words", words, "--out", "review.html")
    page = (shown.folder / "review.html").read_text()
    assert 'class="loud">Avoid: the cap came off at 7,' in page
    assert "By Jovik&#39;s rules: buy: 1." in page.replace("'", "&#39;") and "It is fast." in page


def test_a_faulty_sample_is_told_wherever_a_reader_meets_the_drive(shown: Program) -> None:
    shown("measure", "model:cinder", "--plan", "first-look", "--seed", "2", status=None)
    shown("report", "--all", "--each", "--base-url", "https://reviews.example/", "--out", "site")
    site = shown.folder / "site"
    told = "1 of 2 samples"
    for name in ("index.html", "veldhaar-comet-2tb.html", "class-pcie4-ssd.html"):
        assert told in (site / name).read_text(), name
    feed = ElementTree.parse(site / "feed.xml").getroot()
    atom = "{http://www.w3.org/2005/Atom}"
    summaries = {
        e.findtext(f"{atom}title"): e.findtext(f"{atom}summary") for e in feed.iter(f"{atom}entry")
    }
    assert told in str(summaries[COMET]) and all(summaries.values())
    links = [x.attrib for x in feed.findall(f"{atom}link")]
    assert {"rel": "self", "href": "https://reviews.example/feed.xml"}.items() <= links[0].items()
    page = (site / "veldhaar-comet-2tb.html").read_text()
    assert re.search(r'og:description" content="[^"]*1 of 2 samples', page)
    assert "sample 2: random read" in page


def test_what_went_wrong_is_told_fairly_with_the_evidence(shown: Program) -> None:
    shown("measure", "model:cinder", "--plan", "first-look", "--seed", "2", status=None)
    shown("report", COMET, "--letter", "--out", "letter")
    told = (shown.folder / "letter" / "veldhaar-comet-2tb.md").read_text()
    readers, maker = told.split("For the maker")
    assert "2 samples of the Veldhaar Comet 2TB were measured" in readers
    assert "1 of 2 samples" in readers and "Another sample may differ." in readers
    assert "sample 2: random read" in maker and "on virtual bench" in maker
    assert "sequential write: 6," in maker and "claimed up to 6,600 MB/s" in maker
    archive = shown.folder / "letter" / "veldhaar-comet-2tb.zip"
    added = shown.on_shelf("maker.db")("shelf", "import", archive).out
    assert added.startswith("added 1 drive, ")
    # A second time, Jovik replaces its own files.
    shown("report", COMET, "--letter", "--out", "letter")
    refused = shown("report", "--all", "--letter", "--out", "letter", status=2).err
    assert "--letter does not go with --all" in refused


CHANGES: dict[str, tuple[str, ...]] = {
    "nothing": (),
    "a rival's figures": ("measure", "model:slate", "random read 4KiB for 1s", "--seed", "9"),
    "a rival's price": ("sheet", "edit", "Corvane Slate 1TB", "--price", "50 EUR"),
    "another sample": (
        "measure",
        "model:comet@serial=B2",
        "random read 4KiB for 1s",
        "--seed",
        "3",
    ),
    "a remark": ("note", COMET, "--con", "it rattles"),
    "a reading": ("note", COMET, "--reading", "boot time=8.1s", "--method", "stopwatch"),
    "a drive without runs": ("sheet", "new", "Odrin Fen 2TB", "--interface", "PCIe 4.0 x4"),
    "an excluded step": ("runs", "exclude", "last", "--step", "1", "--why", "wrong cable"),
    "the unit of rates": ("config", "set", "units", "GB/s"),
}


def test_a_site_is_as_if_made_from_scratch_whatever_changes(jovik: Program) -> None:
    for model in ("comet", "slate"):
        jovik("measure", f"model:{model}", "random read 4KiB for 1s", "--seed", "1")
    jovik("sheet", "edit", COMET, "--price", "150 EUR")
    make = ("report", "--all", "--each", "--base-url", "https://reviews.example/", "--out")
    jovik(*make, "site")
    site = jovik.folder / "site"
    for what, words in CHANGES.items():
        if words:
            jovik(*words)
        else:
            assert jovik(*make, "site").out == "" and (site / "feed.xml").exists()
        jovik(*make, "site")
        jovik(*make, f"scratch-{what}")
        scratch = jovik.folder / f"scratch-{what}"
        names = {path.name for path in scratch.iterdir()}
        assert names == {path.name for path in site.iterdir()}, what
        for name in names:
            assert (site / name).read_bytes() == (scratch / name).read_bytes(), (what, name)
        for name in ("veldhaar-comet-2tb.png", "veldhaar-comet-2tb-twin.toml", "compare.html"):
            if what == "nothing" and name in names:
                (site / name).unlink()
                jovik(*make, "site")
                assert (site / name).read_bytes() == (scratch / name).read_bytes(), name


def test_a_name_from_right_to_left_keeps_its_digits(shown: Program) -> None:
    name = "קורבן צפחה 1TB"
    shown("sheet", "rename", "Corvane Slate 1TB", name)
    shown("report", "--all", "--out", "all.html")
    page = (shown.folder / "all.html").read_text()
    apart = f"\N{FIRST STRONG ISOLATE}{name}\N{POP DIRECTIONAL ISOLATE}"
    assert page.count(f">{apart}<") >= 3  # in the chart and in the tables
    assert isolated("\N{RIGHT-TO-LEFT OVERRIDE}abc") == "\N{REPLACEMENT CHARACTER}abc"


def test_a_long_name_is_short_in_tables_and_sentences_and_whole_in_its_title(
    shown: Program,
) -> None:
    name = "A very long name of a drive that nobody can say without a breath & <a heat sink> 1TB"
    shown("sheet", "rename", "Ilmaris Drift 1TB", name)
    shown("report", "--all", "--each", "--base-url", "https://reviews.example/", "--out", "site")
    short = "A very long name of a drive that nobody…"
    whole = html.escape(name)
    for page in ("index.html", "compare.html", "veldhaar-comet-2tb.html"):
        text = (shown.folder / "site" / page).read_text()
        assert f'<span title="{whole}">{short}</span>' in text, page
        assert not re.search(rf"<(td|li|p|a)\b[^>]*>{re.escape(whole)}", text), page
        assert "100 is <span" in text or page == "compare.html", page
    pages = [path.read_text() for path in (shown.folder / "site").glob("*.html")]
    assert sum(f"<h1><bdi>{whole}</bdi></h1>" in page for page in pages) == 1


def test_a_drive_without_results_that_count_has_no_answer(shown: Program) -> None:
    pebble = "Tarnmoor Pebble 1TB"
    for run in shown("runs", "list", pebble, "--format", "json").json["runs"]:
        shown("runs", "exclude", run["run"], "--why", "wrong cable")
    shown("report", "--all", "--out", "all.html")
    answers = (shown.folder / "all.html").read_text().split("Which to buy")[1]
    assert pebble not in answers.split("</table>")[0] and COMET in answers
    shown("report", "--all", "--each", "--out", "site")
    assert not (shown.folder / "site" / "tarnmoor-pebble-1tb.html").exists()
    assert (shown.folder / "site" / "veldhaar-comet-2tb.html").exists()


def test_every_page_of_a_site_has_the_reviewers_own_answer(shown: Program) -> None:
    words = shown.shelf.parent / "words" / "veldhaar-comet-2tb.md"
    words.parent.mkdir()
    words.write_text('# Answer\n\nAvoid: only {{ claim "sequential read" }}.\n')
    shown("report", "--all", "--each", "--out", "site")
    for name in ("index.html", "veldhaar-comet-2tb.html", "class-pcie4-ssd.html", "feed.xml"):
        told = re.findall(r"Avoid: only [^<]*", (shown.folder / "site" / name).read_text())
        assert told and all(x.startswith("Avoid: only 7,") for x in told), (name, told)


def test_linked_data_has_no_folder_of_the_reviewers(shown: Program) -> None:
    photos = shown.folder / "secret" / "photos"
    photos.mkdir(parents=True)
    (photos / "a.bin").write_bytes(bytes(10_000))
    shown("measure", "model:comet", f'copy in "{photos}"', "--passes", "2", "--seed", "1")
    words = shown.folder / "mine.md"
    words.write_text(f"# Answer\n\nBuy: it copied {photos} at once.\n")
    shown("report", COMET, "--words", words, "--out", "review.html")
    shown("report", COMET, "--letter", "--out", "letter.html")
    for name in ("review.html", "letter.html"):
        assert str(photos.parent) not in (shown.folder / name).read_text()


def test_a_drive_that_was_only_scanned_has_a_page(shown: Program) -> None:
    shown("measure", "model:gannet", "scan read in 3 zones")
    shown("report", "--all", "--each", "--out", "site")
    assert (shown.folder / "site" / "corvane-gannet-12tb.html").exists()


def test_few_steps_and_disturbing_conditions_are_told_wherever_a_reader_meets_the_drive(
    shown: Program,
) -> None:
    shown("measure", "model:thimble", "random read 4KiB for 1s", "--passes", "3")
    condition = [{"kind": "battery", "value": "on battery", "matters": True}]
    with contextlib.closing(sqlite3.connect(shown.shelf)) as shelf, shelf:
        where = "drive_id = (SELECT id FROM drive WHERE name = 'Corvane Slate 1TB')"
        shelf.execute(f"UPDATE run SET circumstances = ? WHERE {where}", (json.dumps(condition),))
    shown("report", "--all", "--each", "--base-url", "https://reviews.example/", "--out", "site")
    site = shown.folder / "site"
    few, disturbed = (
        "easured in only 1 of 16 steps",
        "easured under conditions that matter: on batt",
    )
    for told, drive, kind in (
        (few, "ilmaris-thimble-128gb", "stick"),
        (disturbed, "corvane-slate-1tb", "sata-ssd"),
    ):
        for name in ("index", drive, f"class-{kind}"):
            assert told in (site / f"{name}.html").read_text(), name
        assert told in (site / "feed.xml").read_text()
    page = (site / "ilmaris-thimble-128gb.html").read_text()
    assert 'class="loud">Measured in only' in page and "5th of 5" not in page
    front = (site / "index.html").read_text()
    assert "4 drives in 16 kinds of step." in front and "notes on this table" in front


def test_a_page_says_where_a_drive_is_no_faster_than_a_slower_class(shown: Program) -> None:
    drift = "Ilmaris Drift 1TB"
    told = "writes more than its cache holds no faster than a 7,200 rpm disk: 95.0"
    shown("report", drift, "--out", "drift.html")
    assert told in (shown.folder / "drift.html").read_text()
    assert told in shown("judge", drift, "--notes", status=None).out.replace("\n", " ")
    shown("report", COMET, "--out", "comet.html")
    assert "no faster than a" not in (shown.folder / "comet.html").read_text()


@pytest.mark.parametrize(
    ("most", "other"),
    [(80, "hdd-7200"), (81, "sata-ssd"), (9500, "sata-ssd"), (9501, None)],
)
def test_a_figure_is_beside_the_slowest_class_that_it_does_not_surely_beat(
    most: float, other: str | None
) -> None:
    own = read_class("pcie4-ssd")
    usual = ranges_of(own)["random read 4KiB"]
    figure = ClassFigure(
        usual, result("x", "random read 4KiB", [1.0]), Interval(most - 10, most - 20, most)
    )
    found = shortfalls(ClassStanding(own, (figure,), None))
    assert [s.other.name for s in found] == ([other] if other else [])
    # One without an interval is sure of nothing.
    alone = replace(figure, value=Interval(10.0))
    assert not shortfalls(ClassStanding(own, (alone,), None))
