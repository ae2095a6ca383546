"""The review in a real browser: what it answers, how it is set, and who can read it."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import call
from tests.programs import need

COMET, SLATE = "Veldhaar Comet 2TB", "Corvane Slate 1TB"
FLAGS = [
    *("--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"),
    *("--disable-background-networking", "--disable-component-update", "--disable-sync"),
]
WIDTHS = {1280: 800, 390: 844}


@pytest.fixture(scope="module")
def made(demo: tuple[Path, str], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A review of the demo's drive, with a verdict of the reviewer's own elsewhere."""
    folder = tmp_path_factory.mktemp("page")
    env = os.environ | {"JOVIK_SHELF": str(demo[0] / "shelf.db")}
    words = ["report", COMET, "--against", SLATE, "--out", "review.html"]
    assert call(words, folder, env, 100).status == 0
    return folder / "review.html"


@pytest.fixture(scope="module")
def browser() -> Iterator[Any]:
    program = need("chromium")
    sync_api = pytest.importorskip("playwright.sync_api")
    with sync_api.sync_playwright() as driver:
        opened = driver.chromium.launch(executable_path=str(program), args=FLAGS)
        yield opened
        opened.close()


def page_of(browser: Any, address: str, width: int = 1280, **how: Any) -> Any:
    page = browser.new_page(viewport={"width": width, "height": WIDTHS[width]}, **how)
    page.goto(address)
    return page


@pytest.mark.parametrize("width", WIDTHS)
@pytest.mark.parametrize(
    ("scheme", "script"), [("light", True), ("dark", True), ("light", False), ("dark", False)]
)
def test_everybody_can_read_it(
    browser: Any, made: Path, tmp_path: Path, width: int, scheme: str, script: bool
) -> None:
    axe = pytest.importorskip("axe_playwright_python.sync_playwright")
    text = made.read_text()
    if not script:
        # The tool needs a script of its own, so that the page's is taken out instead.
        text = re.sub(r"<script>.*?</script>", "", text, flags=re.S)
    page_file = tmp_path / "page.html"
    page_file.write_text(text)
    page = page_of(browser, f"file://{page_file}", width, color_scheme=scheme, bypass_csp=True)
    found = axe.Axe().run(page).response["violations"]
    assert not [(v["id"], v["nodes"][0]["html"]) for v in found]
    assert page.evaluate("document.documentElement.scrollWidth") <= width, "nothing sticks out"
    top = page.evaluate("""() => Math.min(...[...document.querySelectorAll('figure.chart > svg')]
        .filter((s) => s.getClientRects().length).map((s) => s.getBoundingClientRect().top))""")
    assert 0 < top < 800, "the first picture is within the first screen"
    smallest = page.evaluate("""() => Math.min(...[...document.querySelectorAll('svg text')]
        .filter((t) => t.getClientRects().length)
        .map((t) => t.getBoundingClientRect().height))""")
    assert smallest >= 9, "words of a chart keep their size"
    page.close()


def test_every_value_of_a_chart_is_reached_by_the_keyboard(browser: Any, made: Path) -> None:
    page = page_of(browser, f"file://{made}")
    for chart in page.query_selector_all("figure.chart"):
        drawing = next(s for s in chart.query_selector_all(":scope > svg") if s.is_visible())
        drawing.focus()
        page.keyboard.press("Home")
        first = chart.query_selector(".said").inner_text()
        page.keyboard.press("ArrowRight")
        second = chart.query_selector(".said").inner_text()
        # The rest of the way in the page itself: a press through the driver takes long.
        said = drawing.evaluate("""(drawing) => {
            const answer = drawing.closest("figure").querySelector(".said");
            const press = (key) => drawing.dispatchEvent(new KeyboardEvent("keydown", { key }));
            const heard = [];
            press("Home");
            for (let n = 0; n < 600; n++) {
                heard.push(answer.textContent);
                press("ArrowRight");
            }
            return heard;
        }""")
        assert said[:2] == [first, second] and all(said)
        held = drawing.evaluate("""(drawing) => [...drawing.querySelectorAll("[data-said]")]
            .filter((x) => x.getClientRects().length).map((x) => x.dataset.said)""")
        assert len(held) >= 2 and set(said) == set(held), "every value is said"
        page.keyboard.press("Escape")
        assert not chart.query_selector(".said").inner_text()
    page.close()


