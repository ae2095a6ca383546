"""The review and the page of all drives.

Whole, on their own, and safe whatever the strings of a drive hold.
"""

from __future__ import annotations

import base64
import csv
import hashlib
import html
import io
import os
import re
import statistics
import subprocess
from dataclasses import asdict
from html.parser import HTMLParser
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from markdown_it import MarkdownIt

from jovik.base.health import Health
from jovik.base.page_address import is_address, new_address
from jovik.base.quantities import significant
from jovik.base.terminal_text import csv_text, file_name, strip_control
from jovik.report.html import sort_key
from jovik.report.reviewer_text import as_html, demote_headings
from jovik.tables.health import health_change_table
from jovik.tables.markdown import text_markdown as escaped
from tests.conftest import Program, call
from tests.programs import need

COMET, SLATE = "Veldhaar Comet 2TB", "Corvane Slate 1TB"
HOSTILE = [
    "../../x <script>alert(1)</script> a|b `c` $d$ [e](f:g)",
    "=cmd|' /C calc'!A0 \x1b[31m \u202egnp.exe",
]


class Page(HTMLParser):
    """What a browser would make of a page.

    Its elements, and its text outside of scripts and styles.
    """

    def __init__(self, text: str) -> None:
        super().__init__()
        self.elements: list[tuple[str, dict[str, str | None]]] = []
        self.text = ""
        self._within = ""
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements.append((tag, dict(attrs)))
        self._within = tag

    def handle_endtag(self, tag: str) -> None:
        self._within = ""

    def handle_data(self, data: str) -> None:
        if self._within not in ("script", "style"):
            self.text += data

    def all(self, tag: str) -> list[dict[str, str | None]]:
        return [a for t, a in self.elements if t == tag]


