"""Every kind of picture, drawn by the real program.

Forms, themes, hostile names, and what is missing.
"""

from __future__ import annotations

import math
import os
import re
from dataclasses import replace
from importlib import resources
from itertools import combinations
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image

from jovik.analysis.ladder import ladders_in
from jovik.analysis.ranking import rank_drives
from jovik.analysis.step_result import Conditions, Limit, PassFigures, StepResult
from jovik.base.findings import Findings
from jovik.charts import image, ladder, long_write
from jovik.charts.canvas import DARK, LIGHT, MOST_DRIVES, THEMES, Canvas, Theme
from jovik.charts.chart import (
    Axis,
    BarChart,
    Chart,
    HeatMap,
    Line,
    LineChart,
    Panel,
    Point,
    View,
)
from jovik.charts.kinds import KINDS as KINDS_OF_PICTURES
from jovik.charts.kinds import chart_of
from jovik.charts.ladder import ladder_chart
from jovik.charts.provenance import truncate
from jovik.charts.ranking import ranking_chart
from jovik.charts.svg import chart_svg
from jovik.shelf.store import Shelf
from jovik.simulator import catalogue
from tests.conftest import Program
from tests.test_analysis_statistics import READ, result

SHORT = [
    "random read 4KiB depth 1..16 for 1s",
    "random mixed 0..100% read 4KiB depth 8 by 50 for 1s",
    "sequential write 1MiB depth 8 over 80GB",
    "random read 4KiB for 1s",
    "fill to 90%",
    "random read 4KiB for 1s",
    "empty",
]
HOSTILE = "<script>alert(1)</script> $x^2$ \x1b[31m\u202e../../x"


@pytest.fixture(scope="module")
def shelf(tmp_path_factory: pytest.TempPathFactory) -> Program:
    folder = tmp_path_factory.mktemp("pictures")
    program = Program(
        folder, os.environ | {"JOVIK_SHELF": str(folder / "shelf.db"), "NO_COLOR": "1"}
    )
    program("sheet", "new", HOSTILE, "--interface", "<b>")
    program("measure", "model:drift", *SHORT, "--passes", "2", "--seed", "1", "--format", "csv")
    program(
        "measure",
        "model:comet",
        "--drive",
        HOSTILE,
        *SHORT,
        "--passes",
        "2",
        "--seed",
        "1",
        "--format",
        "csv",
    )
    rounds = "until steady rounds of 2s within 2% of free"
    mixes = f"random mixed 65,35,5% read 4KiB,64KiB depth 4 {rounds}"
    loads = f"random write 4KiB depth 1,4,16 {rounds}"
    spans = "random write 4KiB depth 32 over 4 spans within 1% of free"
    words = ["purge", spans, mixes, loads, "--seed", "1", "--format", "csv"]
    program("measure", "model:basalt", *words)
    program("measure", "model:gannet", "scan read in 50 zones", "--seed", "1", "--format", "csv")
    return program


DRIFT, GANNET, BASALT = "Ilmaris Drift 1TB", "Corvane Gannet 12TB", "Corvane Basalt 960GB"
KINDS = [
    ("rank",),
    ("claims", DRIFT),
    ("long-write", DRIFT),
    ("long-write", DRIFT, HOSTILE, "--axis", "bytes", "--theme", "dark"),
    ("ladder", DRIFT, HOSTILE, "--axis", "mix"),
    ("latency", HOSTILE, DRIFT),
    ("full", HOSTILE),
    ("surface", GANNET),
    ("temperature", HOSTILE),
    ("rounds", BASALT),
    ("mixes", BASALT),
    ("mixes", BASALT, "--theme", "dark"),
    ("saturation", BASALT),
    ("demand", BASALT),
    ("upgrade", DRIFT, HOSTILE),
]


