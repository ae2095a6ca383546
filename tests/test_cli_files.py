"""What a command says of the files it writes, workbooks, notebooks, and a client's page."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

import jovik as api
from tests.conftest import Program
from tests.programs import need

COMET, SLATE = "Veldhaar Comet 2TB", "Corvane Slate 1TB"


@pytest.mark.parametrize(
    ("words", "files"),
    [
        (["picture", "temperature", COMET, "--out", "t.png"], ["t.png"]),
        (["runs", "series", "last", "--out", "s.csv"], ["s.csv"]),
        (["shelf", "export", "--out", "e.zip"], ["e.zip"]),
        (["shelf", "backup", "--out", "b.db"], ["b.db"]),
        (["upgrade", SLATE, COMET, "--out", "client.html"], ["client.html"]),
    ],
)
def test_files_that_were_written_are_told_to_scripts(
    shown: Program, words: list[str], files: list[str]
) -> None:
    assert shown(*words, "--format", "json").json["written"] == files
    assert all((shown.folder / f).stat().st_size for f in files)
    said = shown(*words, "--format", "csv", "--force").out.splitlines()
    assert said == ["written", *files]


def test_what_an_import_added_is_told_to_scripts(shown: Program, jovik: Program) -> None:
    shown("shelf", "export", "--out", "e.zip")
    other = ["--shelf", str(shown.folder / "other.db"), "--format", "json"]
    first = shown("shelf", "import", "e.zip", *other).json["added"]
    assert first["drives"] == 4 and first["passes"] > 50
    assert set(shown("shelf", "import", "e.zip", *other).json["added"].values()) == {0}


def test_readings_from_a_workbook(shown: Program) -> None:
    pd = pytest.importorskip("pandas")
    pytest.importorskip("openpyxl")
    rows = [("boot time", 8.25, "s", "stopwatch"), ("noise level", 31, "dB(A)", "at 30 cm")]
    frame = pd.DataFrame(rows, columns=["what", "value", "unit", "method"])
    frame.to_excel(shown.folder / "readings.xlsx", index=False)
    shown("note", SLATE, "--csv", "readings.xlsx")
    noted = shown("note", SLATE, "--format", "json").json["readings"]
    figures = {(r["what"], r["value"], r["unit"]) for r in noted}
    assert {("boot time", 8.25, "s"), ("noise level", 31.0, "dB(A)")} <= figures
    (shown.folder / "broken.xlsx").write_bytes(b"PK\x03\x04 no workbook")
    assert "workbook" in shown("note", SLATE, "--csv", "broken.xlsx", status=2).err


def test_answers_show_as_tables_in_a_notebook(shown: Program) -> None:
    with api.open_shelf(shown.shelf) as shelf:
        judged = api.judge(shelf, COMET)._repr_html_()
        ranked = api.rank(shelf)._repr_html_()
        compared = api.compare(shelf, SLATE, COMET)._repr_html_()
    for page, has in (
        (judged, "sequential read"),
        (ranked, COMET),
        (compared, "times"),
    ):
        assert page is not None and "<table>" in page and has in page
    assert ranked is not None and ranked.count("<table>") == 2


def test_a_notebook_lets_no_markup_of_a_name_through(jovik: Program) -> None:
    name = "<script>alert(1)</script>"
    jovik("sheet", "new", name)
    jovik("measure", "model:comet", "random read 4KiB for 1s", "--drive", name, "--passes", "2")
    with api.open_shelf(jovik.shelf) as shelf:
        page = api.rank(shelf)._repr_html_()
    assert page is not None and "&lt;script&gt;" in page and "<script>" not in page


def test_the_clients_page_is_one_sheet_with_seconds_and_no_promise_beyond(shown: Program) -> None:
    shown("upgrade", SLATE, COMET, "--out", "client.html", "--instead-of", "900")
    page = (shown.folder / "client.html").read_text(encoding="utf-8")
    assert "instead of" in page and "149 EUR" in page and "promises nothing beyond" in page
    shown("upgrade", SLATE, COMET, "--out", "client.md")
    text = (shown.folder / "client.md").read_text(encoding="utf-8")
    assert "Copying photographs" in text and "one reading each" in text
    (shown.folder / "mine.html").write_text("my own page")
    shown("upgrade", SLATE, COMET, "--out", "mine.html", status=2)
    need("chromium")
    subprocess.run(
        [
            *("chromium", "--headless", "--no-sandbox", "--no-pdf-header-footer"),
            "--print-to-pdf=client.pdf",
            f"file://{shown.folder}/client.html",
        ],
        cwd=shown.folder,
        capture_output=True,
        check=True,
    )
    printed = Path(shown.folder, "client.pdf").read_bytes()
    assert printed.count(b"/Type /Page\n") == 1


def test_each_pass_is_shown_by_measure_too(jovik: Program) -> None:
    words = ["measure", "model:comet", "random read 4KiB for 1s", "--passes", "3", "--passes-table"]
    assert "MB/s with flush" in jovik(*words).out
