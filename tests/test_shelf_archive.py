"""Export, import, check and backup.

Whole, the same twice, and safe whatever an archive from elsewhere holds.
"""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import subprocess
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from jovik.base.errors import UsageError
from jovik.base.limits import ARCHIVE_FILE_BYTES
from jovik.shelf.store import Shelf
from tests.conftest import Program, call

SLATE = "Corvane Slate 1TB"


@pytest.fixture(scope="module")
def exported(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """An export of two drives with a run each."""
    folder = tmp_path_factory.mktemp("exported")
    env = os.environ | {"JOVIK_SHELF": str(folder / "shelf.db"), "NO_COLOR": "1"}
    for words in (
        [
            "measure",
            "model:slate",
            "random read 4KiB for 1s",
            "sequential write 1MiB over 2GB",
            "--passes",
            "2",
            "--seed",
            "1",
        ],
        ["measure", "model:comet", "random read 4KiB for 1s", "--passes", "3", "--seed", "2"],
        ["note", SLATE, "--pro", "quiet", "--reading", "boot time=14.2s"],
        ["shelf", "export", "--out", "all.zip"],
    ):
        assert call(words, folder, env, 100).status == 0
    return folder / "all.zip"


def contents(path: Path) -> dict[str, bytes]:
    with zipfile.ZipFile(path) as archive:
        return {n: archive.read(n) for n in archive.namelist() if n != "manifest.json"}


def changed(
    source: Path, out: Path, change: Callable[[dict[str, Any]], None], *, honest: bool = True
) -> Path:
    """The archive with its files changed.

    An honest one names the checksums of what it then holds.
    """
    files: dict[str, Any] = {
        n: json.loads(b) if n.endswith(".json") else b for n, b in contents(source).items()
    }
    with zipfile.ZipFile(source) as archive:
        manifest = json.loads(archive.read("manifest.json"))
    files["manifest.json"] = manifest
    change(files)
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, value in files.items():
            content = value if isinstance(value, bytes) else json.dumps(value).encode()
            if honest and name != "manifest.json" and name in manifest["files"]:
                manifest["files"][name] = hashlib.sha256(content).hexdigest()
            if name != "manifest.json":
                archive.writestr(name, content)
        archive.writestr("manifest.json", json.dumps(manifest))
    return out


def test_what_goes_out_comes_in_and_twice_changes_nothing(jovik: Program, exported: Path) -> None:
    assert (
        "added 2 drives, 2 runs, 7 passes, 2 notes and readings"
        in jovik("shelf", "import", exported).out
    )
    assert "added 0 drives, 0 runs, 0 passes, 0 notes" in jovik("shelf", "import", exported).out
    jovik("shelf", "export", "--out", "again.zip")
    assert contents(jovik.folder / "again.zip") == contents(exported)
    assert jovik("shelf", "check").out == "whole: 2 drives, 2 runs, 3 steps, 7 passes\n"
    # Figures, series and histograms are those of the shelf that it was.
    there = Program(jovik.folder, jovik.env | {"JOVIK_SHELF": str(exported.with_name("shelf.db"))})
    for words in (["rank"], ["note", SLATE], ["fit", SLATE]):
        assert (
            jovik(*words, "--format", "json", status=None).json
            == there(*words, "--format", "json", status=None).json
        )


def test_an_archive_is_a_shelf_that_is_only_read(jovik: Program, exported: Path) -> None:
    there = jovik.on_shelf("there.db")
    there("shelf", "import", exported)
    before = exported.read_bytes()
    for words in (["rank"], ["judge", SLATE], ["fit", SLATE], ["note", SLATE], ["runs"]):
        read = [*words, "--format", "json"]
        there_too = there(*read, status=None)
        assert jovik(*read, "--shelf", exported, status=there_too.status).json == there_too.json
    jovik("report", "--all", "--each", "--out", "site", "--shelf", exported)
    for words in (
        ["note", SLATE, "--pro", "cool"],
        ["measure", "model:slate", "random read 4KiB for 1s", "--passes", "1"],
        ["sheet", "new", "Another"],
    ):
        assert "cannot be written" in jovik(*words, "--shelf", exported, status=3).err
    assert exported.read_bytes() == before
    assert not [p for p in exported.parent.iterdir() if p.name.startswith("all.zip-")]


def test_a_damaged_archive_is_no_shelf(jovik: Program, exported: Path, tmp_path: Path) -> None:
    def faster(files: dict[str, Any]) -> None:
        files["drives.json"][0]["price"] = 1.0

    path = changed(exported, tmp_path / "x.zip", faster, honest=False)
    assert "does not match its manifest" in jovik("rank", "--shelf", path, status=2).err
    (tmp_path / "half.zip").write_bytes(exported.read_bytes()[:5000])
    assert "it is no zip" in jovik("rank", "--shelf", tmp_path / "half.zip", status=2).err


def test_one_drive_alone_and_two_shelves_into_one(jovik: Program, exported: Path) -> None:
    assert (
        "added 1 drive, 1 run, 3 passes"
        in jovik("shelf", "import", exported, "--drive", "Veldhaar Comet 2TB").out
    )
    jovik("measure", "model:slate", "random read 4KiB for 1s", "--passes", "2")
    # The same drive by name; its unit by its serial; its runs are added to those that are here.
    assert "added 0 drives, 1 run, 4 passes" in jovik("shelf", "import", exported).out
    with Shelf(str(jovik.shelf)) as shelf:
        assert len(shelf.sheets.samples(SLATE)) == 1 and len(shelf.sheets.names()) == 2
    jovik("shelf", "export", "--drive", SLATE, "--out", "slate.zip")
    assert {
        json.loads(b)["drive"]
        for n, b in contents(jovik.folder / "slate.zip").items()
        if n.startswith("runs/")
    } == {SLATE}
    assert "Slat" in jovik("shelf", "export", "--drive", "Slat", "--out", "x.zip", status=2).err


def test_a_run_that_came_half_is_made_whole_by_the_rest(
    jovik: Program, exported: Path, tmp_path: Path
) -> None:
    def half(files: dict[str, Any]) -> None:
        for name, one in files.items():
            if name.startswith("runs/"):
                one["steps"][0]["passes"] = one["steps"][0]["passes"][:1]
                one["steps"][0]["finished"] = False
                one["state"], one["ended"] = "interrupted", None

    assert (
        "2 runs, 4 passes"
        in jovik("shelf", "import", changed(exported, tmp_path / "half.zip", half)).out
    )
    assert "0 runs, 3 passes" in jovik("shelf", "import", exported).out
    jovik("shelf", "export", "--out", "again.zip")
    assert contents(jovik.folder / "again.zip") == contents(exported)


def test_an_archive_of_the_first_form_is_still_read(
    jovik: Program, exported: Path, tmp_path: Path
) -> None:
    def first(files: dict[str, Any]) -> None:
        files["manifest.json"]["version"] = 1
        for record in files["drives.json"]:
            del record["flash_bytes"], record["class_name"]
            for note in record["notes"]:
                del note["happened"], note["run"]
        for name, one in files.items():
            if name.startswith("runs/"):
                del one["excluded"], one["circumstances"]
                for step in one["steps"]:
                    del step["excluded"]

    old = changed(exported, tmp_path / "old.zip", first)
    assert "2 runs" in jovik("shelf", "import", old).out
    assert "whole" in jovik("shelf", "check").out


def of_run(change: Callable[[dict[str, Any]], object]) -> Callable[[dict[str, Any]], None]:
    def first(files: dict[str, Any]) -> None:
        change(files[min(n for n in files if n.startswith("runs/"))])

    return first


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda f: f["manifest.json"].update(format="x"), "no export of a Jovik shelf"),
        (lambda f: f["manifest.json"].update(version=4), "update Jovik"),
        (lambda f: f["manifest.json"].update(files=[]), "names no files"),
        (lambda f: f.pop("rigs.json"), "rigs.json is missing"),
        (lambda f: f["drives.json"][0].pop("maker"), "needs one"),
        (lambda f: f["drives.json"][0].update(price="cheap"), "'price' of a drive is 'cheap'"),
        (lambda f: f["drives.json"][0].update(extra=1), "no 'extra'"),
        (lambda f: f["drives.json"][0].update(name="a\0b"), "zero byte"),
        (lambda f: f.update({"drives.json": {}}), "no list of records"),
        (of_run(lambda r: r.update(seed=2**70)), "out of range"),
        (of_run(lambda r: r.update(id="../../x")), "not named like its run"),
        (of_run(lambda r: r.update(drive="Other")), "not in the archive"),
        (of_run(lambda r: r["steps"][0]["passes"][0].update(latencies=3)), "series of"),
        (of_run(lambda r: r["steps"][0].update(facts={"copy": 3})), "a step of run"),
        (of_run(lambda r: r["steps"][0].update(limits=[{"what": "luck"}])), "a step of run"),
        (of_run(lambda r: r["steps"][0].update(conditions={"x": 1})), "a step of run"),
        (
            of_run(lambda r: r["steps"][0]["passes"][0].update(facts={"zones": [1]})),
            "a pass of run",
        ),
        (
            lambda f: f.update({next(n for n in f if n.startswith("series/")): b"a,b\n1,2\n"}),
            "does not have the columns",
        ),
        (
            lambda f: f.update(
                {
                    next(
                        n for n in f if n.startswith("latencies/")
                    ): b"direction,low_ns,high_ns,count\nup,1,2,3\n"
                }
            ),
            "series of",
        ),
    ],
)
def test_an_archive_that_holds_something_else_changes_nothing(
    exported: Path, tmp_path: Path, change: Callable[[dict[str, Any]], None], said: str
) -> None:
    with Shelf(str(tmp_path / "s.db"), create=True) as shelf:
        with pytest.raises(UsageError, match=said) as caught:
            shelf.merge(changed(exported, tmp_path / "x.zip", change))
        assert caught.value.hint == "nothing was changed"
        assert set(shelf.check().counts.values()) == {0}