@pytest.fixture(scope="module")
def made(demo: tuple[Path, str], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The review of the demo's drive, made once."""
    folder = tmp_path_factory.mktemp("review")
    (folder / "mine.md").write_text("# After two weeks\n\nIt is **quiet**.\n")
    words = ["report", COMET, "--against", SLATE, "--words", "mine.md", "--out", "review.html"]
    assert (
        call(words, folder, os.environ | {"JOVIK_SHELF": str(demo[0] / "shelf.db")}, 100).status
        == 0
    )
    return folder / "review.html"


@pytest.fixture
def review(made: Path) -> str:
    return made.read_text()


def test_a_review_says_the_verdict_first_and_holds_all_it_rests_on(review: str) -> None:
    page = Page(review)
    said = re.sub(r"\s+", " ", page.text)
    assert " mib" not in said, "a unit keeps its letters"
    assert said.index("4 of 6 claims met") < said.index("Best for") < said.index("box, front")
    for part in (
        "1st of 4",
        f"Instead of {SLATE}: worth it for",
        "sequential write: 6,0",
        "the cliff: after 180 GB",
        "After two weeks",
        "no heat sink needed",
        "boot time",
        "access time",
        "Telescope camera",
        "virtual bench",
        "simulated: this is a model drive",
        "Made by Jovik",
    ):
        assert part in said, part
    sections = [a["id"] for a in page.all("section")]
    assert sections == [
        "verdict",
        "words",
        "claims",
        "speed",
        "long-write",
        "work",
        "latency",
        "ranking",
        "against-1",
        "fit",
        "notes",
        "sheet",
        "tests",
        "how",
        "raw",
    ]
    assert [a["href"] for a in page.all("a") if (a["href"] or "").startswith("#")] == [
        "#verdict",
        *(f"#{s}" for s in sections),
    ]
    assert len(review) < 1_500_000
    # Small print is folded, and no reader is told of commands.
    assert sum("class" not in x for x in page.all("details")) == 4
    told = re.findall(r".{30}(?:jovik [a-z]| --[a-z]).{30}", page.text)
    assert not told, told


def test_a_review_needs_nothing_from_outside_and_lets_nothing_in(review: str) -> None:
    page = Page(review)
    sources = [
        a.get("src") or a.get("srcset") or a.get("href")
        for t, a in page.elements
        if t in ("img", "source", "script", "link", "iframe", "object")
    ]
    assert all(s is None or s.startswith("data:") for s in sources)
    policy = next(
        a["content"] for a in page.all("meta") if a.get("http-equiv") == "Content-Security-Policy"
    )
    assert (
        policy is not None
        and policy.startswith("default-src 'none'; img-src data:;")
        and "unsafe" not in policy
    )
    for tag in ("style", "script"):
        content = re.search(f"<{tag}>(.*?)</{tag}>", review, re.DOTALL)
        assert content is not None
        assert (
            f"sha256-{base64.b64encode(hashlib.sha256(content[1].encode()).digest()).decode()}"
            in policy
        )
    # Nothing that the policy would refuse is there to be refused.
    assert not [a for _, a in page.elements if any(k == "style" or k.startswith("on") for k in a)]


def test_pictures_speak_and_tables_have_headings(review: str) -> None:
    page = Page(review)
    # What the page draws by itself says in words what it shows, at each of two widths.
    charts = [a for t, a in page.elements if t == "svg" and a.get("role") == "img"]
    assert len(charts) == 18 == 2 * len(page.all("figure")) and not page.all("img")
    titles = dict(re.findall(r'<title id="([^"]+)">([^<]+)</title>', review))
    assert all(len(titles[str(a["aria-labelledby"])]) > 40 for a in charts)
    points = [a["data-said"] for _, a in page.elements if "data-said" in a]
    assert len(points) > 100 and all(points)
    assert len(page.all("caption")) == len(page.all("table")) >= 9
    assert all(a.get("scope") == "col" for a in page.all("th"))
    ids = [a["id"] for _, a in page.elements if "id" in a]
    assert len(ids) == len(set(ids)) and all(
        a["aria-labelledby"] in ids for _, a in page.elements if "aria-labelledby" in a
    )


def test_the_raw_figures_are_every_pass(shown: Program, review: str) -> None:
    link = next(a for a in Page(review).all("a") if a.get("download"))
    rows = list(
        csv.DictReader(io.StringIO(base64.b64decode((link["href"] or "").split(",")[1]).decode()))
    )
    assert link["download"] == "veldhaar-comet-2tb.csv" and {r["drive"] for r in rows} == {COMET}
    known = shown("rank", "--format", "json", "--by", "random read 4KiB").json
    mine = next(
        s
        for d in known["drives"]
        if d["drive"] == COMET
        for s in d["steps"]
        if s["kind"] == "random read 4KiB"
    )
    rates = sorted(
        float(r["rate_bytes_s"]) for r in rows if r["phrase"].startswith("random read 4KiB for")
    )
    assert len(rates) == mine["passes"] == 6 and statistics.median(rates) == pytest.approx(
        mine["rate_bytes_s"]["median"]
    )


def test_as_markdown_with_its_pictures_beside_it(shown: Program) -> None:
    answer = shown("report", COMET, "--out", "site")
    folder = shown.folder / "site"
    text = (folder / "veldhaar-comet-2tb.md").read_text()
    linked = re.findall(r"!\[.+\]\((.+?)\)", text)
    assert len(linked) == 8 and all(
        (folder / name).read_bytes().startswith(b"\x89PNG") for name in linked
    )
    assert sorted(answer.out.split("wrote ")[1:])[0].startswith("site/veldhaar-comet-2tb-pictures/")
    assert (
        "| sequential write | up to 6,600 MB/s | 6,0" in text
        and "words/veldhaar-comet-2tb.md" in answer.err
    )
    # What somebody else wrote is never written over.
    (folder / "veldhaar-comet-2tb.md").write_text("# Mine\n")
    assert "Jovik did not make it" in shown("report", COMET, "--out", "site", status=2).err
    assert (folder / "veldhaar-comet-2tb.md").read_text() == "# Mine\n"
    assert (
        "would be written over it"
        in shown(
            "report", COMET, "--words", "site/veldhaar-comet-2tb.md", "--out", "site", status=2
        ).err
    )


def test_the_page_of_all_drives_ranks_them_and_links_their_reviews(shown: Program) -> None:
    shown("report", COMET, "--out", "site")
    shown("report", "--all", "--out", "site")
    page = Page((shown.folder / "site" / "index.html").read_text())
    there = {a["href"] for a in page.all("a") if not (a["href"] or "#").startswith("#")}
    assert there == {"veldhaar-comet-2tb.html"}
    assert all(
        name in page.text for name in (COMET, SLATE, "Ilmaris Drift 1TB", "Tarnmoor Pebble 1TB")
    )
    assert "4 drives in 1" in page.text


@pytest.mark.parametrize("name", HOSTILE)
def test_a_hostile_name_is_text_everywhere(jovik: Program, name: str) -> None:
    jovik("sheet", "new", name, "--maker", "<b>M</b>", "--interface", "PCIe 4.0 x4")
    jovik(
        "sheet",
        "claim",
        name,
        "sequential read",
        "7000MB/s",
        "--printed",
        "<img src=x onerror=alert(1)>",
    )
    jovik("measure", "model:slate", "--drive", name, "sequential read 1MiB for 1s", "--passes", "2")
    jovik("note", name, "--pro", "<i>quick</i>", "--reading", "<u>boot</u>=8.1s")
    answers = [
        jovik("report", name, "--out", "site"),
        jovik("report", "--all", "--out", "site"),
        jovik("judge", name, status=None),
    ]
    assert not any(c in a.out + a.err for a in answers for c in "\x1b\u202e")
    # Its files lie in the folder, under plain names.
    written = [p.relative_to(jovik.folder) for p in jovik.folder.rglob("*")]
    assert all(
        re.fullmatch(r"site(/[a-z0-9-]+(\.(html|md|csv|png))?)*", str(p)) for p in written
    ), written
    for file in (jovik.folder / "site").glob("*.html"):
        page = Page(file.read_text())
        # Linked data is no script that runs.
        running = [a for a in page.all("script") if a.get("type") != "application/ld+json"]
        assert running == [{}] and not page.all("i") + page.all("b") + page.all("u")
        assert all(
            a.get("src") != "x" and not any(k.startswith("on") for k in a) for _, a in page.elements
        )
        assert strip_control(name) in page.text
        assert not any(c in file.read_text() for c in "\x1b\u202e")
    text = next((jovik.folder / "site").glob("*.md")).read_text()
    set_by_others = (
        MarkdownIt("commonmark", {"html": True}).enable("table").render(text.split("\n", 1)[1])
    )
    assert strip_control(name) in Page(set_by_others).text and not re.search(
        r"<(script|b|i|u)>|onerror=[^&]*>(?!&)", set_by_others.replace("&lt;", "")
    )
    rows = list(csv.reader(next((jovik.folder / "site").glob("*.csv")).open()))
    assert not any(cell.startswith(("=", "+", "-", "@")) for row in rows for cell in row)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["report", "--out", "x.html"], "give a DRIVE, or --all"),
        (["report", COMET, "--all", "--out", "x.html"], "without DRIVE"),
        (["report", COMET, "--each", "--out", "x"], "--each goes with --all"),
        (["report", COMET, "--out", "x.docx"], "does not end in .html or .md"),
        (["report", "Comett", "--out", "x.html"], "Comett"),
        (["report", COMET, "--against", COMET, "--out", "x.html"], "cannot replace itself"),
        (["report", COMET, "--words", "none.md", "--out", "x.html"], "none.md cannot be read"),
        (["report", "--all", "--out", "x.md"], "the page of all drives is HTML"),
    ],
)
def test_what_cannot_be_made_is_said_in_a_line(shown: Program, words: list[str], said: str) -> None:
    answer = shown(*words, status=2)
    assert (
        said in answer.err
        and len(answer.err.splitlines()) <= 2
        and not list(shown.folder.iterdir())
    )


