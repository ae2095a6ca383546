"""The long work on real folders by the real program: long writes, fills, copies, scans, plans.

Killed and gone on with.
"""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import Program
from tests.programs import run, succeeds


def own_disk(jovik: Program) -> None:
    jovik("sheet", "new", "Own Disk")


def measure(jovik: Program, *words: str, status: int = 0) -> dict:
    return jovik(
        "measure", ".", "--drive", "Own Disk", *words, "--format", "json", status=status
    ).json


def test_a_long_write_on_a_real_folder_is_a_series(jovik: Program) -> None:
    own_disk(jovik)
    step = measure(jovik, "sequential write 256KiB depth 4 at most 20MB/s over 80MB")["steps"][0]
    found = step["facts"]["long_write"]
    assert step["passes"] == 1 and found["total_bytes"] == pytest.approx(80e6, rel=0.02)
    assert sum(p["end_bytes"] - p["start_bytes"] for p in found["parts"]) <= found["total_bytes"]
    assert os.listdir(jovik.folder) == []


def test_copies_of_made_up_and_of_own_files(jovik: Program, tmp_path: Path) -> None:
    own_disk(jovik)
    mine = tmp_path / "my pictures"
    (mine / "2025" / "summer").mkdir(parents=True)
    for n in range(12):
        (mine / "2025" / "summer" / f"{n}.raw").write_bytes(os.urandom(200_000 + n))
    (mine / "link").symlink_to(mine / "2025")
    kept = {p: p.read_bytes() for p in mine.rglob("*.raw")}
    run = measure(
        jovik,
        "copy in 40 files of 100kB",
        f'copy in "{mine}"',
        f'copy out "{mine}"',
        "copy out 40 files of 100kB",
        "--passes",
        "2",
    )
    made, own, back, out = run["steps"]
    assert made["facts"]["copy"]["files"] == 40 and made["written_bytes"] == 2 * 40 * 100_000
    assert own["facts"]["copy"]["files"] == 12 and own["written_bytes"] == 2 * sum(
        map(len, kept.values())
    )
    assert back["read_bytes"] == own["written_bytes"] and out["read_bytes"] == made["written_bytes"]
    assert run["conditions"]["direct"] is made["conditions"]["direct"] is False
    assert own["phrase"] == f'copy in "{mine}"' and made["facts"]["copy"]["seconds"] > 0
    assert {p: p.read_bytes() for p in mine.rglob("*.raw")} == kept, (
        "a person's own files are read and never changed"
    )
    assert os.listdir(jovik.folder) == []
    answer = jovik("measure", ".", "--drive", "Own Disk", 'copy in "/no/such"', status=3)
    assert "there is no folder /no/such to copy" in answer.err and answer.err.count("\n") <= 5


