"""The site: its pages, what is made again, and what a reader does with it."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from tests.conftest import Program
from tests.programs import need
from tests.test_report_browser import FLAGS
from tests.test_shelf_archive import changed

ATOM = "{http://www.w3.org/2005/Atom}"
URL = "https://reviews.example/drives"


def measured(jovik: Program, *models: str) -> None:
    for model in models:
        steps = ["sequential read 1MiB depth 8 for 1s", "random read 4KiB for 1s"]
        jovik("measure", f"model:{model}", *steps, "--passes", "2", "--seed", "1")


def publish(jovik: Program, *more: str) -> list[str]:
    """The names of what was written."""
    words = ["report", "--all", "--each", "--out", "site", "--format", "json", *more]
    return [Path(p).name for p in jovik(*words).json["written"]]


def test_only_what_changed_is_made_again_and_addresses_stay(jovik: Program) -> None:
    measured(jovik, "slate", "comet")
    first = publish(jovik)
    assert {"corvane-slate-1tb.html", "veldhaar-comet-2tb.html", "index.html", "compare.html"} <= {
        *first
    }
    assert {"class-sata-ssd.html", "class-pcie4-ssd.html", "feed.xml"} <= {*first}
    assert "sitemap.xml" not in first and not any(n.endswith(".png") for n in first)
    assert publish(jovik) == []
    jovik("note", "Corvane Slate 1TB", "--con", "warm")
    again = publish(jovik)
    assert "corvane-slate-1tb.html" in again and "veldhaar-comet-2tb.html" not in again
    jovik("sheet", "rename", "Corvane Slate 1TB", "Corvane Slate Plus")
    publish(jovik)
    pages = {p.name for p in (jovik.folder / "site").glob("*.html")}
    assert "corvane-slate-plus.html" not in pages, "who linked to it finds it"
    renamed = (jovik.folder / "site" / "corvane-slate-1tb.html").read_text()
    assert "<bdi>Corvane Slate Plus</bdi>" in renamed and "warm" in renamed
    for name in ("veldhaar-comet-2tb.html", "feed.xml", "class-sata-ssd.html"):
        (jovik.folder / "site" / name).unlink()
        assert name in publish(jovik), "a file that is missing is made again"
    assert publish(jovik) == []
    assert not (jovik.folder / "site" / "site.json").exists()


def test_a_drive_that_no_ranking_compares_has_its_page_all_the_same(jovik: Program) -> None:
    measured(jovik, "slate")
    steady = "random write 4KiB depth 32 until steady for at most 1h"
    jovik("measure", "model:basalt", steady, "--yes")
    assert "corvane-basalt-960gb.html" in publish(jovik)
    page = (jovik.folder / "site" / "corvane-basalt-960gb.html").read_text(encoding="utf-8")
    assert "not ranked" in page.lower()


def snapshot(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


@pytest.mark.parametrize(
    "name",
    [
        *("index.html", "feed.xml", "sitemap.xml", "compare.html", "class-sata-ssd.html"),
        *("corvane-slate-1tb.html", "corvane-slate-1tb.png"),
    ],
)
def test_a_site_leaves_what_jovik_did_not_make_and_looks_before_it_writes(
    jovik: Program, name: str
) -> None:
    measured(jovik, "slate")
    folder = jovik.folder / "site"
    folder.mkdir()
    (folder / name).write_bytes(b"somebody's <feed/> {}")
    words = ["report", "--all", "--each", "--base-url", URL, "--out", "site"]
    told = jovik(*words, status=2).err
    assert f"{name} is there already" in told and "--force" in told
    assert snapshot(folder) == {name: b"somebody's <feed/> {}"}, "nothing is written before"
    jovik(*words, "--force")
    assert snapshot(folder)[name] != b"somebody's <feed/> {}"
    before = snapshot(folder)
    jovik(*words)
    jovik("note", "Corvane Slate 1TB", "--con", "warm")
    jovik(*words)
    assert snapshot(folder) != before, "what Jovik made it replaces unasked"


@pytest.mark.parametrize("name", ["corvane-slate-1tb.md", "corvane-slate-1tb-pictures/rank.png"])
def test_a_review_looks_at_every_file_before_it_writes_one(jovik: Program, name: str) -> None:
    measured(jovik, "slate")
    jovik("report", "Corvane Slate 1TB", "--out", "first")
    written = snapshot(jovik.folder / "first")
    taken = name if name in written else next(n for n in written if n.endswith(".png"))
    place = jovik.folder / "second" / taken
    place.parent.mkdir(parents=True)
    place.write_bytes(b"somebody's")
    assert taken in jovik("report", "Corvane Slate 1TB", "--out", "second", status=2).err
    assert snapshot(jovik.folder / "second") == {taken: b"somebody's"}


@pytest.mark.parametrize(
    "address", ["../outside/logo", "/tmp/jovik-outside", "javascript:alert(1)", "index", "A b", ""]
)
def test_an_address_that_jovik_would_not_make_is_not_used(jovik: Program, address: str) -> None:
    """Neither one from a folder that others write to, nor one from a shelf that was brought."""
    measured(jovik, "slate")
    folder = jovik.folder / "site"
    folder.mkdir()
    (jovik.folder / "outside").mkdir()
    (jovik.folder / "outside" / "logo.png").write_bytes(b"somebody's")
    state = {"form": "jovik site 1", "addresses": {"1": address}, "keys": {}}
    (folder / "site.json").write_text(json.dumps(state))
    with sqlite3.connect(jovik.shelf) as shelf:
        shelf.execute("update drive set address = ?", (address,))
    publish(jovik, "--base-url", URL)
    assert (folder / "corvane-slate-1tb.html").exists()
    assert snapshot(jovik.folder / "outside") == {"logo.png": b"somebody's"}
    assert not list(Path("/tmp").glob("jovik-outside*"))
    for page in folder.glob("*.html"):
        assert "javascript:" not in page.read_text() and "../outside" not in page.read_text()


def test_addresses_travel_with_an_archive_and_foreign_ones_are_refused(jovik: Program) -> None:
    measured(jovik, "slate")
    publish(jovik)
    jovik("sheet", "rename", "Corvane Slate 1TB", "Corvane Slate Plus")
    jovik("shelf", "export", "--out", "all.zip")
    other = Program(jovik.folder, jovik.env | {"JOVIK_SHELF": str(jovik.folder / "other.db")})
    other("shelf", "import", "all.zip")
    with sqlite3.connect(jovik.folder / "other.db") as shelf:
        found = shelf.execute("select name, address from drive").fetchall()
    assert found == [("Corvane Slate Plus", "corvane-slate-1tb")]
    assert "Corvane Slate Plus" in other("shelf", "log").out, "and the log of changes with it"
    before = other("shelf", "log").out
    other("shelf", "import", "all.zip")
    assert other("shelf", "log").out == before

    def change(files: dict[str, Any]) -> None:
        files["drives.json"][0]["address"] = "../outside"

    bad = changed(jovik.folder / "all.zip", jovik.folder / "bad.zip", change)
    assert "not the address of a page" in other("shelf", "import", bad, status=2).err


def test_a_site_with_an_address_has_cards_a_map_and_a_feed(jovik: Program) -> None:
    measured(jovik, "slate", "comet")
    names = publish(jovik, "--base-url", URL)
    folder = jovik.folder / "site"
    assert (folder / "veldhaar-comet-2tb.png").read_bytes().startswith(b"\x89PNG")
    page = (folder / "veldhaar-comet-2tb.html").read_text()
    tags = dict(re.findall(r'<meta property="(og:\w+)" content="([^"]*)"', page))
    assert tags["og:title"] == "Veldhaar Comet 2TB"
    assert tags["og:image"] == f"{URL}/veldhaar-comet-2tb.png"
    feed = ElementTree.parse(folder / "feed.xml").getroot()
    entries = feed.findall(f"{ATOM}entry")
    assert {e.findtext(f"{ATOM}title") for e in entries} == {
        "Corvane Slate 1TB",
        "Veldhaar Comet 2TB",
    }
    for part in [feed, *entries]:
        assert (part.findtext(f"{ATOM}id") or "").startswith("urn:uuid:")
        assert re.fullmatch(r"\d{4}-.*Z", part.findtext(f"{ATOM}updated") or "")
    where = [x.text for x in ElementTree.parse(folder / "sitemap.xml").iter() if "loc" in x.tag]
    assert f"{URL}/index.html" in where and f"{URL}/veldhaar-comet-2tb.html" in where
    assert set(names) >= {"sitemap.xml", "feed.xml"}


@pytest.mark.parametrize(
    "address", ["reviews", "ftp://x.example/", "https://", "http://[x", "https://x.example/?a=b"]
)
def test_an_address_that_is_none_is_refused(jovik: Program, address: str) -> None:
    words = ["report", "--all", "--each", "--base-url", address, "--out", "site"]
    assert "is not the address of a site" in jovik(*words, status=2).err
    assert not (jovik.folder / "site").exists()
    alone = jovik("report", "X", "--base-url", URL, "--out", "x.html", status=2)
    assert "--all --each" in alone.err
    jovik("sheet", "new", "Own")
    assert "has many" in jovik("report", "--all", "--each", "--out", "x.html", status=2).err


@pytest.fixture
def pages(jovik: Program) -> Iterator[tuple[Path, Any]]:
    program = need("chromium")
    sync_api = pytest.importorskip("playwright.sync_api")
    measured(jovik, "slate", "comet", "drift", "gannet")
    publish(jovik)
    with sync_api.sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=str(program), args=FLAGS)
        yield jovik.folder / "site", browser
        browser.close()


def test_a_reader_narrows_sorts_and_lays_drives_side_by_side(pages: tuple[Path, Any]) -> None:
    folder, browser = pages
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    faults: list[str] = []
    page.on("console", lambda m: faults.append(m.text))
    page.goto(f"file://{folder / 'index.html'}")
    rows = page.locator("#ranking table[data-filters] tbody tr:visible")
    assert rows.count() == 4
    page.locator(".narrowed select").first.select_option("SATA SSD")
    assert rows.count() == 1 and "Corvane Slate" in rows.first.inner_text()
    page.locator(".narrowed select").first.select_option("")
    page.locator(".narrowed input").fill("100")
    assert rows.count() == 2, "what costs more is not seen"
    page.locator(".narrowed input").fill("")
    page.get_by_role("button", name=re.compile("random read, 4 KiB")).first.click()
    first = rows.first.inner_text()
    assert "Gannet" in first, "the slowest first"
    page.goto(f"file://{folder / 'compare.html'}#1+3")
    page.reload()
    assert page.locator("table.chooses thead th:visible").count() == 2
    page.locator(".narrowed input").nth(1).check()
    assert page.locator("table.chooses thead th:visible").count() == 3
    assert page.evaluate("location.hash") == "#1+2+3" and not faults
    # Without a script every drive stands there.
    plain = browser.new_context(java_script_enabled=False).new_page()
    plain.goto(f"file://{folder / 'compare.html'}")
    assert plain.locator("table.chooses thead th:visible").count() == 4
    plain.goto(f"file://{folder / 'index.html'}")
    assert plain.locator("#ranking table[data-filters] tbody tr:visible").count() == 4
