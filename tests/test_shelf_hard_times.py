"""What is finished stays, whatever happens.

Killed at any moment, a full disk, a medium that cannot be written.

Each sort of work is killed a few times here; ``JOVIK_KILLS=25`` tries a hundred, and ``-s`` shows
how many struck.
"""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from jovik.base.recording_file import read_recording
from jovik.hardware.block_trace import YOUNG_S, left_on
from tests.conftest import Program, call
from tests.programs import loop_device, need, run, sparse_file, succeeds
from tests.test_shelf import of_the_first_revision

KILLS = int(os.environ.get("JOVIK_KILLS", "4"))
COMET = "Veldhaar Comet 2TB"


def killed(jovik: Program, rng: random.Random, longest_s: float, *words: str) -> bool:
    """Run a command and kill it (signal 9) at a random moment.

    Whether it was still at work then.
    """
    try:
        call(list(words), jovik.folder, jovik.env, rng.uniform(0.0, longest_s))
    except subprocess.TimeoutExpired:
        return True
    return False


def seconds_of(jovik: Program, *words: str) -> float:
    """How long a command takes here and now when nobody kills it."""
    began = time.monotonic()
    jovik(*words)
    return time.monotonic() - began


def rows(shelf: Path, query: str) -> list[tuple]:
    with contextlib.closing(sqlite3.connect(shelf)) as connection:
        assert connection.execute("pragma integrity_check").fetchone() == ("ok",)
        return connection.execute(query).fetchall()


PASSES = (
    "select step.position, number, pass.seed from pass join step on step.id = step_id order by 1, 2"
)