def test_copies_that_a_killed_process_left_are_removed_by_the_next(jovik: Program) -> None:
    own_disk(jovik)
    words = jovik.command(
        "measure", ".", "--drive", "Own Disk", "copy in 3000 files of 100kB", "--passes", "50"
    )
    running = subprocess.Popen(
        words, cwd=jovik.folder, env=jovik.env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    for _ in range(300):
        if list(jovik.folder.glob(".jovik-files-*/files/*")):
            break
        time.sleep(0.1)
    running.kill()
    running.wait()
    left = list(jovik.folder.glob(".jovik-files-*"))
    assert left
    old = time.time() - 60
    os.utime(left[0], (old, old))
    measure(jovik, "random read 4KiB for 100ms within 1MiB", "--passes", "1")
    assert os.listdir(jovik.folder) == []


def test_a_scan_of_a_file_reads_every_zone(jovik: Program) -> None:
    own_disk(jovik)
    step = measure(jovik, "scan read 64KiB in 16 zones within 16MiB")["steps"][0]
    assert (
        step["facts"]["surface"]["zones"] == 16
        and step["read_bytes"] == 16 * 2**20
        and step["passes"] == 1
    )
    refused = jovik(
        "measure", ".", "--drive", "Own Disk", "scan read 1MiB in 100 zones within 16MiB", status=3
    )
    assert "smaller than a block" in refused.err


def steps_begun(shelf: Path) -> int:
    """How many steps a run has begun; none while there is no shelf yet."""
    if not shelf.exists():
        return 0
    with sqlite3.connect(shelf) as connection:
        return connection.execute("select count(*) from step").fetchone()[0]


def test_a_pass_until_stopped_is_ended_by_a_person_and_counts(jovik: Program) -> None:
    own_disk(jovik)
    words = jovik.command(
        "measure",
        ".",
        "--drive",
        "Own Disk",
        "random read 4KiB within 1MiB until stopped",
        "--format",
        "json",
    )
    running = subprocess.Popen(
        words,
        cwd=jovik.folder,
        env=jovik.env,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    for _ in range(300):
        if steps_begun(jovik.shelf):
            break
        time.sleep(0.1)
    time.sleep(1.5)
    running.send_signal(signal.SIGINT)
    out, err = running.communicate(timeout=20)
    assert running.returncode == 0, err
    assert '"state": "done"' in out and '"passes": 1' in out
    assert os.listdir(jovik.folder) == []


def passes_of(shelf: Path) -> list[tuple[int, int]]:
    with sqlite3.connect(shelf) as connection:
        return connection.execute(
            "select step.position, number from pass join step on step.id = step_id order by 1, 2"
        ).fetchall()


def test_a_run_is_not_gone_on_with_elsewhere(jovik: Program) -> None:
    jovik("measure", "model:comet", "random read 4KiB for 1s", "--passes", "2")
    assert "every run on this shelf is finished" in jovik("resume", status=2).err
    with sqlite3.connect(jovik.shelf) as shelf:
        key, options = shelf.execute("select id, options from run").fetchone()
        shelf.execute(
            "update run set state = 'interrupted', options = replace(options, "
            '\'"processor": "\', \'"processor": "another \')'
        )
        shelf.execute("update step set finished = 0")
    assert "is on another rig" not in options
    refused = jovik("resume", key, status=3)
    assert "was on another rig" in refused.err and "another " in refused.err
    with sqlite3.connect(jovik.shelf) as shelf:
        shelf.execute("update run set options = ?", (options,))
    refused = jovik("resume", key, "--target", "model:cinder", status=3)
    assert "on another sample" in refused.err
    assert jovik("resume", key, "--format", "json").json["state"] == "done"
    assert "is finished" in jovik("resume", "last", status=2).err


def test_repeating_does_the_same_again(jovik: Program) -> None:
    words = [
        "random read 4KiB depth 1,4 for 1s",
        "sequential write 1MiB depth 8 over 5GB",
        "--seed",
        "9",
    ]
    one = jovik("measure", "model:slate", *words, "--format", "json").json
    two = jovik("repeat", "--format", "json").json
    assert two["run"] != one["run"] and two["seed"] == one["seed"] == 9
    assert [(s["phrase"], s["passes"], s["rate_bytes_s"]) for s in two["steps"]] == [
        (s["phrase"], s["passes"], s["rate_bytes_s"]) for s in one["steps"]
    ]
    assert "no run called" in jovik("repeat", "20200101-000000-abcdef", status=2).err


def test_plans_are_listed_shown_and_checked(jovik: Program, tmp_path: Path) -> None:
    listed = jovik("plan", "list", "--format", "json").json["plans"]
    assert {"first-look", "full-review", "long-haul", "spinning", "quick-compare"} <= {
        p["name"] for p in listed
    }
    shown = jovik("plan", "show", "full-review", "--target", "model:comet", "--budget", "10min")
    assert (
        "left out: " in shown.out
        and "endurance rating" in shown.out
        and "on model:comet: about" in shown.out
    )
    mine = tmp_path / "night.toml"
    mine.write_text(jovik("plan", "show", "first-look", "--format", "toml").out)
    assert "12 steps" in jovik("plan", "check", mine).out
    mine.write_text('steps = [\n  "random read 4KiB",\n  { phrase = "random raed 4KiB" },\n]\n')
    wrong = jovik("plan", "check", mine, status=2)
    assert "'raed' is not understood" in wrong.err and "night.toml, line" in wrong.err
    mine.write_text('steps = [ { phrase = "random read 4KiB", whi = "x" } ]\n')
    assert "'whi' is not a key here" in jovik("plan", "check", mine, status=2).err
    assert "full-review" in jovik("plan", "show", "ful", status=2).err
    assert "add --target" in jovik("plan", "show", "first-look", "--budget", "5min", status=2).err


def test_much_writing_asks_first(jovik: Program) -> None:
    jovik("sheet", "new", "Own Disk", "--endurance", "1TB")
    phrase = "sequential write 1MiB over 12GB within 1GB"
    answer = jovik("measure", ".", "--drive", "Own Disk", phrase, "--dry-run")
    assert "about 1.2 % of its endurance rating" in answer.err
    refused = jovik("measure", ".", "--drive", "Own Disk", phrase, status=2)
    assert "1.2 % of the drive's endurance rating" in refused.err and "--yes" in refused.err
    assert (
        "Continue"
        not in jovik(
            "measure", ".", "--drive", "Own Disk", phrase, "--ask-above", "5%", "--dry-run"
        ).err
    )


def test_the_tables_of_a_full_review_can_be_read(jovik: Program) -> None:
    answer = jovik("measure", "model:comet", "--plan", "full-review", "--seed", "3")
    for said in (
        "random read, 4 KiB, over depth",
        "these passes cannot distinguish",
        "the cliff: after",
        "Access time, one at a time",
        "Copies",
        "Empty against full",
        "no difference that matters",
        "recovered",
        "discarded",
        "every step: simulated",
        "steady from",
    ):
        assert said in answer.out, said
    found = jovik("repeat", "--format", "json").json
    assert {x["axis"] for x in found["ladders"]} == {
        "depth",
        "block_bytes",
        "read_percent",
        "compressible_percent",
    }
    assert {p["filled_percent"] for p in found["empty_against_full"]} == {90}
    # Its controller does not compress, and no rung met a write cache that those before had filled.
    rungs = next(x["points"] for x in found["ladders"] if x["axis"] == "compressible_percent")
    rates = [r["rate_bytes_s"]["median"] for r in rungs]
    assert len(rates) == 3 and max(rates) < 1.1 * min(rates)
    cliff = next(s["cliff"] for s in found["steps"] if s["cliff"])
    assert (
        cliff["low_bytes"] <= cliff["at_bytes"] <= cliff["high_bytes"]
        and cliff["before_bytes_s"] > cliff["after_bytes_s"]
    )
    # Results of a drive that was filled on purpose are no part of its rank and of its verdicts.
    kinds = [s["kind"] for s in jovik("rank", "--format", "json").json["drives"][0]["steps"]]
    assert len(kinds) == len(set(kinds)) and not any(
        k.startswith(("rest", "fill", "empty")) for k in kinds
    )


@pytest.mark.skipif(os.geteuid() != 0, reason="needs root to mount")
def test_filling_a_real_file_system_and_giving_it_back(jovik: Program, tmp_path: Path) -> None:
    image, mount = tmp_path / "image", tmp_path / "drive"
    image.write_bytes(b"")
    os.truncate(image, 300 * 2**20)
    mount.mkdir()
    run("mkfs.ext4", "-q", image)
    if not succeeds("mount", "-o", "loop", image, mount):
        pytest.skip("no loop device here")
    try:
        own_disk(jovik)
        phrase = "random read 4KiB for 200ms within 8MiB"
        words = [phrase, "fill to 80%", phrase, "empty"]
        answer = jovik(
            "measure", mount, "--drive", "Own Disk", *words, "--passes", "2", "--format", "json"
        ).json
        fills = [s["conditions"]["fill_percent"] for s in answer["steps"]]
        assert fills[0] < 20 and fills[2] == pytest.approx(80, abs=1.5)
        assert [p["filled_percent"] for p in answer["empty_against_full"]] == [80]
        assert shutil.disk_usage(mount).free > 200 * 2**20 and os.listdir(mount) == ["lost+found"]
        refused = jovik("measure", mount, "--drive", "Own Disk", "fill to 99%", status=3)
        assert "some of it has to stay free" in refused.err and "at most 9" in refused.err
    finally:
        succeeds("umount", mount)