@pytest.mark.parametrize(
    "words", KINDS, ids=lambda w: "-".join(w[:1] + w[3:]) if isinstance(w, tuple) else ""
)
def test_every_kind_is_drawn_as_vectors_with_names_as_text(
    shelf: Program, tmp_path: Path, words: tuple[str, ...]
) -> None:
    out = tmp_path / "picture.svg"
    shelf("picture", *words, "--out", out)
    text = out.read_text(encoding="utf-8")
    drawn = ElementTree.fromstring(text)
    said = " ".join("".join(e.itertext()) for e in drawn.iter("{http://www.w3.org/2000/svg}text"))
    assert (
        "Jovik" in said and "pass" in said and "simulated" in said and "2026-" in said
    ) or "20" in said
    assert (
        not list(drawn.iter("{http://www.w3.org/2000/svg}script"))
        and "<script" not in text.casefold()
    )
    assert "\x1b" not in text and "\u202e" not in text


def test_forms_sizes_and_themes(shelf: Program, tmp_path: Path) -> None:
    light, dark, pdf = (tmp_path / n for n in ("light.png", "dark.png", "p.pdf"))
    shelf("picture", "ladder", DRIFT, "--out", light, "--size", "640x480")
    shelf("picture", "ladder", DRIFT, "--out", dark, "--theme", "dark")
    shelf("picture", "latency", DRIFT, "--out", pdf)
    assert (
        Image.open(light).size == (640, 480)
        and Image.open(dark).size == (1280, 800)
        and pdf.read_bytes()[:5] == b"%PDF-"
    )
    corner = [sum(Image.open(p).convert("RGB").getpixel((3, 3))) for p in (light, dark)]  # type: ignore[arg-type]
    assert corner[0] > 600 and corner[1] < 200


def test_what_cannot_be_drawn_is_said_with_the_command_that_would_help(
    shelf: Program, tmp_path: Path
) -> None:
    out = tmp_path / "x.png"
    for words, said in (
        (["surface", DRIFT], "scan read in 200 zones"),
        (["full", GANNET], "not measured both empty and full"),
        (["ladder", DRIFT, "--axis", "workers"], "no such ladder"),
        (["latency", *[DRIFT] * 7], "too many for one picture"),
        (["latency", DRIFT, "--step", "random read 2MiB"], "there is: "),
    ):
        answer = shelf("picture", *words, "--out", out, status=2)
        assert said in answer.err and not out.exists(), words


def luminance(colour: str) -> float:
    """Relative luminance (WCAG 2.2, "relative luminance")."""
    parts = [int(colour[n : n + 2], 16) / 255 for n in (1, 3, 5)]
    return sum(
        w * (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4)
        for w, p in zip((0.2126, 0.7152, 0.0722), parts, strict=True)
    )


