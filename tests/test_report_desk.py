"""The editor's desk: figures typed by hand, and the page that follows its text."""

from __future__ import annotations

import http.client
import re
import signal
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.report.typed_figures import (
    IOPS,
    MONEY,
    RATE,
    SIZE,
    TIME,
    ShelfFigure,
    held,
    typed_figures,
)
from tests.conftest import Program
from tests.programs import need

COMET = "Veldhaar Comet 2TB"


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("7,150 MB/s", [(RATE, 7.15e9, 5e6)]),
        ("7000MB/s", [(RATE, 7e9, 5e7)]),
        ("7.15 GB/s", [(RATE, 7.15e9, 5e6)]),
        ("552,000 IOPS and 552k IOPS", [(IOPS, 552e3, 500), (IOPS, 552e3, 500)]),
        ("52.4 µs or 52.4us", [(TIME, 52400, 50)] * 2),
        ("8 s", [(TIME, 8e9, 5e8)]),
        ("180 GB", [(SIZE, 180e9, 5e9)]),
        ("149 EUR", [(MONEY, 149, 0.5)]),
        ("149 USD, PCIe 4.0 x4, 2,000 files, page 3s.", [(TIME, 3e9, 5e8)]),
        ('{{ figure "read 4 KiB" }} `7 MB/s` [x](https://x.example/7MB/s)', []),
        ("```\n7 MB/s\n```", []),
        ("v1.7 MB/s", []),
    ],
)
def test_figures_with_a_unit_are_found_in_a_text(
    text: str, expected: list[tuple[str, float, float]]
) -> None:
    found = [(t.sort, t.value, t.half_unit) for t in typed_figures(text, "EUR")]
    assert [f[0] for f in found] == [e[0] for e in expected]
    for one, other in zip(found, expected, strict=True):
        assert one[1:] == pytest.approx(other[1:])


@given(st.floats(1e6, 2e10), st.integers(2, 6))
def test_a_figure_agrees_however_it_is_rounded_and_no_farther(value: float, digits: int) -> None:
    known = [ShelfFigure("x", RATE, value, "")]
    rounded = float(f"{value:.{digits - 1}e}") / 1e6
    (typed,) = typed_figures(f"{np.format_float_positional(rounded, trim='-')} MB/s", "")
    (one,) = held([typed], known)
    assert one.agrees
    off = [ShelfFigure("x", RATE, typed.value + 2.1 * typed.half_unit, "")]
    assert not held([typed], off)[0].agrees


def test_the_end_of_an_interval_is_typed_as_it_is_shown() -> None:
    end = [ShelfFigure("x", RATE, 7.27e9, "", end=True)]
    exact, rounded = typed_figures("7,270 MB/s, 7,300 MB/s", "")
    assert held([exact], end)[0].agrees and not held([rounded], end)[0].agrees


def test_figures_that_differ_from_the_shelf_are_named_with_what_stays_true(shown: Program) -> None:
    text = shown.folder / "mine.md"
    text.write_text(
        "# Verdict\n\nIt reads 7,150 MB/s, costs 139 EUR and holds 200 GB in its cache.\n\n"
        "I copied 40 GB of photos. {{ price }}\n"
    )
    told = shown("report", COMET, "--check", "--words", text, status=1)
    assert told.out.startswith("2 of 3 figures typed by hand differ")
    assert re.search(r"3 +139 EUR +149 EUR +price +\{\{ price \}\}", told.out)
    assert re.search(r"3 +200 GB +180 GB +the cliff +\{\{ cliff \}\}", told.out)
    found = shown("report", COMET, "--check", "--words", text, "--format", "json", status=1).json
    assert [f["agrees"] for f in found["figures"]] == [True, False, False]
    text.write_text("It costs 149 EUR.\n")
    assert "1 figure typed by hand agrees" in shown("report", COMET, "--check", "--words", text).out
    assert "there is no text about" in shown("report", COMET, "--check", status=2).err
    for words, told_so in (
        (["--check", "--watch"], "--check does not go with --watch"),
        (["--check", "--out", "x.html"], "--out does not go with --check"),
        (["--port", "8123", "--out", "x.html"], "--port does not go with a review"),
        ([], "--out is missing"),
    ):
        assert told_so in shown("report", COMET, *words, status=2).err


@contextmanager
def watched(shown: Program, *words: str | Path) -> Iterator[tuple[str, subprocess.Popen[str]]]:
    command = shown.command("report", COMET, "--watch", *map(str, words))
    with subprocess.Popen(
        command,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env=shown.env,
        cwd=shown.folder,
        # A machine that runs tests in the background may have them ignore it.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # noqa: PLW1509
    ) as running:
        try:
            assert running.stdout is not None
            line = running.stdout.readline()
            yield line.removeprefix("open ").partition(";")[0], running
        finally:
            running.kill()


def test_a_page_is_served_to_this_machine_alone_until_ctrl_c(shown: Program) -> None:
    text = shown.folder / "mine.md"
    text.write_text('# More\n\n{{ price }} and {{ figur "x" }}\n')
    with watched(shown, "--words", text) as (address, running):
        at = urlsplit(address)
        assert at.hostname == "127.0.0.1" and at.port is not None

        def got(path: str, host: str = at.netloc) -> tuple[int, str]:
            connection = http.client.HTTPConnection("127.0.0.1", at.port or 0, timeout=60)
            connection.request("GET", path, headers={"Host": host})
            answer = connection.getresponse()
            return answer.status, answer.read().decode()

        status, page = got(at.path)
        assert status == 200 and "<mark>{{ figur" in page and "149 EUR and" in page
        # Not to pages of the web that have a name lead here, and not without the path.
        assert got(at.path, "evil.example")[0] == 403 and got("/")[0] == 404
        text.write_text("x" * 2_000_000)
        status, page = got(at.path)
        assert status == 200 and "There is no page yet" in page
        taken = shown("report", COMET, "--watch", "--port", str(at.port), status=2)
        assert "cannot be used" in taken.err
        running.send_signal(signal.SIGINT)
        assert running.wait(20) == 0


@pytest.mark.browser
def test_a_browser_shows_what_was_written_last(shown: Program) -> None:
    program = need("chromium")
    sync_api = pytest.importorskip("playwright.sync_api")
    text = shown.folder / "mine.md"
    text.write_text("# More\n\nThe first words.\n")
    with watched(shown, "--words", text) as (address, _), sync_api.sync_playwright() as driver:
        browser: Any = driver.chromium.launch(
            executable_path=str(program), args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page()
        page.goto(address)
        assert "The first words." in page.inner_text("main")
        text.write_text("# More\n\nThe second words.\n")
        page.get_by_text("The second words.").first.wait_for()
        text.write_text("x" * 2_000_000)
        page.get_by_text("There is no page yet").first.wait_for()
        text.write_text("# More\n\nThe third words.\n")
        page.get_by_text("The third words.").first.wait_for()
        browser.close()