def test_a_drive_without_claims_or_others_has_a_review_all_the_same(jovik: Program) -> None:
    jovik("sheet", "new", "Bare")
    assert "Bare has not been measured" in jovik("report", "Bare", "--out", "x.html", status=2).err
    assert (
        "no drive on this shelf has results yet"
        in jovik("report", "--all", "--out", "site", status=2).err
    )
    jovik("measure", "model:slate", "--drive", "Bare", "random read 4KiB for 1s", "--passes", "2")
    jovik("report", "Bare", "--out", "x.html")
    page = Page((jovik.folder / "x.html").read_text())
    assert "no other drive" in page.text and "claims" not in [a["id"] for a in page.all("section")]


def test_in_a_real_browser_tables_sort_and_nothing_is_refused(made: Path, tmp_path: Path) -> None:
    browser = need("chromium")
    command = [
        browser,
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--no-first-run",
        "--enable-logging=stderr",
        f"--user-data-dir={tmp_path / 'profile'}",
        "--dump-dom",
    ]
    done = subprocess.run(
        [*command, f"file://{made}"], check=False, capture_output=True, text=True, timeout=100
    )
    assert "CONSOLE" not in done.stderr and "Content Security Policy" not in done.stderr, (
        done.stderr
    )
    # The script ran: headings of tables that sort hold a button.
    assert done.stdout.count('<button type="button">') > 20


