"""Pages in other languages: catalogues without gaps, and no English left on a site."""

from __future__ import annotations

import ast
import html
import json
import os
import re
import string
import time
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from babel.messages.pofile import read_po
from babel.numbers import format_decimal, parse_decimal
from hypothesis import given
from hypothesis import strategies as st
from tools import catalogues

from jovik.analysis.claims import Verdict
from jovik.analysis.drive_class import Standing
from jovik.analysis.upgrade import Change, Felt
from jovik.base.errors import UnknownNameError
from jovik.base.findings import FailedIos, FailedRange, LostData
from jovik.base.shipped import shipped_path
from jovik.report.document import Bullets, ClaimMarks, Document, Facts, ReviewerText, Section
from jovik.report.language import PAGE_WORDS, in_language, language_names, read_language
from jovik.report.translation import PLACEHOLDER, Translator, english_of, stays_english
from jovik.sheets.drive_class import class_names, read_class
from jovik.sheets.load import load_names, read_load
from jovik.tables import Table
from jovik.tables.advice import _inside, fault_sentence
from tests.conftest import Answer, Program, call

LANGUAGES = [n for n in language_names() if n != "en"]
SOURCES = Path(__file__).parents[1] / "src" / "jovik"
FILLED = {
    "figure": "1,234.5 MB/s",
    "digits": "7",
    "numbers": "1, 3-5",
    "name": "Slate 1TB",
    "raw": "x9",
    "words": "own words",
    "class": "a SATA SSD",
    "place": "2nd",
    "phase": "spin-up",
}
"""What stands in each kind of placeholder in a test; a step in all others."""


def translator(language: str, *names: str) -> Translator:
    catalogue = read_language(language)
    assert catalogue is not None
    return Translator(catalogue, ["Slate 1TB", *names], ["own words"])


def fields_of(entry: str) -> list[str]:
    return sorted({name for _, name, _, _ in string.Formatter().parse(entry) if name})


def test_no_catalogue_has_a_gap() -> None:
    assert {"de", "es", "fr"} <= set(LANGUAGES)
    entries = {}
    for language in LANGUAGES:
        with shipped_path("language", language).with_suffix(".po").open("rb") as file:
            entries[language] = {m.id: m.string for m in read_po(file) if m.id}
    keys = [set(found) for found in entries.values()]
    assert keys[0] == keys[1] == keys[2]
    for language, found in entries.items():
        for english, other in found.items():
            assert other.strip(), (language, english)
            assert fields_of(other) == fields_of(english), (language, english)
            # An abbreviation, a unit or a word may be the same. A sentence is not.
            if other == english:
                words = re.findall("[A-Za-z]{3,}", PLACEHOLDER.sub("", english))
                assert len(words) < 3, (language, english)


def test_what_is_installed_is_what_the_translators_wrote(tmp_path: Path) -> None:
    for language in LANGUAGES:
        shipped = json.loads(shipped_path("language", language).read_text(encoding="utf-8"))
        copy = tmp_path / f"{language}.po"
        copy.write_bytes(shipped_path("language", language).with_suffix(".po").read_bytes())
        assert json.loads(catalogues.build(copy).read_text(encoding="utf-8")) == shipped


@pytest.mark.parametrize("language", LANGUAGES)
def test_every_entry_is_found_again(language: str) -> None:
    say = translator(language)
    for english, other in say.catalogue.messages.items():
        kinds = {name: re.sub(r"\d+$", "", name) for name in fields_of(english)}
        filled = {n: FILLED.get(k, "random read") for n, k in kinds.items()}
        found = say(english.format(**filled))
        assert found.translated and "{" not in found, english
        if not kinds:
            assert found == other


def test_every_entry_is_of_something_that_jovik_says() -> None:
    """Neighbouring words of an entry stand together in a text of the sources.

    Where a sentence is put together from parts, two pairs of them may not.
    """
    pairs: set[tuple[str, str]] = set()
    for path in sorted(SOURCES.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.JoinedStr):
                pairs |= neighbours("".join(_plain(part) for part in node.values))
            pairs |= neighbours(_plain(node))
    for pattern in ("*.toml", "*.html", "*.js"):
        for path in sorted(SOURCES.rglob(pattern)):
            pairs |= neighbours(path.read_text(encoding="utf-8"))
    words = {word for pair in pairs for word in pair}
    for entry in translator("de").catalogue.messages:
        own: set[tuple[str, str]] = set()
        for part in re.split(r"\{[a-z]+\d*\}", entry):
            own |= neighbours(part)
        assert len(own - pairs) <= 2, (entry, own - pairs)
        assert {w for pair in own for w in pair} <= words | {""}, entry


