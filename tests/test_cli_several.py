"""A drive that names itself, and several targets in one command."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from jovik.base.errors import TargetError
from jovik.hardware.device import BlockDevice, devices
from jovik.runs import several
from jovik.runs.enrolment import _of_device, nominal_bytes
from tests.conftest import Program
from tests.programs import loop_device, need, on_a_terminal, run, sparse_file, succeeds

READ = "random read 4KiB for 200ms within 8MB"


def test_the_first_command_may_be_measure_alone(jovik: Program) -> None:
    answer = jovik("measure", ".", READ, "--passes", "3", "--format", "json")
    assert "new on this shelf" in answer.err and "jovik sheet claim" in answer.err

    again = jovik("measure", ".", READ, "--passes", "2", "--format", "json")
    assert answer.json["drive"] == again.json["drive"] and "known by" in again.err
    sheets = jovik("sheet", "list", "--format", "json").json["drives"]
    assert [s["name"] for s in sheets] == [answer.json["drive"]] and sheets[0]["claims"] == []


def test_a_new_name_adds_the_drive_that_is_here(jovik: Program) -> None:
    words = ["measure", "model:comet", "random read 4KiB for 1s", "--passes", "1"]
    assert "this is 'Mine', new on this shelf" in jovik(*words, "--drive", "Mine").err
    shown = jovik("sheet", "show", "Mine", "--format", "json").json
    assert shown["capacity_bytes"] == 2 * 10**12
    refused = jovik(*words, "--drive", "Yours", status=2).err
    assert "the drive here is 'Mine'" in refused and 'jovik sheet new "Yours"' in refused
    jovik("sheet", "new", "Yours")
    jovik(*words, "--drive", "yours")
    # Nearly a name that is there, and another number.
    assert "nearest: Yours" in jovik(*words, "--drive", "Your", status=2).err
    jovik("sheet", "new", "Pole 1TB")
    assert "nearest: Pole 1TB" in jovik(*words, "--drive", "Pol 1TB", status=2).err
    slate = ["measure", "model:slate", *words[2:], "--dry-run"]
    assert "this is 'Pole 2TB', new" in jovik(*slate, "--drive", "Pole 2TB").err
    assert jovik("measure", "model:slate", *words[2:], "--drive", "Other", "--dry-run").err
    assert "Other" not in jovik("sheet", "list").out, "a dry run adds nothing"


def test_a_drive_is_known_by_its_serial_after_it_was_renamed(jovik: Program) -> None:
    jovik("measure", "model:slate", "random read 4KiB for 1s", "--passes", "2")
    jovik("sheet", "rename", "Corvane Slate 1TB", "The old one")
    jovik("measure", "model:slate", "random read 4KiB for 1s", "--passes", "2")
    runs = jovik("runs", "--format", "json").json["runs"]
    assert [r["drive"] for r in runs] == ["The old one"] * 2
    assert len(jovik("sheet", "list", "--format", "json").json["drives"]) == 1


def device(**facts: object) -> BlockDevice:
    known: dict[str, object] = dict.fromkeys(
        ("maker", "model", "serial", "firmware", "medium", "driver", "write_cache", "scheduler"), ""
    ) | {
        "name": "nosuch0",
        "node": "/dev/nosuch0",
        "kind": "USB",
        "capacity_bytes": 500_107_862_016,
        "rpm": None,
        "logical_block_bytes": 512,
        "physical_block_bytes": 512,
        "read_only": False,
        "link": None,
    }
    return BlockDevice(**(known | facts))  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("facts", "name"),
    [
        ({"maker": "Halden", "model": "Fjord"}, "Halden Fjord 500GB"),
        ({"maker": "Halden", "model": "Halden Fjord 500GB"}, "Halden Fjord 500GB"),
        (
            {"kind": "NVMe", "model": "Fjord_X \x1b[2J"},
            "Fjord X \N{REPLACEMENT CHARACTER}[2J 500GB",
        ),
        ({}, "unnamed USB drive 500GB"),
        ({"kind": "loop", "model": "/tmp/disk.img"}, "loop device disk.img"),
    ],
)
def test_a_drive_names_itself_from_what_is_known(facts: dict[str, object], name: str) -> None:
    assert _of_device(device(**facts)).name == name


def test_a_stick_is_compared_with_sticks(jovik: Program) -> None:
    stick = _of_device(device(kind="USB", removable=True, medium="spinning"))
    assert (stick.class_name, stick.medium) == ("stick", "solid state")
    enclosure = _of_device(device(kind="USB", removable=False, medium=""))
    assert enclosure.class_name is None, "a disk in an enclosure is no stick"
    told = jovik("measure", "model:thimble", "sequential read 1MiB depth 4 for 1s").out
    assert "where 100 is usual for a USB stick" in " ".join(told.split())


def test_removable_media_are_those_of_the_system() -> None:
    need("lsblk")
    asked = run("lsblk", "--nodeps", "--noheadings", "--output", "NAME,RM")
    known = dict(line.split() for line in asked.splitlines())
    found = {d.name: d.removable for d in devices() if d.name in known}
    assert {n: known[n] == "1" for n in found} == found


@pytest.mark.parametrize(
    ("counted", "printed"),
    [
        (1_000_204_886_016, 10**12),
        (256_060_514_304, 256 * 10**9),
        (1_920_383_410_176, 1_920 * 10**9),
        (31_004_295_168, 31 * 10**9),
    ],
)
def test_a_capacity_is_that_of_the_box(counted: int, printed: int) -> None:
    assert nominal_bytes(counted) == printed


def test_an_evening_of_four_drives_ends_in_their_ranking(jovik: Program) -> None:
    models = ("slate", "comet", "drift", "pebble")
    words = [f"model:{m}" for m in models]
    jovik("measure", "model:cinder", "random read 4KiB for 1s", "--passes", "2")
    told = jovik("measure", *words, "random read 4KiB for 1s", "--passes", "3")
    assert "target 2 of 4: model:comet" in told.err
    assert "Overall" in told.out and "cinder" not in told.out.casefold()
    found = jovik("measure", *words, "random read 4KiB for 1s", "--passes", "3", "--format", "json")
    assert [r["target"]["name"] for r in found.json["runs"]] == list(models)
    assert len(found.json["ranking"]["drives"]) == 4 and found.json["failed"] == []
    rows = jovik("measure", *words, "random read 4KiB for 1s", "--format", "csv").out
    assert rows.count("\n") == 5


def test_a_target_that_fails_does_not_take_the_others(jovik: Program) -> None:
    words = ("model:slate", "model:comet", "sequential write 1MiB depth 8 over 1.5TB")
    answer = jovik("measure", *words, "--passes", "1", "--format", "json", status=3)
    assert [(f["target"], f["status"]) for f in answer.json["failed"]] == [("model:slate", 3)]
    assert [(r["target"]["name"], r["state"]) for r in answer.json["runs"]] == [("comet", "done")]
    assert "model:slate: " in answer.err


def test_two_targets_on_one_drive_are_refused(jovik: Program) -> None:
    (jovik.folder / "a").mkdir()
    (jovik.folder / "b").mkdir()
    if "unnamed drive" not in jovik("measure", "a", READ, "--dry-run").err:
        assert "are on one drive" in jovik("measure", "a", "b", READ, status=2).err
    assert "are on one drive" in jovik("measure", *["model:slate"] * 2, READ, status=2).err
    assert (
        "share no link"
        in jovik("measure", "model:slate", "model:comet", READ, "--together", status=2).err
    )
    assert (
        "lasts for a given time"
        in jovik("measure", "a", "b", "sequential write 1MiB over 8MB", "--together", status=2).err
    )
    assert (
        "--drive names one drive"
        in jovik("measure", "model:slate", "model:comet", READ, "--drive", "x", status=2).err
    )


def test_two_folders_of_one_drive_together(jovik: Program) -> None:
    (jovik.folder / "a").mkdir()
    (jovik.folder / "b").mkdir()
    found = jovik("measure", "a", "b", READ, "--together", "--passes", "3", "--format", "json").json
    steps = found["together"]["steps"]
    assert [s["target"] for s in steps] == ["a", "b"] and found["together"]["in_step"]
    assert all(s["together_bytes_s"]["low"] for s in steps)
    (total,) = found["together"]["totals"]
    parts = sum(s["together_bytes_s"]["median"] for s in steps)
    assert total["rate_bytes_s"]["low"] < parts < 1.2 * total["rate_bytes_s"]["high"]
    runs = jovik("runs", "--format", "json").json["runs"]
    assert [r["excluded"] is not None for r in runs] == [True, True, False, False]
    assert [r["passes"] for r in runs] == [5, 5, 3, 3]
    # What was measured together is in no ranking, and needs no word there.
    ranked = jovik("rank", "--format", "json").json
    assert {s["run"] for d in ranked["drives"] for s in d["steps"]} <= {r["run"] for r in runs[2:]}
    assert ranked["excluded"] == []


@pytest.fixture
def mounted(tmp_path: Path) -> Iterator[list[Path]]:
    """Two loop devices of 4 GB with a file system each, whose images lie in memory."""
    need("mkfs.ext4", "mount", "losetup")
    shm = Path("/dev/shm")
    if os.geteuid() != 0 or not shm.is_dir():
        pytest.skip("mounting a loop device needs root")
    undo: list[tuple[str | Path, ...]] = []
    points = []
    try:
        for n in range(2):
            image = sparse_file(shm / f"jovik-{os.getpid()}-{n}", 4 * 10**9)
            undo.append(("rm", image))
            made = loop_device(image)
            undo.append(("losetup", "--detach", made))
            run("mkfs.ext4", "-q", made)
            point = tmp_path / f"disk{n}"
            point.mkdir()
            run("mount", made, point)
            undo.append(("umount", point))
            points.append(point)
        yield points
    finally:
        for words in reversed(undo):
            succeeds(*words)


def test_every_drive_here_is_measured_through_a_folder(jovik: Program, mounted: list[Path]) -> None:
    spare = sparse_file(Path("/dev/shm") / f"jovik-{os.getpid()}-spare", 10**8)
    node = loop_device(spare)
    try:
        told = jovik("measure", "--every-drive", READ, "--dry-run").err
    finally:
        succeeds("losetup", "--detach", node)
        spare.unlink()
    assert all(f": {p}\n" in told for p in mounted)
    assert re.search(rf"left out: {node} .*: none of it is mounted", told)
    phrases = [READ, "sequential write 1MiB for 200ms within 16MB"]
    found = jovik("measure", *mounted, *phrases, "--passes", "3", "--format", "json").json
    assert len(found["runs"]) == 2 and len(found["ranking"]["drives"]) == 2


def test_ctrl_c_ends_all_of_it(jovik: Program) -> None:
    import signal
    import subprocess
    import sys
    import time

    words = [sys.executable, "-m", "jovik", "measure", "model:slate", "."]
    # The model drive takes no time at all; the folder takes minutes.
    words += ["random read 4KiB for 60s within 8MB", "--passes", "3"]
    process = subprocess.Popen(
        words, cwd=jovik.folder, env=jovik.env, stderr=subprocess.PIPE, stdout=subprocess.PIPE
    )
    assert process.stderr is not None
    deadline = time.monotonic() + 60
    for said in (b"target 2 of 2", b"prefilling"):
        while said not in process.stderr.readline() and time.monotonic() < deadline:
            pass
    time.sleep(1)
    process.send_signal(signal.SIGINT)
    told = process.communicate(timeout=60)[1].decode()
    assert process.returncode == 130 and "to continue it: jovik resume" in told
    states = {r["state"] for r in jovik("runs", "--format", "json").json["runs"]}
    assert states == {"done", "interrupted"}


def test_a_dry_run_says_the_cost_and_puts_nothing_on_the_shelf(jovik: Program) -> None:
    words = ("model:slate", "model:comet", "sequential write 1MiB over 2GB", "--passes", "1")
    found = jovik("measure", *words, "--dry-run", "--format", "json").json["runs"]
    assert [r["written_bytes"] for r in found] == [2 * 10**9] * 2
    assert all(r["time_ns"] > 0 and r["endurance_share"] > 0 for r in found)
    jovik("measure", *words, "--dry-run")
    jovik("measure", ".", READ, "--dry-run")
    assert jovik("sheet", "list", "--format", "json").json["drives"] == []


def test_every_drive_with_nothing_to_measure_says_what_there_is(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(several, "devices", lambda: [device()])
    with pytest.raises(TargetError, match="/dev/nosuch0: none of it is mounted"):
        several.every_drive()
    monkeypatch.setattr(several, "devices", list)
    with pytest.raises(TargetError, match="no drive is here"):
        several.every_drive()


def test_the_lines_before_a_run_end_between_words(jovik: Program) -> None:
    words = jovik.command("measure", ".", READ, "--passes", "1", "--drive", "Test", "--dry-run")

    def lines(columns: int) -> list[str]:
        status, said = on_a_terminal(
            words, jovik.env, rows=24, columns=columns, folder=jovik.folder, only_errors=True
        )
        assert status == 0
        plain = re.sub(r"\x1b\[[0-9;]*m", "", said.decode())
        return plain.replace("\r", "").rstrip("\n").split("\n")

    narrow, wide = lines(60), lines(400)
    assert max(map(len, wide)) > 80 and len(narrow) > len(wide)
    # What has no space in it stays whole: a path, which a user may want to copy.
    assert " ".join(narrow).split() == " ".join(wide).split()