# The parts


@pytest.mark.parametrize(
    ("cell", "key"),
    [
        ("7,230", 7230),
        ("7,050 to 7,300", 7050),
        ("1.20 PB", 1.2e15),
        ("2.5 ms", 2.5e6),
        ("4 min 1 s", 241e9),
        ("3-4", 3),
        ("93.0 %", 93),
        ("-37 %", -37),
        ("52.6 µs", 52600),
        ("397 MB", 397e6),
        ("575,000 IOPS", 575000),
        ("4.7x", 4.7),
    ],
)
def test_what_a_cell_sorts_by(cell: str, key: float) -> None:
    assert float(sort_key(cell)) == pytest.approx(key)


@pytest.mark.parametrize("cell", ["", "-", "yes", "Corvane", "box, front"])
def test_words_sort_as_words(cell: str) -> None:
    assert sort_key(cell) == ""


@given(st.text())
@example("# a\n- b")
@example("1. x")
@example("<script>&amp;</script> ![x](y) *z* `q` | ~~s~~")
def test_escaped_text_is_only_text_in_markdown(text: str) -> None:
    made = (
        MarkdownIt("commonmark", {"html": True})
        .enable(["table", "strikethrough"])
        .render(f"x {escaped(text)}\n\n{escaped(text)}\n")
    )
    wanted = strip_control(" ".join(text.split()))
    paragraphs = [html.unescape(p) for p in re.findall(r"<p>(.*?)</p>", made, re.DOTALL)]
    assert (
        paragraphs == [f"x {wanted}".strip(), *([wanted] if wanted.strip() else [])]
        or not wanted.strip()
    )
    assert not re.search(r"<(?!/?p>)", made)


@given(st.text())
@example(
    "[x](javascript:alert(1)) [y](data:text/html,z) <javascript:alert(1)> ![p](http://example.org/p.png)"
)
def test_words_can_do_nothing_but_be_read(text: str) -> None:
    page = Page(as_html(text))
    allowed = {
        "p",
        "em",
        "strong",
        "code",
        "pre",
        "a",
        "hr",
        "br",
        "blockquote",
        "ul",
        "ol",
        "li",
        "table",
        "thead",
        "tbody",
        "tr",
        "th",
        "td",
    }
    assert {t for t, _ in page.elements} <= allowed | {"h3", "h4", "h5", "h6"}
    assert all(
        set(a) <= {"href", "title", "start", "class"}
        for _, a in page.elements
        if a and "style" not in a
    )
    assert not [
        a
        for a in page.all("a")
        if re.match(r"\s*(javascript|data|vbscript|file):", a.get("href") or "", re.IGNORECASE)
    ]


def test_the_log_before_and_after_a_run() -> None:
    before = asdict(Health("NVMe log", {"composite": 40.0}, percentage_used=1, media_errors=0))
    table = health_change_table(
        "x",
        before,
        asdict(
            Health(
                "NVMe log",
                {"composite": 52.0},
                percentage_used=1,
                media_errors=2,
                warnings=("too hot",),
            )
        ),
    )
    rows = {row[0]: row[1:4] for row in table.rows}
    assert rows["media errors"] == ("0", "2", "warning") and rows["rated endurance used"] == (
        "1 %",
        "1 %",
        "OK",
    )
    assert rows["warning"] == ("-", "too hot", "warning")
    assert all(row[2] == "-" for row in health_change_table("x", before, None).rows)