def _plain(node: ast.AST) -> str:
    text = node.value if isinstance(node, ast.Constant) else " "
    return text if isinstance(text, str) else ""


def neighbours(text: str) -> set[tuple[str, str]]:
    """Return each pair of words, and each word alone."""
    words = re.findall(r"[a-zµ']+", text.lower())
    return {*pairwise(words), *((w, "") for w in words)}


@given(st.decimals(0, 10**12, places=2), st.sampled_from(LANGUAGES))
def test_numbers_are_written_as_babel_writes_them(value: Any, language: str) -> None:
    say = translator(language)
    written = format_decimal(value, "#,##0.00", locale=language)
    assert say(f"{value:,.2f}") == written
    assert say(f"random read: {value:,.2f} MB/s").split(":")[1].strip().startswith(written)


def test_what_no_entry_has_stays_english_whole() -> None:
    say = translator("de")
    for text in ("a kettle boils", "random read, a kettle boils", "met. A kettle boils."):
        found = say(text)
        assert found == text and stays_english(found)
    assert say("Slate 1TB: latency") == "Slate 1TB: Latenz"
    assert say("Slate 2TB: latency") == "Slate 2TB: latency", "that is no name of this shelf"
    assert english_of(say("met")) == "met" and not stays_english(say("met"))
    usual = "it reaches 61 % of the rates that are usual for a SATA SSD"
    reached = f"Buy if it is cheap: {usual} (57 to 64). Measured in only 2 of 16 steps."
    assert say(reached) == (
        "Kaufen, wenn es günstig ist: es erreicht 61 % (57 bis 64) der üblichen Raten (SATA-SSD). "
        "Nur in 2 von 16 Schritten gemessen."
    ), "brackets belong to the figure, and a sentence takes nothing from the next"
    # A drive called as Jovik says something is still a drive, and the word still a word.
    odd = translator("de", "Speed", "Best")
    assert odd("Best for") == "Gut für" and odd("Speed: latency") == "Speed: Latenz"


@pytest.mark.parametrize("sep", [", ", "; ", ": ", " and ", " (", ". ", ", and "])
@pytest.mark.parametrize("last", ["met", "a kettle boils"])
def test_a_text_of_many_parts_is_told_without_long_work(sep: str, last: str) -> None:
    began = time.process_time()
    found = translator("de")("met" + f"{sep}met" * 400 + sep + last)
    assert found.translated == (last == "met" and sep != " (")
    assert time.process_time() - began < 5, "hundreds of parts are no reason to wait"


@pytest.mark.parametrize("language", LANGUAGES)
def test_every_answer_about_a_drive_has_an_entry(language: str) -> None:
    say = translator(language)
    titles = [read_load(name).title for name in load_names()]
    uses = [_inside(t.partition(",")[0]) for t in titles]
    classes = [read_class(name).title for name in class_names()]
    told = [*titles, *uses, *classes, *Verdict, *Standing, *Felt, *Change]
    ranges = (FailedRange(4096, 8192, "read"), FailedRange(9000, 9999, "read"))
    faults = [
        LostData(10**9, 5 * 10**6, None),
        LostData(10**11, 5 * 10**10, 64 * 10**9),
        *(FailedIos(count, ranges[:n]) for count, n in ((1, 1), (4, 1), (1200, 2), (2, 0))),
    ]
    told += [f"Avoid: {fault_sentence(x, 10**12)}." for x in faults]
    for title in classes:
        usual = f"as fast as is usual for a {title}"
        enough = ("everyday uses", "all 5 uses that were tested", " and ".join(uses[:2]))
        told += [f"Buy: {usual}, and fast enough for {x}." for x in enough]
        told += [f"Buy: 1.2 times {usual}, and fast enough for {x}." for x in enough]
        told += [
            f"Avoid: it reaches 40 % of the rates that are usual for a {title}{reach}."
            for reach in ("", " (30 to 50)")
        ]
    samples = ("2 of 3 samples failed and 1 is far slower than the others", "1 of 3 samples failed")
    told += [f"Buy if you test yours at once: {x}." for x in samples]
    assert [x for x in map(str, told) if not say(x).translated] == []


def test_a_letter_of_the_private_planes_is_taken_for_no_name() -> None:
    for odd in ("\U000f0000", "\U000f0001", "\U000ffffd"):
        say = translator("de", f"Drive {odd}")
        assert say(f"{odd}: latency") == f"{odd}: latency"
        assert odd in say(f"Drive {odd}: latency")