def contrast(one: str, two: str) -> float:
    high, low = sorted((luminance(one), luminance(two)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_a_theme_can_be_read_and_its_lines_told_apart(theme: str) -> None:
    """WCAG 2.2: 7 to 1 for text, 4.5 for small print, 3 for what is drawn.

    And six lines that differ without colour.
    """
    look = THEMES[theme]
    assert contrast(look.ink, look.paper) >= 7 and contrast(look.quiet, look.paper) >= 4.5
    assert all(contrast(line, look.paper) >= 3 for line in look.lines)
    assert (
        len({*look.lines})
        == len({*look.marks})
        == len({str(d) for d in look.dashes})
        == MOST_DRIVES
    )


def test_what_is_not_measured_alike_is_not_drawn_as_if(shelf: Program, tmp_path: Path) -> None:
    """An untested claim has words for a bar, and a name that does not fit is cut."""
    shelf("sheet", "claim", GANNET, "random read 4KiB", "9ms", status=None)
    out = tmp_path / "claims.svg"
    shelf("picture", "claims", GANNET, "--out", out)
    assert "untested" in out.read_text() and "nothing measured" in out.read_text()
    assert (
        truncate("x" * 40) == "x" * 23 + "\N{HORIZONTAL ELLIPSIS}"
        and truncate("a\x1bb") == "a\N{REPLACEMENT CHARACTER}b"
    )


def test_a_point_that_is_not_simply_the_drives_is_hollow_and_says_why(tmp_path: Path) -> None:
    def rung(depth: int, rates: list[float], *limits: Limit) -> StepResult:
        passes = tuple(PassFigures(r, r, r / 4096, 1, 0, 10**9, 0, 1) for r in rates)
        return StepResult(
            f"random read 4KiB depth {depth} for 1s",
            f"random read 4KiB depth {depth}",
            passes,
            {},
            Conditions("model", True, 1),
            drive="Tern",
            limits=limits,
            findings=Findings(ladder="random read 4KiB depth 1..4 for 1s"),
        )

    (curve,) = ladders_in(
        [rung(1, [1e8, 1.01e8]), rung(2, [2e8, 3.1e8]), rung(4, [4e8, 4e8], Limit("link", 4e8))]
    )
    assert [r.doubt for r in curve.rungs] == ["", "passes differ", "limited by the link"]
    image.draw(ladder_chart([curve]), tmp_path / "x.svg", Canvas())
    text = (tmp_path / "x.svg").read_text()
    assert "hollow marks: passes differ at 2; limited by the link at 4" in text
    (plain_one,) = ladders_in([rung(d, [1e8 * d, 1.01e8 * d]) for d in (1, 2, 4)])
    image.draw(ladder_chart([plain_one]), tmp_path / "y.svg", Canvas())
    assert "hollow" not in (tmp_path / "y.svg").read_text()


def test_the_choices_that_a_kind_offers_are_those_that_its_builder_knows() -> None:
    choices = {(k, o.name): o.of for k, kind in KINDS_OF_PICTURES.items() for o in kind.options}
    assert choices["ladder", "axis"] == tuple(ladder.AXES)
    assert choices["long-write", "axis"] == long_write.VIEWS


DRAWN = [words for words in KINDS if "--theme" not in words and "--axis" not in words]


@pytest.mark.parametrize("words", DRAWN, ids=lambda w: w[0])
def test_a_page_and_a_picture_show_the_same_values(
    shelf: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, words: tuple[str, ...]
) -> None:
    """Both renderers read one chart: what each has drawn is read back from its output."""
    with Shelf(shelf.env["JOVIK_SHELF"]) as opened:
        chart = chart_of(opened, words[0], words[1:])
    axes: list[Any] = []
    monkeypatch.setattr(image, "_save", lambda figure, *_, **__: axes.extend(figure.axes))
    image.draw(chart, tmp_path / "x.png", Canvas())
    page = ElementTree.fromstring(chart_svg(chart, "x", "y").replace(" data-zooms", ""))
    wide = next(e for e in page.iter("svg") if e.get("class") == "wide")
    if isinstance(chart, BarChart):
        values = [e for e in wide.iter("text") if e.get("class") == "value"]
        shown = sorted("".join(e.itertext()) for e in values)
        assert shown == sorted(t.get_text() for t in axes[0].texts) and shown
        lengths = sorted(bar.get_width() for group in axes[0].containers for bar in group)
        assert chart.own_scale or lengths == sorted(b.value for r in chart.rows for b in r.bars)
        return
    in_file, on_screen = in_picture(chart, axes), on_page(chart, wide)
    assert in_file and on_screen
    for one, other in ((in_file, on_screen), (on_screen, in_file)):
        lonely = [p for p in one if all(math.dist(p, q) > 0.005 * max(*q, 1.0) for q in other)]
        assert not lonely, (lonely[:5], one[:5], other[:5])


Places = list[tuple[float, float]]


def in_picture(chart: Chart, axes: list[Any]) -> Places:
    """The cells' words, or the points' places."""
    if isinstance(chart, HeatMap):
        return [(0.0, number(t.get_text())) for t in axes[0].texts]
    found: Places = []
    for ax in axes:
        (left, right), (low, high) = ax.get_xlim(), ax.get_ylim()
        for line in ax.lines:
            if line.get_transform() != ax.transData or line.get_marker() == "_":
                continue  # a mark, a level or a whisker
            places = zip(*line.get_data(), strict=True)
            found += [((x - left) / (right - left), (y - low) / (high - low)) for x, y in places]
    return found


def on_page(chart: Chart, svg: ElementTree.Element) -> Places:
    """The same of a page's drawing."""
    if isinstance(chart, HeatMap):
        cells = [e for e in svg.iter("g") if e.get("class") == "cell"]
        return [(0.0, number("".join(c.itertext()))) for c in cells]
    view = next(e for e in svg.iter("g") if e.get("class") == "view")
    found: Places = []
    for plot, panel in zip(view.iter("svg"), chart.views[0].panels, strict=True):
        ladders_in = [e for e in plot.iter("path") if e.get("class") == "curve"]
        for curve in ladders_in:
            for pair in str(curve.get("d"))[1:].split("L"):
                x, y = map(float, pair.split())
                found.append((x / 1000, 1 - y / 1000))
        x_axis = chart.views[0].x
        for line in panel.lines:
            if not line.joined and not line.quiet:
                found += [(x_axis.share(p.x), panel.y.share(p.y)) for p in line.points]
    return found


def number(words: str) -> float:
    return float(words.split()[0].replace(",", ""))


def test_the_picture_of_claims_shows_the_verdicts_that_judge_gives(jovik: Program) -> None:
    comet = (Path(catalogue.__file__).parent / "catalogue" / "comet.toml").read_text(
        encoding="utf-8"
    )
    (jovik.folder / "slow.toml").write_text(
        comet.replace('link_rate = "7877MB/s"', 'link_rate = "1000MB/s"'), encoding="utf-8"
    )
    for target, rig in (("model:comet", "bench"), ("model:slow.toml", "laptop")):
        jovik(
            "measure", target, "sequential read 1MiB depth 8 for 500ms", "--rig", rig, "--seed", "1"
        )
    jovik("picture", "claims", "Veldhaar Comet 2TB", "--out", "x.svg")
    text = (jovik.folder / "x.svg").read_text()
    assert (
        "met" in text
        and "short" not in text
        and "on rig 'bench'" in jovik("judge", "Veldhaar Comet 2TB").out
    )


@pytest.mark.parametrize("drives", [1, 3, 30])
def test_a_ranking_of_any_size_is_drawn(tmp_path: Path, drives: int) -> None:
    results = [
        result(
            f"Drive number {n} with a name that goes on and on $x_1$",
            READ,
            [1e8 * (n + 1) * f for f in (1, 1.02, 0.99)],
        )
        for n in range(drives)
    ]
    results.append(result("measured once", "random write 4KiB", [5e7]))
    out = tmp_path / "r.svg"
    image.draw(ranking_chart(rank_drives(results), results[0].drive), out, Canvas())
    drawn = out.read_text()
    assert "Ranking by index" in drawn and "medians of" in drawn
    if drives < 8:
        assert "not measured alike" in drawn or "random write, 4 KiB" not in drawn


def test_scans_of_several_drives_lie_over_each_other(jovik: Program) -> None:
    for model in ("gannet", "slate"):
        jovik("measure", f"model:{model}", "scan read in 40 zones", "--seed", "3")
    names = ("Corvane Gannet 12TB", "Corvane Slate 1TB")
    jovik("picture", "surface", *names, "--out", "two.svg")
    drawn = (jovik.folder / "two.svg").read_text()
    assert all(name in drawn for name in names) and "percent of the scanned addresses" in drawn
    # The ladder that is not there is answered with those that are.
    jovik("measure", "model:slate", "random read 4KiB depth 1..8 for 1s", "--passes", "2")
    told = jovik("picture", "ladder", names[1], "--axis", "workers", "--out", "x.png", status=2).err
    assert "it has: --axis depth" in told


SEEN_BY = {
    "most": np.eye(3),
    "protanopes": np.array(
        [[0.1523, 1.0526, -0.2049], [0.1145, 0.7863, 0.0992], [-0.0039, -0.0481, 1.0520]]
    ),
    "deuteranopes": np.array(
        [[0.3673, 0.8606, -0.2280], [0.2801, 0.6725, 0.0474], [-0.0118, 0.0429, 0.9689]]
    ),
}
"""Linear sRGB as it is seen (Machado and others, IEEE TVCG 15, 2009, severity 1)."""


def _lab(colour: str, seen: np.ndarray) -> np.ndarray:
    """CIELAB of a colour as it is seen, under D65."""
    srgb = np.array([int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)])
    linear = np.clip(
        seen @ np.where(srgb <= 0.04045, srgb / 12.92, ((srgb + 0.055) / 1.055) ** 2.4), 0, 1
    )
    xyz = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
    x, y, z = np.cbrt(np.maximum(xyz @ linear / [0.9505, 1.0, 1.089], 0.008856))
    return np.array([116 * y - 16, 500 * (x - y), 200 * (y - z)])


@pytest.mark.parametrize("who", SEEN_BY)
@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=["light", "dark"])
def test_everybody_can_tell_the_lines_of_a_picture_apart(theme: Theme, who: str) -> None:
    for one, other in combinations(theme.lines, 2):
        away = np.linalg.norm(_lab(one, SEEN_BY[who]) - _lab(other, SEEN_BY[who]))
        assert away >= 10, (one, other, away)