def test_a_run_that_is_killed_again_and_again_loses_nothing_that_was_finished(
    jovik: Program,
) -> None:
    jovik("sheet", "new", "Own Disk")
    phrases = [
        "random read 4KiB for 100ms within 1MiB",
        "random write 4KiB depth 1,2,4 for 100ms within 1MiB",
        "sequential write 64KiB over 1MiB",
    ]
    words = ["measure", ".", "--drive", "Own Disk", *phrases, "--passes", "9", "--seed", "5"]
    rng = random.Random(4)
    kills, before = 0, []
    for tries in range(8 * KILLS):
        if tries >= KILLS and kills >= max(KILLS // 3, 1):
            break
        kills += killed(jovik, rng, 1.5, *words)
        now = rows(jovik.shelf, PASSES)
        assert set(before) <= set(now)
        before = now
        if rows(jovik.shelf, "select id from run where state != 'done'"):
            words = ["resume"]
        elif rows(jovik.shelf, "select id from run"):
            break
    if rows(jovik.shelf, "select id from run where state != 'done'"):
        jovik("resume")
    elif not rows(jovik.shelf, "select id from run"):
        # On a busy machine each kill may come before the run has begun.
        jovik(*words)
    done = rows(jovik.shelf, PASSES)
    assert [(p, n) for p, n, _ in done] == [(p, n) for p in range(5) for n in range(1, 10)] and len(
        {s for *_, s in done}
    ) == 45
    assert rows(jovik.shelf, "select state from run") == [("done",)] and kills >= KILLS // 3
    assert os.listdir(jovik.folder) == [] and os.listdir(jovik.shelf.parent) == ["shelf.db"]
    print(f"{kills} kills over measure and resume")


def test_a_shelf_whose_migration_is_killed_is_whole_and_migrated_by_the_next(
    jovik: Program,
) -> None:
    rng, kills = random.Random(5), 0
    of_the_first_revision(jovik.shelf)
    first = jovik.shelf.read_bytes()
    longest = seconds_of(jovik, "rank")
    for tries in range(8 * KILLS):
        if tries >= KILLS and kills >= max(KILLS // 3, 1):
            break
        for left in jovik.shelf.parent.iterdir():
            left.unlink()
        jovik.shelf.write_bytes(first)
        kills += killed(jovik, rng, longest, "rank")
        assert (
            jovik("rank", "--format", "json").json["drives"][0]["steps"][0]["rate_bytes_s"][
                "median"
            ]
            == 5.0
        )
        assert sorted(os.listdir(jovik.shelf.parent)) == ["shelf.db", "shelf.db.revision-0001"]
        assert rows(
            jovik.shelf.with_name("shelf.db.revision-0001"),
            "select version_num from alembic_version",
        ) == [("0001",)]
        assert rows(
            jovik.shelf.with_name("shelf.db.revision-0001"), "select count(*) from pass"
        ) == [(1,)]
    assert kills >= KILLS // 3
    print(f"{kills} kills over a migration")


@pytest.fixture(scope="module")
def exported(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A zip with two drives and 90 passes."""
    folder = tmp_path_factory.mktemp("exported")
    env = dict(os.environ) | {"JOVIK_SHELF": str(folder / "s.db"), "JOVIK_CONFIG": ""}
    for model in ("comet", "slate"):
        steps = [f"random read 4KiB depth {d} for 1s" for d in (1, 2, 4, 8, 16)]
        assert (
            call(
                ["measure", f"model:{model}", *steps, "--passes", "9", "--seed", "1"],
                folder,
                env,
                120,
            ).status
            == 0
        )
    assert call(["shelf", "export", "--out", "all.zip"], folder, env, 120).status == 0
    return folder / "all.zip"


@pytest.mark.parametrize("merging", [False, True], ids=["into nothing", "into a shelf in use"])
def test_an_import_that_is_killed_is_all_there_or_not_at_all(
    jovik: Program, exported: Path, merging: bool
) -> None:
    rng, kills = random.Random(6), 0
    mine: list[tuple] = []
    if merging:
        jovik("measure", "model:drift", "random read 4KiB for 1s", "--seed", "1")
        mine = rows(jovik.shelf, "select run_id, phrase from step")
        shutil.copy(jovik.shelf, jovik.folder / "before.db")
    longest = seconds_of(jovik, "shelf", "import", str(exported))
    for tries in range(8 * KILLS):
        if tries >= KILLS and kills >= max(KILLS // 3, 1):
            break
        for left in jovik.shelf.parent.iterdir():
            left.unlink()
        if merging:
            shutil.copy(jovik.folder / "before.db", jovik.shelf)
        kills += killed(jovik, rng, longest, "shelf", "import", str(exported))
        if jovik.shelf.exists():
            assert rows(jovik.shelf, "select count(*) from pass")[0][0] - 5 * merging in (0, 90)
            assert set(mine) <= set(rows(jovik.shelf, "select run_id, phrase from step"))
        jovik("shelf", "import", str(exported))
        assert jovik("shelf", "check").out.startswith("whole") and rows(
            jovik.shelf, "select count(*) from pass"
        ) == [(90 + 5 * merging,)]
        assert os.listdir(jovik.shelf.parent) == ["shelf.db"]
    assert kills >= KILLS // 3
    print(f"{kills} kills over an import")


WRITERS = {
    "export": (["shelf", "export", "--out", "all.zip", "--force"], "all.zip"),
    "backup": (["shelf", "backup", "--force", "--out", "copy.db"], "copy.db"),
    "report": (["report", "--all", "--out", "all.html"], "all.html"),
    "picture": (["picture", "rank", "--out", "rank.png"], "rank.png"),
    "series": (["runs", "series", "last", "--out", "s.csv", "--force"], "s.csv"),
    "meter": (
        ["runs", "meter", "last", "--quantity", "power", "--out", "p.csv", "--force"],
        "p.csv",
    ),
}


@pytest.mark.parametrize("what", WRITERS)
def test_a_writer_that_is_killed_leaves_the_old_file_or_the_new_and_nothing_else(
    jovik: Program, exported: Path, what: str
) -> None:
    rng, kills = random.Random(7), 0
    words, name = WRITERS[what]
    jovik("shelf", "import", str(exported))
    longest = seconds_of(jovik, *words)
    whole = (jovik.folder / name).stat().st_size
    for tries in range(8 * KILLS):
        if tries >= KILLS and kills >= max(KILLS // 3, 1):
            break
        kills += killed(jovik, rng, longest, *words)
        assert abs((jovik.folder / name).stat().st_size - whole) < whole / 5
        # The next start of the same command leaves its file and nothing else.
        assert len(os.listdir(jovik.folder)) <= 2
    jovik(*words)
    assert os.listdir(jovik.folder) == [name] and kills >= KILLS // 3
    assert jovik("shelf", "check").out.startswith("whole")
    print(f"{kills} kills over {what}")


def test_a_site_that_is_killed_is_made_whole_by_the_next(
    jovik: Program, exported: Path, tmp_path: Path
) -> None:
    """Every file of it is whole at any time, and the last start gives what one start gives."""
    rng, kills = random.Random(11), 0
    jovik("shelf", "import", str(exported))
    words = ["report", "--all", "--each", "--base-url", "https://reviews.example/", "--out"]
    longest = seconds_of(jovik, *words, str(tmp_path / "whole"))
    wanted = {p.name: p.read_bytes() for p in (tmp_path / "whole").iterdir()}
    for tries in range(8 * KILLS):
        if tries >= KILLS and kills >= max(KILLS // 3, 1):
            break
        kills += killed(jovik, rng, longest, *words, "site")
        for page in (jovik.folder / "site").glob("*.html"):
            assert page.read_bytes().rstrip().endswith(b"</html>"), page
        if rng.random() < 0.3:
            shutil.rmtree(jovik.folder / "site", ignore_errors=True)
    jovik(*words, "site")
    made = {p.name: p.read_bytes() for p in (jovik.folder / "site").iterdir()}
    assert made == wanted and kills >= KILLS // 3
    print(f"{kills} kills over a site")


@pytest.mark.skipif(os.geteuid() != 0, reason="needs root")
def test_a_recording_that_is_killed_leaves_no_tracing_after_one_start(jovik: Program) -> None:
    rng, kills = random.Random(13), 0
    words = ["record", "--out", "a.jrec", "--force", "--", "sleep", "0.3"]
    first = jovik(*words, status=None)
    if first.status:
        pytest.skip(first.err)
    longest = seconds_of(jovik, *words)
    for _ in range(2 * KILLS):
        kills += killed(jovik, rng, longest, *words)
        # The old one or the new one, whole: whatever reached the disk meanwhile is in it.
        assert read_recording(jovik.folder / "a.jrec")[0].name == "sleep"
    end = time.monotonic() + 30
    while left_on() and time.monotonic() < end:
        # Others on this machine may kill recordings at the same time.
        time.sleep(YOUNG_S)
        jovik(*words)
    assert left_on() == 0 and os.listdir(jovik.folder) == ["a.jrec"] and kills >= KILLS // 3
    print(f"{kills} kills over recordings")


def test_a_replay_that_is_killed_leaves_nothing_at_the_next_start(jovik: Program) -> None:
    rng, kills = random.Random(17), 0
    jovik("sheet", "new", "Own Disk")
    here = ["measure", ".", "--drive", "Own Disk", "--passes", "2", "--yes"]
    words = [*here, 'replay "editor-start" as fast as it goes']
    longest = seconds_of(jovik, *words)
    for tries in range(8 * KILLS):
        if tries >= KILLS and kills >= max(KILLS // 3, 1):
            break
        kills += killed(jovik, rng, longest, *words)
        jovik(*here, "random read 4KiB for 50ms within 1MiB")
        assert os.listdir(jovik.folder) == []
    assert jovik("shelf", "check").out.startswith("whole") and kills >= KILLS // 3
    print(f"{kills} kills over replays")


def test_copies_and_fills_that_are_killed_leave_nothing_at_the_next_start(
    jovik: Program, tmp_path: Path
) -> None:
    if os.geteuid() != 0:
        pytest.skip("a file system of its own to fill needs root")
    rng, kills = random.Random(8), 0
    target = tmp_path / "drive"
    target.mkdir()
    need("mkfs.ext4", "mount", "umount")
    device = loop_device(sparse_file(tmp_path / "image", 128 << 20))
    run("mkfs.ext4", "-q", device)
    run("mount", device, target)
    try:
        (target / "letter").write_text("somebody's")
        jovik("sheet", "new", "Own Disk")
        here = ["measure", str(target), "--drive", "Own Disk", "--passes", "2"]
        words = [*here, "fill to 60%", "copy in 300 files of 16KiB", "copy out 300 files of 16KiB"]
        longest = seconds_of(jovik, *words)
        free = os.statvfs(target).f_bfree
        for tries in range(8 * KILLS):
            if tries >= KILLS and kills >= max(KILLS // 3, 1):
                break
            kills += killed(jovik, rng, longest, *words)
            jovik(*here, "random read 4KiB for 50ms within 1MiB")
            assert sorted(os.listdir(target)) == ["letter", "lost+found"]
            os.sync()
            assert abs(os.statvfs(target).f_bfree - free) < 300
        assert (target / "letter").read_text() == "somebody's" and kills >= KILLS // 3
        print(f"{kills} kills over copies and fills")
    finally:
        run("umount", target)
        succeeds("losetup", "-d", device)


@pytest.fixture
def small(tmp_path: Path) -> Iterator[Path]:
    """A file system of 700 kB, to be made larger or read-only by mounting it anew."""
    place = tmp_path / "small"
    place.mkdir()
    if os.geteuid() != 0 or not succeeds("mount", "-t", "tmpfs", "-o", "size=700k", "none", place):
        pytest.skip("mounting a small file system needs root")
    yield place
    run("umount", place)


def remount(place: Path, how: str) -> None:
    run("mount", "-o", f"remount,{how}", place)


def test_a_full_disk_under_the_shelf_keeps_what_was_finished_and_the_run_goes_on_later(
    jovik: Program, small: Path
) -> None:
    jovik.env["JOVIK_SHELF"] = str(small / "shelf.db")
    steps = [f"random read 4KiB depth {d} for 1s" for d in range(1, 30)]
    refused = jovik("measure", "model:comet", *steps, "--passes", "9", "--seed", "1", status=3)
    assert "free some space there" in refused.err
    assert "database or disk is full" in refused.err and "random read, 4 KiB" in refused.out, (
        "what was finished is shown"
    )
    kept = rows(small / "shelf.db", PASSES)
    assert kept and jovik("shelf", "check").out.startswith("whole")
    remount(small, "size=50m")
    jovik("resume")
    assert set(kept) <= set(rows(small / "shelf.db", PASSES)) and len(
        rows(small / "shelf.db", PASSES)
    ) == 9 * len(steps)


def test_a_shelf_that_cannot_be_written_is_read_and_says_so(jovik: Program, small: Path) -> None:
    remount(small, "size=50m")
    jovik.env["JOVIK_SHELF"] = str(small / "shelf.db")
    jovik("measure", "model:comet", "random read 4KiB for 1s", "--seed", "1")
    of_the_first_revision(small / "old.db")
    ranking = jovik("rank").out
    remount(small, "ro")
    before = (small / "shelf.db").read_bytes()
    assert jovik("rank").out == ranking and jovik("shelf", "check").out.startswith("whole")
    jovik("shelf", "export", "--out", "all.zip")
    jovik("shelf", "backup", "--out", "copy.db")
    assert jovik("rank", "--shelf", "copy.db").out == ranking
    for words in (
        ["measure", "model:comet", "random read 4KiB for 1s"],
        ["note", COMET, "--pro", "silent"],
        ["sheet", "new", "Tern"],
    ):
        said = jovik(*words, status=3).err
        assert "cannot be written here" in said, said
    assert "cannot be written here" in jovik("rank", "--shelf", small / "old.db", status=3).err
    assert (small / "shelf.db").read_bytes() == before


def test_passes_in_a_log_that_nobody_can_bring_in_are_not_left_out_silently(
    jovik: Program, small: Path
) -> None:
    remount(small, "size=50m")
    jovik("measure", "model:comet", "random read 4KiB for 1s", "--seed", "1")
    connection = sqlite3.connect(jovik.shelf)
    connection.execute("update drive set maker = 'Other'")
    connection.commit()
    for name in ("shelf.db", "shelf.db-wal"):
        shutil.copy(jovik.shelf.with_name(name), small / name)
    connection.close()
    remount(small, "ro")
    assert "was not closed" in jovik("rank", "--shelf", small / "shelf.db", status=3).err


def test_a_reader_takes_nothing_from_a_writer_that_opened_the_shelf_twice(jovik: Program) -> None:
    """Whoever closes a file of its own on a database loses every lock that the process has on it.

    The next reader to leave would then remove the log that the writer goes on writing to.
    """
    code = """
import sys
from jovik.shelf.store import Shelf
from jovik.sheets.sheet import Drive, Sheet
with Shelf(sys.argv[1], create=True) as shelf:
    shelf.additions.enrol(Sheet(Drive("First")))
    with Shelf(sys.argv[1]):
        pass
    print("in", flush=True)
    for name in sys.stdin:
        shelf.additions.enrol(Sheet(Drive(name.strip())))
        print("added", flush=True)
"""
    with subprocess.Popen(
        [sys.executable, "-c", code, jovik.shelf],
        env=jovik.env,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    ) as writer:
        assert writer.stdin is not None and writer.stdout is not None
        assert writer.stdout.readline() == "in\n"
        for name in ("Second", "Third", "Fourth"):
            jovik("sheet", "list")
            writer.stdin.write(f"{name}\n")
            writer.stdin.flush()
            assert writer.stdout.readline() == "added\n"
            assert name in jovik("sheet", "list").out
        writer.stdin.close()
    assert writer.returncode == 0
    assert "Fourth" in jovik("sheet", "list").out