def test_only_what_a_reader_sees_is_said_in_the_language() -> None:
    rows = [["PCIe 4.0 x4", "7,230.5"], ["random read, 4 KiB", "1.5 to 2"]]
    blocks = (
        Bullets("Best for", ("random read",), "+"),
        Facts((("price", "1,234.50 EUR"),)),
        ClaimMarks((("random read", "7,230 MB/s ±1.2 %", "up to 7,100 MB/s", "met", "good"),)),
        Table("latency", ["step", "MB/s"], rows),
        ReviewerText("met: 1,234.5"),
    )
    sections = (Section("verdict", "The verdict", blocks), Section("x", "Instead of Slate 1TB", ()))
    review = {"reviewBody": "avoid", "name": "Best for"}
    document = Document("Slate 1TB", "s", sections, "c", data=review)
    made = in_language(document, translator("de"))
    assert made.data == {
        "reviewBody": "nicht kaufen",
        "name": "Best for",
        "inLanguage": "de",
    }
    bullets, facts, marks, numbers, words = made.sections[0].blocks
    assert isinstance(bullets, Bullets) and (bullets.title, bullets.mark) == ("Gut für", "+")
    assert isinstance(facts, Facts) and facts.items == (("Preis", "1.234,50 EUR"),)
    assert isinstance(marks, ClaimMarks)
    assert marks.items[0][1:] == ("7.230 MB/s ±1,2 %", "bis zu 7.100 MB/s", "erfüllt", "good")
    assert isinstance(numbers, Table)
    assert [list(r) for r in numbers.rows] == [
        ["PCIe 4.0 x4", "7.230,5"],
        ["zufälliges Lesen, 4 KiB", "1,5 bis 2"],
    ], "what a link is called is no figure"
    assert words == blocks[4]
    assert made.sections[0].key == "verdict" and made.sections[1].title == "Statt Slate 1TB"
    assert made.language == "de" and set(made.words) == set(PAGE_WORDS)
    with pytest.raises(UnknownNameError):
        read_language("xx")