def test_pictures_have_the_colours_of_pages() -> None:
    css = (resources.files("jovik.report") / "templates" / "page.css").read_text()
    blocks = {
        LIGHT: re.findall(r"^:root \{(.*?)\}", css, re.M | re.S),
        DARK: re.findall(r"color-scheme: dark\) \{\s*:root \{(.*?)\}", css, re.S),
    }
    for theme, parts in blocks.items():
        page = dict(re.findall(r"--([a-z0-9-]+): (#[0-9a-f]{6})", " ".join(parts)))
        names = ("paper", "ink", "k0", "bad", "pale-bar", *(f"k{n}" for n in range(6)))
        own = (theme.paper, theme.ink, theme.accent, theme.bad, theme.pale, *theme.lines)
        assert [page[n] for n in names] == [c.lower() for c in own]


def test_a_long_write_is_drawn_beside_what_was_claimed(shown: Program) -> None:
    shown("report", "Veldhaar Comet 2TB", "--out", "review.html")
    page = (shown.folder / "review.html").read_text()
    drawn = page.split('id="chart-long-write-1"')[1].split("</figure>")[0]
    # In both drawings, over time and over bytes.
    assert drawn.count(">claimed</text>") == drawn.count(">claimed, sustained</text>") == 4
    assert drawn.count('class="level"') == 8
    shown("sheet", "unclaim", "Veldhaar Comet 2TB", "sequential write")
    shown("report", "Veldhaar Comet 2TB", "--out", "review.html", "--force")
    page = (shown.folder / "review.html").read_text()
    assert ">claimed</text>" not in page and ">claimed, sustained</text>" in page