def test_a_chart_answers_and_a_link_reopens_what_was_seen(browser: Any, made: Path) -> None:
    page = page_of(browser, f"file://{made}")
    faults: list[str] = []
    page.on("console", lambda m: faults.append(m.text))
    chart = page.query_selector("#chart-long-write-1")
    drawing = chart.query_selector("svg.wide")
    drawing.scroll_into_view_if_needed()
    box = drawing.bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.7, box["y"] + box["height"] * 0.3)
    assert "MB/s" in chart.query_selector(".said").inner_text()
    chart.query_selector("button:text('over bytes')").click()
    assert "GB written" in drawing.query_selector(".view:not(.off)").text_content()
    chart.query_selector(".keys button:text('temperature')").click()
    chart.query_selector("button:text('closer')").click()
    view = drawing.query_selector(".view:not(.off) svg.plot").get_attribute("viewBox")
    assert view == "250 0 500 1000"
    address = chart.query_selector(".ways a").get_attribute("href")
    again = page_of(browser, f"file://{made}{address}")
    other = again.query_selector("#chart-long-write-1")
    shown = other.query_selector("svg.wide .view:not(.off)")
    assert shown.get_attribute("data-view") == "over bytes"
    assert shown.query_selector("svg.plot").get_attribute("viewBox") == view
    pressed = other.query_selector(".keys button:text('temperature')").get_attribute("aria-pressed")
    assert pressed == "false" and not faults
    # Whatever stands in an address, the page stands.
    wild = page_of(browser, f"file://{made}#chart-long-write-1?view=9&from=x&to=-3&off=<b>")
    assert wild.query_selector("#chart-long-write-1 svg.wide .view:not(.off)").is_visible()
    for each in (page, again, wild):
        each.close()


def test_without_a_script_and_in_print_it_says_the_same(browser: Any, made: Path) -> None:
    context = browser.new_context(java_script_enabled=False)
    page = context.new_page()
    page.goto(f"file://{made}")
    text = page.inner_text("main")
    assert "4 of 6 claims met" in text and "over time" not in text
    assert page.is_visible("#chart-long-write-1 svg.wide .view:not(.off)")
    page.click("#tests summary")
    assert page.is_visible("#tests table"), "what is folded opens without a script"
    content = page.pdf()
    assert content.startswith(b"%PDF") and len(content) > 50_000
    context.close()


@pytest.fixture(scope="module")
def kinds(demo: tuple[Path, str], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Every other kind of page: a site in German with a fake drive, a pair, a client's sheet."""
    folder = tmp_path_factory.mktemp("kinds")
    (folder / "shelf.db").write_bytes((demo[0] / "shelf.db").read_bytes())
    env = os.environ | {"JOVIK_SHELF": str(folder / "shelf.db")}
    fake = ["measure", "model:hollow", "sequential write 1MiB over 100GB verify", "--seed", "1"]
    call(fake, folder, env, 100)
    for words in (
        ["report", "--all", "--each", "--language", "de", "--out", "."],
        ["report", COMET, "--beside", SLATE, "--out", "pair.html"],
        ["upgrade", SLATE, COMET, "--out", "client.html"],
    ):
        assert call(words, folder, env, 100).status == 0
    return folder


# 640 and 320 pixels are what a screen of 1,280 has at 200 and 400 %.
@pytest.mark.parametrize(("width", "scheme"), [(768, "dark"), (640, "light"), (320, "dark")])
def test_everybody_can_read_every_kind_of_page(
    browser: Any, kinds: Path, width: int, scheme: str
) -> None:
    axe = pytest.importorskip("axe_playwright_python.sync_playwright")
    names = ["index", "compare", "class-sata-ssd", "oberon-hollow-2tb", "pair", "client"]
    page = browser.new_page(
        viewport={"width": width, "height": 800}, color_scheme=scheme, bypass_csp=True
    )
    for name in names:
        page.goto(f"file://{kinds / name}.html")
        found = axe.Axe().run(page).response["violations"]
        assert not [(name, v["id"], v["nodes"][0]["html"]) for v in found]
        assert page.evaluate("document.documentElement.scrollWidth") <= width, name
    page.close()


def test_what_a_script_says_is_in_the_language_of_the_page(browser: Any, kinds: Path) -> None:
    page = page_of(browser, f"file://{kinds / 'index.html'}")
    assert page.query_selector(".narrowed option").inner_text() == "alle"
    assert "Preis, höchstens" in page.query_selector(".narrowed").inner_text()
    assert page.query_selector(".narrowed output").inner_text() == "4 von 4"
    # Numbers sort by what they are, not by how the language writes them.
    table = page.query_selector("table[data-filters]")
    cells = [x.get_attribute("data-key") for x in table.query_selector_all("td.n[data-key]")]
    assert cells and all(float(x) >= 0 for x in cells)
    page.goto(f"file://{kinds / 'veldhaar-comet-2tb.html'}")
    ways = page.query_selector("#chart-long-write-1 .ways").inner_text()
    assert "näher" in ways and "über die Bytes" in ways and "closer" not in ways
    page.close()
