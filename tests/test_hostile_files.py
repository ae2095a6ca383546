"""A hostile file of every kind that Jovik reads: refused or read in 512 MB of address space.

Each is small, and would take gigabytes if its own figures were believed (`jovik.base.limits`).
"""

from __future__ import annotations

import hashlib
import io
import json
import re
import sqlite3
import subprocess
import sys
import time
import zipfile
import zlib
from collections.abc import Callable
from importlib import resources
from pathlib import Path

import numpy as np
import pytest

from jovik.base import limits
from jovik.base.recording_file import FORMS
from jovik.base.trace import SLICE_NS
from jovik.shelf.archive import FORMAT, VERSION
from jovik.shelf.encoding import pack, unpack
from tests.conftest import Program

MEMORY_BYTES, PATIENCE_S = 512 * 2**20, 240
"""The goal is five seconds on an idle machine; a busy one gets more."""
LIMIT = f"import resource, sys; resource.setrlimit(resource.RLIMIT_AS, ({MEMORY_BYTES},) * 2)"
LIMITED = f"{LIMIT}; from jovik.cli import main; sys.argv[0] = 'jovik'; main()"


def packed(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as made:
        for name, content in files.items():
            made.writestr(name, content)
    return out.getvalue()


def workbook(cells: str, **parts: bytes) -> bytes:
    """A workbook whose only sheet has these cells."""
    main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
    office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    package = "http://schemas.openxmlformats.org/package/2006"
    kind = "application/vnd.openxmlformats-officedocument.spreadsheetml"
    types = (
        f'<Types xmlns="{package}/content-types"><Default Extension="rels" ContentType='
        '"application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" '
        f'ContentType="application/xml"/><Override PartName="/xl/workbook.xml" ContentType="{kind}'
        '.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="'
        f'{kind}.worksheet+xml"/><Override PartName="/xl/sharedStrings.xml" ContentType="{kind}'
        '.sharedStrings+xml"/></Types>'
    )
    book = (
        f'<workbook xmlns="{main}" xmlns:r="{office}"><sheets><sheet name="a" sheetId="1" '
        'r:id="rId1"/></sheets></workbook>'
    )
    files = {
        "[Content_Types].xml": types.encode(),
        "_rels/.rels": f'<Relationships xmlns="{package}/relationships"><Relationship Id="rId1" '
        f'Type="{office}/officeDocument" Target="xl/workbook.xml"/></Relationships>'.encode(),
        "xl/workbook.xml": book.encode(),
        "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{package}/relationships">'
        f'<Relationship Id="rId1" Type="{office}/worksheet" Target="worksheets/sheet1.xml"/>'
        f'<Relationship Id="rId2" Type="{office}/sharedStrings" Target="sharedStrings.xml"/>'
        "</Relationships>".encode(),
        "xl/worksheets/sheet1.xml": f'<worksheet xmlns="{main}"><sheetData>{cells}</sheetData>'
        "</worksheet>".encode(),
        "xl/sharedStrings.xml": f'<sst xmlns="{main}"/>'.encode(),
    }
    return packed(files | {n.replace("__", "/") + ".xml": v for n, v in parts.items()})


FORM, FIRST_COLUMNS = next(iter(FORMS.items()))
HEADER = ",".join(FIRST_COLUMNS).encode() + b"\n"


def recording(requests: bytes, **more: object) -> bytes:
    head = {
        "form": next(iter(FORMS)),
        "name": "x",
        "elapsed_ns": 10**9,
        "lost": 0,
        "status": 0,
        **more,
    }
    head["sha256"] = hashlib.sha256(requests).hexdigest()
    return packed({"head.json": json.dumps(head).encode(), "requests.csv": requests})


def archive(**files: bytes) -> bytes:
    """An archive whose manifest agrees with its files; `runs__a__json` is ``runs/a.json``."""
    named = {
        n.replace("__", "/").replace("_json", ".json").replace("_csv", ".csv"): v
        for n, v in files.items()
    }
    sums = {name: hashlib.sha256(content).hexdigest() for name, content in named.items()}
    about = {"format": FORMAT, "version": VERSION, "files": sums}
    return packed(named | {"manifest.json": json.dumps(about).encode()})


LAST = "Veldhaar Comet 2TB"


def slow_model() -> bytes:
    """A model drive on whose clock a pass would last for millennia."""
    text = (resources.files("jovik.simulator") / "catalogue" / "slate.toml").read_text()
    text = re.sub(r'(\w*_rate) = "[^"]*"', r'\1 = "1kB/s"', text)
    return re.sub(r'cache_size = "[^"]*"', 'cache_size = "1MB"', text).encode()


MANY = 16_000_000
LAST_CELL = '<row r="1048576"><c r="XFD1048576"><v>1</v></c></row>'
FILES: dict[str, tuple[str, Callable[[], bytes], list[str]]] = {
    # Workbooks
    "one cell in the last row and column": ("a.xlsx", lambda: workbook(LAST_CELL), ["log"]),
    "a row of the last column": (
        "a.xlsx",
        lambda: workbook('<row r="1"><c r="XFD1"><v>1</v></c></row>' * 1000),
        ["log"],
    ),
    "tags within tags": ("a.xlsx", lambda: workbook("<row>" * 3_000_000), ["log"]),
    "many empty strings": (
        "a.xlsx",
        lambda: workbook("", xl__sharedStrings=b"<sst>" + b"<si/>" * 3_000_000 + b"</sst>"),
        ["log"],
    ),
    "many styles": (
        "a.xlsx",
        lambda: workbook("", xl__styles=b"<styleSheet>" + b"<a/>" * 3_900_000 + b"</styleSheet>"),
        ["log"],
    ),
    "a part that stands for gigabytes": (
        "a.xlsx",
        lambda: workbook("", xl__media=bytes(6 * 10**8)),
        ["log"],
    ),
    # Tables
    "many short lines": ("a.csv", lambda: b"0,0\n" * (MANY // 4), ["log"]),
    "one long line": ("a.csv", lambda: b"ab," * (MANY // 3), ["log"]),
    "one long field": ("a.csv", lambda: b'"' + b"a" * 140_000 + b'",1\n', ["log"]),
    "many columns": ("a.csv", lambda: b"what,value," + b"ab," * (MANY // 3 - 4), ["readings"]),
    "many readings": ("a.csv", lambda: b"what,value\n" + b"a,1\n" * (MANY // 4 - 9), ["readings"]),
    "a table longer than any": ("a.csv", lambda: b"0,0\n" * MANY, ["log"]),
    # TOML
    "many keys": ("a.toml", lambda: b"".join(b"a%d=1\n" % n for n in range(1_500_000)), ["sheet"]),
    "keys to the limit": (
        "a.toml",
        lambda: b"".join(b"a%d=1\n" % n for n in range(110_000)),
        ["sheet"],
    ),
    "a list to the limit": ("a.toml", lambda: b"a=[" + b"{}," * 330_000 + b"]", ["sheet"]),
    "many steps": (
        "a.toml",
        lambda: b"title='x'\n" + b"[[step]]\nphrase='rest 1s'\nwhy='x'\n" * 25_000,
        ["plan"],
    ),
    "a model drive of a byte a second": ("m.toml", slow_model, ["model"]),
    # Recordings
    "a request at the last address": (
        "a.jrec",
        lambda: recording(HEADER + b"0,1,0,0,%d,4096,0\n" % 2**50),
        ["recording"],
    ),
    "requests without end": (
        "a.jrec",
        lambda: recording(HEADER + b"0,0,0,0,0,512,0\n" * 12_000_000),
        ["recording"],
    ),
    "requests to the limit": (
        "a.jrec",
        lambda: recording(HEADER + b"0,9,0,0,0,512,0\n" * limits.RECORDING_ROWS_FREE),
        ["recording"],
    ),
    "a request without end": (
        "a.jrec",
        lambda: recording(HEADER + b"0" * 6 * 10**8),
        ["recording"],
    ),
    "lines without end": ("a.jrec", lambda: recording(HEADER + b"\n" * 6 * 10**8), ["recording"]),
    "names without end": (
        "a.jrec",
        lambda: recording(HEADER, files=[{} for _ in range(4_000_000)]),
        ["recording"],
    ),
    # Archives
    "a list of empty objects": (
        "a.zip",
        lambda: archive(drives_json=b"[" + b"{}," * 20_000_000 + b"{}]"),
        ["import"],
    ),
    "a text of wide letters": (
        "a.zip",
        lambda: archive(drives_json=b'["\xf0\x9f\x98\x80' + b"a" * 62_000_000 + b'"]'),
        ["import"],
    ),
    "a list of numbers": (
        "a.zip",
        lambda: archive(drives_json=b"[" + b"1.5," * 15_000_000 + b"1]"),
        ["import"],
    ),
    "objects within objects": (
        "a.zip",
        lambda: archive(drives_json=b'{"a":' * 500_000 + b"1" + b"}" * 500_000),
        ["import"],
    ),
    "many files": (
        "a.zip",
        lambda: archive(**{f"runs__{n}_json": b"{}" for n in range(20_000)}),
        ["import"],
    ),
    "a manifest of many files": (
        "a.zip",
        lambda: packed(
            {
                "manifest.json": json.dumps(
                    {
                        "format": FORMAT,
                        "version": VERSION,
                        "files": {f"{n}": n for n in range(3_000_000)},
                    }
                ).encode()
            }
        ),
        ["import"],
    ),
    # Text
    "words that open links": ("a.md", lambda: b"[" * 249_000, ["words"]),
    "words that open emphasis": ("a.md", lambda: b"**a " * 62_000, ["words"]),
    "words within quotations": ("a.md", lambda: b">" * 249_000, ["words"]),
    "words within lists": ("a.md", lambda: b"- " * 124_000, ["words"]),
    "a table of words": ("a.md", lambda: b"|a" * 124_000 + b"\n" + b"|-" * 3, ["words"]),
}


def command(sort: str, path: Path) -> list[str]:
    return {
        "log": [
            *("note", LAST, "--log", str(path), "--run", "last"),
            *("--quantity", "power", "--unit", "W"),
        ],
        "readings": ["note", "Corvane Slate 1TB", "--csv", str(path)],
        "sheet": ["sheet", "new", "--from", str(path)],
        "plan": ["plan", "check", str(path)],
        "recording": ["record", "show", str(path)],
        "import": ["shelf", "import", str(path)],
        "model": ["measure", f"model:{path}", "sequential write 1MiB over 100GB", "--yes"],
        "words": ["report", "Corvane Slate 1TB", "--words", str(path), "--out", "x.html"],
    }[sort]


def limited(jovik: Program, *words: str) -> tuple[int, str, float]:
    """Run the program in 512 MB; its status, its messages, and the seconds it took."""
    began = time.monotonic()
    done = subprocess.run(
        [sys.executable, "-c", LIMITED, *words],
        cwd=jovik.folder,
        env=jovik.env,
        capture_output=True,
        text=True,
        timeout=PATIENCE_S,
        check=False,
    )
    return done.returncode, done.stderr, time.monotonic() - began


@pytest.mark.parametrize("what", FILES)
def test_a_hostile_file_takes_little_memory(shown: Program, what: str) -> None:
    name, make, (sort,) = FILES[what]
    (shown.folder / name).write_bytes(make())
    status, told, _ = limited(shown, *command(sort, shown.folder / name))
    assert "memory" not in told and "fault in Jovik" not in told, told
    wanted = (3,) if sort == "model" else (0, 2)
    assert status in wanted and (status == 0 or "\njovik: " in f"\n{told}"), (status, told)


def test_a_hostile_series_of_an_archive_takes_little_memory(shown: Program) -> None:
    """Behind a run and a step that are right, a series that stands for gigabytes."""
    shown("shelf", "export", "--out", "all.zip")
    with zipfile.ZipFile(shown.folder / "all.zip") as made:
        files = {n: made.read(n) for n in made.namelist()}
    for kind in ("series/", "latencies/"):
        changed = dict(files)
        name = next(n for n in files if n.startswith(kind))
        head = files[name].split(b"\n", 1)[0]
        row = b",".join([b"0"] * (head.count(b",") + 1)) + b"\n"
        changed[name] = head + b"\n" + row * ((limits.ARCHIVE_FILE_BYTES - 200) // len(row))
        about = json.loads(changed["manifest.json"])
        about["files"][name] = hashlib.sha256(changed[name]).hexdigest()
        changed["manifest.json"] = json.dumps(about).encode()
        (shown.folder / "bad.zip").write_bytes(packed(changed))
        other = Program(shown.folder, shown.env | {"JOVIK_SHELF": str(shown.folder / "b.db")})
        status, told, _ = limited(other, "shelf", "import", "bad.zip")
        assert status == 2 and "more lines than any file" in told, told


def npz(rows: int) -> bytes:
    out = io.BytesIO()
    np.savez_compressed(out, slices=np.zeros((rows, 5), np.int64))
    return out.getvalue()


LAST_ROW = "where id = (select max(id) from step)"
SHELVES: dict[str, tuple[str, object]] = {
    "slices": ("update pass set slices = ?", npz(20_000_000)),
    "facts": (f"update step set facts = ? {LAST_ROW}", '{"a": [' + "{}," * 5_000_000 + "{}]}"),
    "conditions": (f"update step set conditions = ? {LAST_ROW}", "[" * 3_000_000),
    "requests": (
        "insert into recording (name, folded_name, digest, head, requests, written) "
        "values ('x', 'x', '0', '{}', ?, '')",
        zlib.compress(bytes(6 * 10**8), 1),
    ),
}


@pytest.mark.parametrize("what", SHELVES)
def test_a_hostile_shelf_takes_little_memory(shown: Program, what: str) -> None:
    """A shelf is a file that somebody may bring: what is packed in it is believed no more."""
    sql, value = SHELVES[what]
    with sqlite3.connect(shown.shelf) as shelf:
        shelf.execute(sql, (value,))
    shelf.close()
    for words in (["shelf", "check"], ["rank"], ["record", "list"]):
        status, told, _ = limited(shown, *words)
        assert "memory" not in told and "fault in Jovik" not in told, (words, told)
        assert status in (0, 1, 2, 3), (words, told)


def test_the_limit_is_one_that_can_be_met(shown: Program) -> None:
    """What is right is read in the same space, and more than it cannot be had there."""
    status, told, _ = limited(shown, "rank")
    assert status == 0, told
    taken = "bytearray(600 * 2**20)"
    refused = subprocess.run(
        [sys.executable, "-c", f"{LIMIT}; {taken}"],
        capture_output=True,
        check=False,
    )
    assert b"MemoryError" in refused.stderr


def test_what_jovik_can_write_is_within_the_limits() -> None:
    """Three days of eight sensors, and the longest pass of a model drive, are read back."""
    seconds = limits.MODEL_PASS_NS // 10**9
    sensors = {f"sensor {n}": 40.5 for n in range(8)}
    text = json.dumps([[float(s), sensors] for s in range(seconds)], indent=1)
    assert limits.json_memory(text) < limits.JSON_MEMORY_BYTES
    slices = np.zeros((limits.MODEL_PASS_NS // SLICE_NS, 5), np.int64)
    assert slices.nbytes < limits.PASS_ARRAY_BYTES and len(slices) < limits.ARCHIVE_SERIES_LINES
    assert len(unpack(pack(slices=slices))["slices"]) == len(slices)