def test_three_long_writes_have_a_panel_each_and_one_scale(shown: Program) -> None:
    names = ["Ilmaris Drift 1TB", "Veldhaar Comet 2TB", "Tarnmoor Pebble 1TB"]
    with Shelf(str(shown.shelf)) as open_shelf:
        three = chart_of(open_shelf, "long-write", names)
        two = chart_of(open_shelf, "long-write", names[:2])
        one = chart_of(open_shelf, "long-write", names[:1])
    assert isinstance(three, LineChart) and isinstance(two, LineChart)
    for view in three.views:
        assert [p.name for p in view.panels] == names
        assert len({(p.y.low, p.y.high) for p in view.panels}) == 1
        said = [p.said for panel in view.panels for line in panel.lines for p in line.points]
        assert {s.split(":")[0] for s in said if s} == set(names), "each point names its drive"
    assert all(len(v.panels) == 1 for v in two.views)
    assert three.about.heading == "Veldhaar Comet 2TB: drops last, after 180 GB"
    with Shelf(str(shown.shelf)) as open_shelf:
        four = chart_of(open_shelf, "long-write", [*names, "Corvane Slate 1TB"])
    assert four.about.heading == "Corvane Slate 1TB: no cliff within 297 GB"
    assert "<text" in chart_svg(three, "c", "words") and chart_svg(three, "c", "x").count(
        f">{names[2]}</text>"
    ) == 2 * len(three.views)
    # What is usual for its class lies behind the curve of one: the figures of the class's file.
    assert isinstance(one, LineChart)
    usual = one.views[0].panels[0].usual
    assert usual is not None and (usual.low, usual.high) == (300, 3000)
    assert usual.words == "usual for a PCIe 4.0 x4 SSD, sustained"
    assert usual.words in chart_svg(one, "c", "words")