@pytest.fixture(scope="module")
def shelves(demo: tuple[Path, str], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's shelf with a fake drive, one that was hardly measured, and a disk beside."""
    folder = tmp_path_factory.mktemp("languages")
    (folder / "shelf.db").write_bytes((demo[0] / "shelf.db").read_bytes())
    for words in (
        ["measure", "model:hollow", "sequential write 1MiB over 100GB verify", "--seed", "1"],
        ["measure", "model:thimble", "random read 4KiB for 1s", "--passes", "3", "--seed", "1"],
        ["measure", "model:gannet", "scan read in 4 zones", "random read 4KiB for 1s"],
    ):
        asked(folder, *words, status=None)
    at = ("--base-url", "https://reviews.example/")
    asked(folder, "report", "--all", "--each", *at, "--out", "en")
    return folder


def asked(folder: Path, *words: str, status: int | None = 0) -> Answer:
    env = os.environ | {"JOVIK_SHELF": str(folder / "shelf.db")}
    found = call(list(words), folder, env, 200)
    assert status is None or found.status == status, found.err
    return found


def visible(page: Path) -> str:
    text = re.sub(r"<(style|script).*?</\1>", "", page.read_text(encoding="utf-8"), flags=re.S)
    return html.unescape(re.sub("<[^>]*>", "\n", text))


def test_a_site_has_no_english_left(shelves: Path) -> None:
    """In one language: the others have the same entries."""
    language = "de"
    at = ("--base-url", "https://reviews.example/", "--language", language)
    asked(shelves, "report", "--all", "--each", *at, "--out", language)
    pages = sorted(p.name for p in (shelves / "en").glob("*.html"))
    figures = 0
    assert len(pages) > 8 and pages == sorted(p.name for p in (shelves / language).glob("*.html"))
    for name in pages:
        made, plain = ((shelves / x / name).read_text(encoding="utf-8") for x in (language, "en"))
        assert f'<html lang="{language}">' in made
        assert re.findall('<[^>]*lang="en"[^>]*>[^<]*', made) == [], name
        assert " data-words=" not in plain and "lang=" not in plain.split("<body>")[1]
        for what in (
            r'<td class="(good|bad|open)"',
            r'data-key="([^"]*)"',
            r'<path class="bar[^>]*',
        ):
            assert re.findall(what, made) == re.findall(what, plain), (name, what)
        english = set(
            re.findall(
                r"\b(?:measured|with|and|which|written|steps?)\b",
                visible(shelves / language / name),
            )
        )
        assert not english, (name, english)
        figures += same_figures(shelves / language / name, shelves / "en" / name, language)
    assert figures > 3000
    feed, plain_feed = ((shelves / x / "feed.xml").read_text() for x in (language, "en"))
    said, plain_said = (re.findall("<summary>(.*?)<", f) for f in (feed, plain_feed))
    assert len(said) == len(plain_said) and not set(said) & set(plain_said)
    cards = [p.name for p in (shelves / "en").glob("*.png")]
    assert cards and all(
        (shelves / "en" / n).read_bytes() != (shelves / language / n).read_bytes() for n in cards
    )
    # Nothing changed: nothing is made again, but everything in another language is.
    assert asked(shelves, "report", "--all", "--each", *at, "--out", language).out.strip() == ""
    again = asked(shelves, "report", "--all", "--each", *at[:2], "--out", language).out
    assert again.count("wrote") > len(pages)


def parts_of(page: Path) -> list[str]:
    """What a page says, by paragraph, item, cell and answer of a chart."""
    text = page.read_text(encoding="utf-8")
    found = re.findall(r'<(?:td|th|li|p|dd|caption)[ >][^<]*|data-said="[^"]*', text)
    return [html.unescape(re.sub(r'^<[^>]*>|^data-said="', "", x)) for x in found]


def numbers_in(text: str, language: str) -> list[float]:
    """Its figures as the language writes them. Links, versions and days have other digits."""
    other = r"\d{4}-\d\d-\d\d|PCIe \d\.0 x4|p99[.,]9|Jovik \S+|\S+-\S{6}|; \d\.\d+$"
    text = re.sub(other, "", text)
    group = format_decimal(1234, locale=language)[1]
    ends = r"(?=\W|$|[kKMGT]i?B|x|st|nd|rd|th|er|e|\.º)"
    number = rf"(?<![\w.,])\d+(?:[{group}]\d\d\d)*(?:[.,]\d+)?{ends}"
    return sorted(float(parse_decimal(x, locale=language)) for x in re.findall(number, text))


def same_figures(page: Path, english_page: Path, language: str) -> int:
    """Compare a page with the English one, part by part, and count its figures."""
    parts, english_parts = parts_of(page), parts_of(english_page)
    assert len(parts) == len(english_parts)
    figures = 0
    for other, english in zip(parts, english_parts, strict=True):
        found = numbers_in(other, language)
        assert found == numbers_in(english, "en"), (english, other)
        figures += len(found)
    return figures


@pytest.mark.parametrize("language", LANGUAGES)
def test_every_other_page_in_a_language(shelves: Path, language: str) -> None:
    old, new = "Ilmaris Drift 1TB", "Veldhaar Comet 2TB"
    for of in ("en", language):
        if not (shelves / f"client-{of}.html").exists():
            told = ("--language", of)
            asked(shelves, "report", old, "--out", f"review-{of}.html", *told)
            asked(shelves, "report", new, "--beside", old, "--out", f"pair-{of}.html", *told)
            asked(shelves, "upgrade", old, new, "--out", f"client-{of}.html", *told)
    for kind in ("review", "pair", "client"):
        pages = [shelves / f"{kind}-{of}.html" for of in (language, "en")]
        assert same_figures(*pages, language) > 20
        assert 'lang="en"' not in pages[0].read_text(encoding="utf-8")


def test_a_language_goes_with_a_page_only(shelves: Path) -> None:
    wrong = asked(
        shelves, "upgrade", "Ilmaris Drift 1TB", "Veldhaar Comet 2TB", "--language", "de", status=2
    )
    assert "--out" in wrong.err
    wrong = asked(shelves, "report", "--all", "--language", "dee", "--out", "x", status=2)
    assert "there is no language called 'dee'" in wrong.err and not (shelves / "x").exists()


def test_the_reviewers_words_stay_as_they_are(jovik: Program) -> None:
    jovik("measure", "model:slate", "random read 4KiB for 1s", "--passes", "3", "--seed", "1")
    (jovik.folder / "mine.md").write_text("Met with 1,234.5 EUR.", encoding="utf-8")
    jovik("note", "Corvane Slate 1TB", "--pro", "faster than the old one")
    words = ("--words", "mine.md", "--language", "fr", "--out", "page.html")
    jovik("report", "Corvane Slate 1TB", *words)
    page = (jovik.folder / "page.html").read_text(encoding="utf-8")
    assert '<div class="words" lang="">\n<p>Met with 1,234.5 EUR.</p>' in page
    assert "faster than the old one" in page
    jovik("report", "Corvane Slate 1TB", *words[:-1], "page.md")
    text = (jovik.folder / "page.md").read_text(encoding="utf-8")
    assert "Met with 1,234.5 EUR." in text and "| étape |" in text