def test_what_was_changed_on_the_way_is_noticed(
    jovik: Program, exported: Path, tmp_path: Path
) -> None:
    def faster(files: dict[str, Any]) -> None:
        files["drives.json"][0]["price"] = 1.0

    answer = jovik(
        "shelf", "import", changed(exported, tmp_path / "x.zip", faster, honest=False), status=2
    )
    assert "drives.json does not match its manifest" in answer.err


def test_a_bomb_is_not_unpacked(jovik: Program, exported: Path, tmp_path: Path) -> None:
    def bomb(files: dict[str, Any]) -> None:
        files["rigs.json"] = b" " * (ARCHIVE_FILE_BYTES + 1)

    path = changed(exported, tmp_path / "x.zip", bomb)
    assert path.stat().st_size < 300_000
    assert "larger than any file of a shelf" in jovik("shelf", "import", path, status=2).err


def test_a_backup_is_of_one_moment_while_others_write(jovik: Program) -> None:
    jovik("sheet", "new", "Fjord 1TB")
    words = [
        "measure",
        ".",
        "--drive",
        "Fjord 1TB",
        "random read 4KiB for 100ms within 8MB",
        "--passes",
        "30",
    ]
    process = subprocess.Popen(
        jovik.command(*words),
        cwd=jovik.folder,
        env=jovik.env,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    copies = 0
    while process.poll() is None and copies < 3:
        jovik("shelf", "backup", "--out", f"copy{copies}.db")
        assert jovik("shelf", "check", "--shelf", f"copy{copies}.db").out.startswith("whole")
        copies += 1
    process.wait(timeout=100)
    assert (
        copies > 1
        and "is there already" in jovik("shelf", "backup", "--out", "copy0.db", status=2).err
    )
    assert jovik("shelf", "check").out == "whole: 1 drives, 1 runs, 1 steps, 30 passes\n"


def test_a_shelf_that_is_not_whole_is_told(jovik: Program, exported: Path) -> None:
    jovik("shelf", "import", exported)
    with sqlite3.connect(jovik.shelf) as connection:
        connection.execute("update pass set slices = x'00' where id = 1")
        connection.execute("update step set phrase = 'random reed 4KiB' where id = 2")
        connection.execute("update run set rig_id = 99")
    found = jovik("shelf", "check", "--format", "json", status=1).json["faults"]
    assert (
        len(found) == 4
        and any("its series cannot be read" in f for f in found)
        and any("random reed" in f or "expected" in f for f in found)
    )
    assert sum("refers to a rig that is not there" in f for f in found) == 2


MAPPING = """
instrument = "the old bench"
drive_column = "model"
[[figure]]
column = "rnd"
what = "random read 4KiB depth 32"
unit = "IOPS"
[[figure]]
column = "boot"
what = "boot time"
unit = "s"
method = "stopwatch"
"""


def test_a_table_from_elsewhere_is_noted_and_not_measured(jovik: Program) -> None:
    for name in ("Fjord 1TB", "Fell 2TB"):
        jovik("sheet", "new", name)
    (jovik.folder / "map.toml").write_text(MAPPING)
    (jovik.folder / "table.csv").write_text(
        'model,rnd,boot,price\nFjord 1TB,"91,000",8.1,89\nfell 2tb,,7.5,120\n'
    )
    assert (
        "noted 3 readings of 2 drives"
        in jovik("shelf", "import", "table.csv", "--mapping", "map.toml").out
    )
    assert (
        "noted 0 readings of 0 drives"
        in jovik("shelf", "import", "table.csv", "--mapping", "map.toml").out
    )
    found = jovik("note", "Fjord 1TB", "--format", "json").json["readings"]
    assert [(r["what"], r["value"], r["unit"], r["instrument"]) for r in found] == [
        ("random read 4KiB depth 32", 91000, "IOPS", "the old bench"),
        ("boot time", 8.1, "s", "the old bench"),
    ]
    assert "no drive on this shelf has results yet" in jovik("rank", status=2).err


@pytest.mark.parametrize(
    ("table", "mapping", "said"),
    [
        ("model,rnd\nFjord 1TB,1\n", MAPPING, "no column 'boot'"),
        ("model,rnd,boot\nFjord 1TB,many,1\n", MAPPING, "line 2, column 'rnd'"),
        ("model,rnd,boot\n,1,1\n", MAPPING, "line 2: it names no drive"),
        ("model,rnd,boot\nFjerd,1,1\n", MAPPING, "Fjerd"),
        (
            "model,rnd,boot\nFjord 1TB,1,1\n",
            MAPPING.replace("drive_column", "drive_colunm"),
            "not a key here",
        ),
        (
            "model,rnd,boot\nFjord 1TB,1,1\n",
            MAPPING.replace('drive_column = "model"', ""),
            "either 'drive_column' or 'drive'",
        ),
    ],
)
def test_a_table_that_is_not_as_its_mapping_says(
    jovik: Program, table: str, mapping: str, said: str
) -> None:
    jovik("sheet", "new", "Fjord 1TB")
    (jovik.folder / "map.toml").write_text(mapping)
    (jovik.folder / "table.csv").write_text(table)
    assert said in jovik("shelf", "import", "table.csv", "--mapping", "map.toml", status=2).err
    assert jovik("note", "Fjord 1TB", "--format", "json").json["readings"] == []


def test_a_shelf_whose_findings_were_changed_says_where(shown: Program) -> None:
    with sqlite3.connect(shown.shelf) as connection:
        connection.execute("update step set facts = '{\"copy\": 3}' where id = 1")
    answer = shown("shelf", "check", status=None)
    assert answer.status != 0 and "its findings: 'copy' cannot be read" in answer.out