def test_headings_of_the_words_go_below_the_pages_own() -> None:
    assert as_html("# One\n## Two") == "<h3>One</h3>\n<h4>Two</h4>\n"
    assert demote_headings("# One\n```\n# code\n```") == "### One\n```\n# code\n```"


@given(st.lists(st.text(min_size=1), unique_by=str.casefold, max_size=12))
@example(["A b", "a-B", "index", "class-sata-ssd", "///", "..", "ä", "a" * 90, "a" * 91])
def test_every_page_has_an_address_of_its_own(drives: list[str]) -> None:
    addresses: list[str] = []
    for drive in drives:
        addresses.append(new_address(drive, set(addresses)))
    assert len(set(addresses)) == len(drives) and all(map(is_address, addresses))
    assert all(re.fullmatch(r"[a-z0-9]+(-[a-z0-9]+)*", a) for a in addresses)
    assert not {"index", "class-sata-ssd"} & set(addresses)


@pytest.mark.parametrize("text", ["../x", "/x", "a/b", "x.html", "javascript:x", "A", "-a", "", 3])
def test_what_no_page_is_called_is_no_address(text: object) -> None:
    assert not is_address(text)


@given(st.text())
def test_file_names_are_names_and_cells_are_no_formulas(text: str) -> None:
    assert re.fullmatch(r"[a-z0-9]+(-[a-z0-9]+)*", file_name(text)) and len(file_name(text)) <= 60
    (cell,) = list(csv.reader(io.StringIO(csv_text(["x"], [[text]]))))[1] or [""]
    assert not cell.startswith(("=", "+", "-", "@", "\t", "\r")) and cell.lstrip(
        "'"
    ) == strip_control(text).lstrip("'")


def test_two_drives_on_one_page_say_which_is_faster_at_what(shown: Program) -> None:
    pebble = "Tarnmoor Pebble 1TB"
    for pair in ((pebble, SLATE), (SLATE, pebble)):
        shown("report", pair[0], "--beside", pair[1], "--out", "pair.html", "--force")
        page = (shown.folder / "pair.html").read_text()
        assert f"<title>{pair[0]} and {pair[1]}</title>" in page
        # Whichever comes first, the same is said.
        assert f"{pebble} is faster at reading large files (1.8 times) and writing" in page
        assert f"{SLATE} is faster at small writes" in page
        gains = shown("upgrade", pair[1], pair[0], "--format", "json").json["upgrades"][0]["steps"]
        table = page.split("Each step</caption>")[1].split("</table>")[0]
        assert table.count("<tr>") == len(gains) + 1
        for gain in gains:
            assert f">{significant(gain['times']['median'])} (" in table
            winner = {"faster": pair[0], "slower": pair[1]}.get(gain["verdict"])
            assert winner is None or f">{winner} " in table
        # The first drive has one colour in every chart.
        legend = re.search(r'<li class="(\w+)" data-line="0">', page)
        assert legend is not None and legend[1] == "strong"
    fake = "Oberon Hollow 2TB"
    shown("measure", "model:hollow", "sequential write 1MiB over 100GB verify", status=4)
    shown("report", fake, "--beside", SLATE, "--out", "fake.html")
    page = (shown.folder / "fake.html").read_text()
    assert f'class="loud">{fake}: avoid: it ' in page and f"{fake} is faster" not in page
    same = shown("report", SLATE, "--beside", SLATE.lower(), "--out", "x.html", status=2).err
    assert "Corvane Slate 1TB cannot be compared with itself" in same
    assert (
        "nearest" in shown("report", SLATE, "--beside", "Corvane Slat", "--out", "x", status=2).err
    )
    shown("report", SLATE, "--beside", pebble, "--out", "folder")
    assert (shown.folder / "folder" / "corvane-slate-1tb-and-tarnmoor-pebble-1tb.md").exists()