def test_a_long_write_is_compared_with_what_its_link_carries(shown: Program) -> None:
    with Shelf(str(shown.shelf)) as open_shelf:
        drive = open_shelf.sheets.get("Veldhaar Comet 2TB").drive
        (written,) = [
            r for r in open_shelf.results.every(drive.name) if r.findings.long_write is not None
        ]
    slow = replace(
        written, conditions=replace(written.conditions, link="USB 5 Gb/s", link_bytes_s=460e6)
    )
    own, behind = (long_write.usual_sustained(drive, r) for r in (written, slow))
    assert own is not None and own.words == "usual for a PCIe 4.0 x4 SSD, sustained"
    assert behind is not None and behind.words == "usual for a USB 5 Gb/s SSD, sustained"
    # Two cliffs whose places are not apart: neither drive drops last.
    assert long_write._longest([written, replace(written, drive="Another")]) == "The long write"


def test_names_stand_at_their_lines_unless_they_would_be_crossed(
    shown: Program, tmp_path: Path
) -> None:
    def texts(*words: str) -> list[tuple[str, float]]:
        """Return each text of a drawing and its height on the page."""
        shown("picture", *words, "--out", tmp_path / "p.svg", "--force")
        root = ElementTree.fromstring((tmp_path / "p.svg").read_text(encoding="utf-8"))
        found = root.iter("{http://www.w3.org/2000/svg}text")
        return [("".join(t.itertext()), float(t.get("y") or 0)) for t in found]

    drift, comet = "Ilmaris Drift 1TB", "Veldhaar Comet 2TB"
    apart = [name for name, _ in texts("long-write", drift, comet)]
    assert apart.count(drift) == apart.count(comet) == 1

    def lines(*points: tuple[tuple[float, float], ...]) -> dict[str, Any]:
        axis = Axis("x", 0, 10, ())
        made = tuple(
            Line(f"drive {n}", tuple(Point(x, y, "") for x, y in one))
            for n, one in enumerate(points)
        )
        view = View("", axis, (Panel(axis, made),))
        return image._ends(view, [line.name for line in made], Canvas())

    flat = ((0.0, 2.0), (6.0, 2.0))
    assert set(lines(flat, ((0.0, 8.0), (6.0, 8.0)))) == {"drive 0", "drive 1"}
    close = [((0.0, y), (6.0, y)) for y in (2.0, 2.1, 2.2)]
    assert lines(*close) == {}, "they end at the same place"
    both_ways_crossed = ((5.6, 0.0), (5.7, 9.0), (6.3, 0.0), (6.4, 9.0))
    assert lines(flat, both_ways_crossed) == {}
    assert lines(flat) == {}, "a single line needs no name"


def test_titles_say_what_was_found(shown: Program) -> None:
    with Shelf(str(shown.shelf)) as open_shelf:
        headings = {
            kind: chart_of(open_shelf, kind, ["Veldhaar Comet 2TB"]).about.heading
            for kind in ("claims", "ladder", "latency", "long-write")
        }
    judged = shown("judge", "Veldhaar Comet 2TB", status=1).out.splitlines()
    assert headings["claims"].removeprefix("Veldhaar Comet 2TB: ") in " ".join(judged)
    assert re.fullmatch(
        r"Veldhaar Comet 2TB: half within .* µs, 99 % within .* µs", headings["latency"]
    )
    assert headings["long-write"].startswith("Veldhaar Comet 2TB: drops to ")
    assert headings["ladder"].startswith("Veldhaar Comet 2TB: best at depth ")
