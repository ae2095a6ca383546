"""What comes from elsewhere is checked whole, and what is damaged takes nothing else with it."""

from __future__ import annotations

import hashlib
import json
import math
import os
import shutil
import sqlite3
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from jovik.base import long_work
from jovik.base.errors import UsageError
from jovik.shelf import integrity
from jovik.shelf.encoding import pack, unpack
from jovik.shelf.store import Shelf
from tests.conftest import Program, call
from tests.test_shelf_archive import changed, of_run

COMET = "Veldhaar Comet 2TB"
READERS = [
    ["rank"],
    ["rank", "--by", "rig"],
    ["judge", COMET],
    ["judge", COMET, "--samples"],
    ["fit", COMET],
    ["upgrade", "Corvane Slate 1TB", COMET],
    ["sheet", "list"],
    ["sheet", "show", COMET],
    ["note", COMET],
    ["picture", "rank", "--out", "rank.png"],
    ["report", COMET, "--out", "review.html"],
    ["report", "--all", "--out", "all.html"],
    ["shelf", "export", "--out", "out.zip"],
]


@pytest.fixture(scope="module")
def little(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A shelf of two drives with a run each, a reading and a note."""
    folder = tmp_path_factory.mktemp("little")
    env = os.environ | {"JOVIK_SHELF": str(folder / "shelf.db"), "NO_COLOR": "1"}
    steps = ["sequential read 1MiB for 1s", "random read 4KiB depth 1,32 for 1s", "rest 1s"]
    for words in (
        ["measure", "model:slate", *steps, "--passes", "2", "--seed", "1"],
        ["measure", "model:comet", *steps, "--passes", "2", "--seed", "2"],
        ["note", "Corvane Slate 1TB", "--pro", "quiet", "--reading", "boot time=14.2s"],
    ):
        assert call(words, folder, env, 100).status == 0
    return folder / "shelf.db"


@pytest.fixture(scope="module")
def archive(little: Path) -> Path:
    with Shelf(str(little)) as shelf:
        shelf.export(little.with_name("all.zip"))
    return little.with_name("all.zip")


@pytest.fixture
def shown(jovik: Program, little: Path) -> Program:
    """The program on a copy of the little shelf."""
    shutil.copy(little, jovik.shelf)
    return jovik


def step(change: Callable[[dict[str, Any]], object]) -> Callable[[dict[str, Any]], None]:
    return of_run(lambda r: change(r["steps"][0]))


def one_pass(change: Callable[[dict[str, Any]], object]) -> Callable[[dict[str, Any]], None]:
    return of_run(lambda r: change(r["steps"][0]["passes"][0]))


def series(factor: int) -> Callable[[dict[str, Any]], None]:
    def change(files: dict[str, Any]) -> None:
        name = next(n for n in files if n.startswith("series/"))
        head, *lines = files[name].decode().splitlines()
        rows = [[int(n) * factor for n in line.split(",")] for line in lines]
        text = "\n".join([head, *(",".join(map(str, row)) for row in rows)])
        files[name] = text.encode() + b"\n"

    return change


BAD: dict[str, tuple[Callable[[dict[str, Any]], None], str]] = {
    "conditions that are a list": (step(lambda s: s.update(conditions=[])), "conditions"),
    "a condition of the wrong type": (
        step(lambda s: s["conditions"].update(span_bytes="much")),
        "span_bytes",
    ),
    "findings that are a word": (step(lambda s: s.update(facts="x")), "findings"),
    "limits that are a number": (step(lambda s: s.update(limits=5)), "limits"),
    "notes that are a number": (step(lambda s: s.update(notes=[5])), "notes"),
    "an unknown phrase": (step(lambda s: s.update(phrase="juggle 4KiB")), "is no phrase"),
    "another kind": (step(lambda s: s.update(kind="random write 4KiB")), "not of the kind"),
    "an infinite rate": (one_pass(lambda p: p.update(rate_bytes_s=math.inf)), "no number"),
    "a rate that is none": (one_pass(lambda p: p.update(iops=math.nan)), "no number"),
    "a rate beyond every float": (one_pass(lambda p: p.update(rate_bytes_s=1e308 * 10)), "number"),
    "a negative figure": (one_pass(lambda p: p.update(cpu_ns=-1)), "cpu_ns"),
    "a rate that its series do not show": (
        one_pass(lambda p: p.update(rate_bytes_s=p["rate_bytes_s"] * 3)),
        "its series give",
    ),
    "series that its figures do not show": (series(3), "its series give"),
    "temperatures that are words": (
        one_pass(lambda p: p.update(environment={"temperatures": [[0.1, {"a": "hot"}]]})),
        "environment",
    ),
    "a health log of words": (of_run(lambda r: r.update(health_before={"source": 1})), "health"),
    "a target that is none": (of_run(lambda r: r.update(target={"kind": "moon"})), "target"),
    "a plan of unknown phrases": (
        of_run(lambda r: r["options"].update(tasks=[{"phrase": "juggle"}])),
        "is no phrase",
    ),
    "a device of numbers": (of_run(lambda r: r.update(device={"link": 5})), "device"),
    "an infinite price": (lambda f: f["drives.json"][0].update(price=math.inf), "number"),
    "a claim in furlongs": (
        lambda f: f["drives.json"][0]["claims"][0].update(unit="furlongs"),
        "a claim of",
    ),
    "a rig of words": (lambda f: f["rigs.json"][0].update(facts="x"), "facts"),
    "depths without bottom": (
        of_run(lambda r: r.update(options=json.loads("[" * 200 + "]" * 200))),
        "options",
    ),
}


@pytest.mark.parametrize("name", BAD)
def test_an_archive_with_one_wrong_field_is_refused_and_every_reader_works_on(
    shown: Program, archive: Path, tmp_path: Path, name: str
) -> None:
    change, said = BAD[name]
    bad = changed(archive, tmp_path / "bad.zip", change)
    for where in (tmp_path / "empty.db", shown.shelf):
        with Shelf(str(where), create=True) as shelf:
            before = shelf.check()
            with pytest.raises(UsageError, match=said) as caught:
                shelf.merge(bad)
            assert caught.value.hint == "nothing was changed"
            assert shelf.check() == before and not before.faults
            assert len(shelf.results.latest()) == (0 if "empty" in where.name else 2)


def test_a_finished_step_takes_no_more_passes(
    shown: Program, archive: Path, tmp_path: Path
) -> None:
    """Three times the rate, in passes behind the last: that once turned "met" into "beaten"."""

    def more(files: dict[str, Any]) -> None:
        name = min(n for n in files if n.startswith("runs/"))
        one = files[name]["steps"][0]
        last, place = one["passes"][-1], f"{files[name]['id']}/0-"
        for number in range(last["number"] + 1, last["number"] + 25):
            faster = json.loads(json.dumps(last)) | {"number": number}
            for key in ("rate_bytes_s", "flushed_rate_bytes_s", "iops"):
                faster[key] *= 3
            for key in ("read_bytes", "written_bytes"):
                faster[key] *= 3
            one["passes"].append(faster)
            for sort in ("series", "latencies"):
                old = files[f"{sort}/{place}{last['number']}.csv"]
                files[f"{sort}/{place}{number}.csv"] = old
        for number in range(last["number"] + 1, last["number"] + 25):
            name = f"series/{place}{number}.csv"
            head, *lines = files[name].decode().splitlines()
            rows = [",".join(str(int(n) * 3) for n in line.split(",")) for line in lines]
            files[name] = "\n".join([head, *rows, ""]).encode()
        sums = files["manifest.json"]["files"]
        sums |= {
            n: hashlib.sha256(b).hexdigest()
            for n, b in files.items()
            if n not in sums and isinstance(b, bytes)
        }

    before = shown("judge", COMET, "--format", "json", status=None).out
    told = shown("shelf", "import", changed(archive, tmp_path / "x.zip", more), status=2).err
    assert "is finished on this shelf" in told
    assert shown("judge", COMET, "--format", "json", status=None).out == before


def test_a_finished_run_takes_no_more_steps(shown: Program, archive: Path, tmp_path: Path) -> None:
    """A newer step of the same kind would be the one that is judged."""

    def more(files: dict[str, Any]) -> None:
        name = min(n for n in files if n.startswith("runs/"))
        run = files[name]
        first, position = run["steps"][0], len(run["steps"])
        run["steps"].append(json.loads(json.dumps(first)) | {"position": position})
        sums = files["manifest.json"]["files"]
        for one in first["passes"]:
            for sort in ("series", "latencies"):
                old = files[f"{sort}/{run['id']}/0-{one['number']}.csv"]
                place = f"{sort}/{run['id']}/{position}-{one['number']}.csv"
                files[place], sums[place] = old, hashlib.sha256(old).hexdigest()

    before = shown("rank", "--format", "json").out
    told = shown("shelf", "import", changed(archive, tmp_path / "x.zip", more), status=2).err
    assert "is finished on this shelf" in told
    assert shown("rank", "--format", "json").out == before


def test_a_pass_that_differs_from_the_one_that_is_here_is_refused(
    shown: Program, archive: Path, tmp_path: Path
) -> None:
    def slower(files: dict[str, Any]) -> None:
        name = min(n for n in files if n.startswith("runs/"))
        files[name]["steps"][0]["passes"][0]["cpu_ns"] += 1

    told = shown("shelf", "import", changed(archive, tmp_path / "x.zip", slower), status=2).err
    assert "has other figures on this shelf" in told


def test_twenty_million_empty_lists_are_refused_at_once(jovik: Program, tmp_path: Path) -> None:
    path = tmp_path / "bomb.zip"
    manifest = {"format": "jovik shelf", "version": 1, "files": {}}
    lists = "[" + "[]," * 20_000_000 + "[]]"
    manifest["files"] = {"drives.json": hashlib.sha256(lists.encode()).hexdigest()}
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        out.writestr("manifest.json", json.dumps(manifest))
        out.writestr("drives.json", lists)
    began = time.monotonic()
    told = jovik("shelf", "import", path, status=2).err
    assert "more parts than any file of a shelf" in told
    assert time.monotonic() - began < 15  # it took 31 s, and 1.5 GB


def test_where_a_run_came_from_is_shown(jovik: Program, archive: Path) -> None:
    jovik("shelf", "import", archive)
    with Shelf(str(jovik.shelf)) as shelf:
        keys = [r.id for r in shelf.runs.every()]
        assert {r.imported for r in shelf.runs.every()} == {"all.zip"}
    assert keys
    jovik("report", COMET, "--out", "review.html")
    assert "imported" in (jovik.folder / "review.html").read_text()


# A shelf in which something is damaged


DAMAGE = {
    "series": "update pass set slices = x'00' where id = 3",
    "latencies": "update pass set latencies = x'504b' where id = 3",
    "a figure": "update pass set rate_bytes_s = 'fast' where id = 3",
    "a figure that is none": "update pass set iops = -1 where id = 3",
    "conditions": "update step set conditions = '[]' where id = 2",
    "conditions that are no JSON": "update step set conditions = '{' where id = 2",
    "findings": "update step set facts = '\"x\"' where id = 2",
    "findings that are no JSON": "update step set facts = '{\"ladder\":' where id = 2",
    "limits": "update step set limits = '5' where id = 2",
    "limits of numbers": "update step set limits = '[5]' where id = 2",
    "notes": "update step set notes = '{}' where id = 2",
    "a phrase": "update step set phrase = 'juggle 4KiB' where id = 2",
    "a target": "update run set target = '5' where rowid = 1",
    "options": "update run set options = '[]' where rowid = 1",
    "a device": "update run set device = '[]' where rowid = 1",
    "health": "update run set health_before = '{\"x\": 1}' where rowid = 1",
    "infinity": (
        "update step set conditions = replace(conditions, '}', ', \"x\": Infinity}') where id = 2"
    ),
    "a price": "update drive set price = 'cheap' where id = 2",
    "a claim": "update claim set figure = 'fast'",
    "a reading": "update reading set value = 'long'",
    "facts of a rig": "update rig set facts = '[5]'",
    "a rig that is gone": "update run set rig_id = 99 where rowid = 1",
}


@pytest.mark.parametrize("what", DAMAGE)
def test_one_damaged_record_takes_nothing_else_with_it_and_is_found(
    shown: Program, what: str
) -> None:
    with sqlite3.connect(shown.shelf) as connection:
        connection.execute(DAMAGE[what])
    with Shelf(str(shown.shelf)) as shelf:
        assert shelf.check().faults
        for name in shelf.sheets.drives():
            shelf.sheets.get(name)
            shelf.notes.of(name)
        shelf.notes.readings()
        assert shelf.results.every(with_latencies=True) and shelf.results.latest(filled=True)
        shelf.results.candidates()
        for run in shelf.runs.every():
            list(shelf.runs.passes(run.id))
        shelf.export(shown.folder / "out.zip")
    with Shelf(str(shown.folder / "other.db"), create=True) as other:
        assert other.merge(shown.folder / "out.zip").runs and not other.check().faults
    answer = shown("rank")
    assert "Traceback" not in answer.err and "pickle" not in answer.err


def test_many_damaged_records_take_no_command_with_them(shown: Program) -> None:
    with sqlite3.connect(shown.shelf) as connection:
        for number, statement in enumerate(DAMAGE.values()):
            if statement.startswith(("update pass", "update step")):
                connection.execute(statement.partition(" where")[0] + f" where id = {number + 2}")
        connection.execute(DAMAGE["a claim"] + " where id = 1")
        connection.execute(DAMAGE["health"])
        connection.execute(DAMAGE["facts of a rig"])
    found = shown("shelf", "check", status=1).out
    assert found.count("fault: ") >= 8 and "restore a backup" in found
    for words in READERS:
        answer = shown(*words, status=None)
        assert answer.status in (0, 1, 2), (words, answer)
        assert "a fault in Jovik itself" not in answer.err, (words, answer.err)
        assert "pickle" not in answer.err


def test_a_large_shelf_is_checked_by_several_processes_with_the_same_answer(
    shown: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    with sqlite3.connect(shown.shelf) as connection:
        for what in ("series", "a figure that is none", "limits", "a price"):
            connection.execute(DAMAGE[what])
        connection.execute("update pass set slices = x'00' where id > 9")
    with Shelf(str(shown.shelf)) as shelf:
        alone = shelf.check()
        monkeypatch.setattr(integrity, "A_SHARE", 3)
        monkeypatch.setattr(os, "cpu_count", lambda: 3)
        seen: list[tuple[int, int]] = []
        monkeypatch.setattr(
            long_work, "_listeners", [lambda _, done, count: seen.append((done, count))]
        )
        assert shelf.check() == alone
        assert len(alone.faults) > 5 and seen[-1] == (14, 14) and len(seen) > 5
        assert shelf.sheets.names()  # and goes on with connections of its own


def test_what_is_left_out_is_named(shown: Program) -> None:
    with sqlite3.connect(shown.shelf) as connection:
        connection.execute("update step set conditions = '[]' where id = 2")
    told = shown("rank").err
    assert "step" in told and "is damaged and left out" in told
    assert told.count("damaged and left out") == 1


def test_a_file_that_is_damaged_itself_says_what_to_do(shown: Program) -> None:
    content = bytearray(shown.shelf.read_bytes())
    content[4096 * 3 : 4096 * 40] = b"\xff" * 4096 * 37
    shown.shelf.write_bytes(content)
    answer = shown("shelf", "check", status=None)
    assert answer.status in (1, 3) and "restore a backup" in answer.out + answer.err
    assert "nothing finished was lost" not in answer.err


def test_numpys_own_words_are_not_passed_on() -> None:
    import io

    out = io.BytesIO()
    np.savez(out, slices=np.array([{"a": 1}], dtype=object))
    with pytest.raises(ValueError, match="it is damaged") as caught:
        unpack(out.getvalue())
    assert "pickle" not in str(caught.value)
    with pytest.raises(ValueError, match="other things than counts"):
        out = io.BytesIO()
        np.savez(out, slices=np.ones(3))
        unpack(out.getvalue())
    assert (unpack(pack(slices=np.ones((2, 5), np.int64)))["slices"] == 1).all()


# A clock that was wrong


def test_a_run_dated_in_the_future_does_not_win_for_ever(jovik: Program) -> None:
    words = ["measure", "model:comet", "random read 4KiB depth 32 for 1s", "--passes", "3"]
    jovik(*words, "--seed", "1")
    with sqlite3.connect(jovik.shelf) as connection:
        connection.execute("update run set started = '2099-01-01T00:00:00.000Z'")
        (wrong,) = connection.execute("select id from run").fetchone()
    told = jovik("judge", COMET, status=None).err
    assert f"run {wrong} is dated 2099-01-01, in the future" in told
    jovik(*words, "--seed", "2")
    with Shelf(str(jovik.shelf)) as shelf:
        newest = shelf.runs.latest()
        assert newest is not None and newest != wrong
        assert [r.run for r in shelf.results.latest(COMET)] == [newest]
        assert [r.id for r in shelf.runs.every()] == [wrong, newest]
