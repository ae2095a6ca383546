"""What the machine does to a run: it stands still, runs out of space, or holds the shelf."""

from __future__ import annotations

import json
import os
import resource
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from jovik.base.errors import DriveError, TargetError
from jovik.base.fault_errors import environment_error, fault_error
from jovik.base.trace import IoFault
from jovik.engine.io_session import FileSession
from jovik.engine.reserved_space import floor_bytes, reserved_bytes, writable_bytes
from jovik.runs import running_step
from jovik.runs.repetition import RepetitionPolicy
from jovik.shelf.store import Shelf
from tests.conftest import Program
from tests.programs import loop_device, need, run, sparse_file, succeeds
from tests.test_runs_passes import READ, Scripted, go

ROOT = pytest.mark.skipif(os.geteuid() != 0, reason="needs root for mounts and another user")
GIB = 2**30


@pytest.fixture
def known(jovik: Program, tmp_path: Path) -> Program:
    jovik.env["XDG_DATA_HOME"] = str(tmp_path / "data")
    jovik("sheet", "new", "Test")
    return jovik


def measuring(jovik: Program, *words: str | Path) -> subprocess.Popen[str]:
    """A run in a process of its own, once its first step goes on."""
    running = subprocess.Popen(
        jovik.command("measure", *words),
        cwd=jovik.folder,
        env=jovik.env,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    assert running.stderr is not None
    for line in running.stderr:
        if line.startswith("[1/"):
            break
    return running


# Standing still


def test_a_process_that_was_stopped_notices(tmp_path: Path) -> None:
    code = (
        "import time, sys; from jovik.hardware.standstill import StandstillWatch\n"
        "with StandstillWatch() as watched:\n"
        "    print('in', flush=True); time.sleep(float(sys.argv[1]))\n"
        "print(watched.longest_s)"
    )
    for stopped in (False, True):
        process = subprocess.Popen(
            [sys.executable, "-c", code, "2.5"], stdout=subprocess.PIPE, text=True
        )
        assert process.stdout is not None and process.stdout.readline() == "in\n"
        if stopped:
            process.send_signal(signal.SIGSTOP)
            time.sleep(2.2)
            process.send_signal(signal.SIGCONT)
        longest = float(process.communicate(timeout=30)[0])
        assert (longest > 1.5) if stopped else (longest < 1.5), longest


class StandsStill:
    """A watch that says how long each pass stood still, one after the other."""

    gaps: list[float] = []

    def __enter__(self) -> StandsStill:
        self.longest_s = self.gaps.pop(0) if self.gaps else 0.0
        return self

    def __exit__(self, *exc: object) -> None:
        return None


def test_a_pass_that_stood_still_is_made_again_and_counts_nowhere(
    monkeypatch: pytest.MonkeyPatch,
) -> None:

    monkeypatch.setattr(running_step, "StandstillWatch", StandsStill)
    StandsStill.gaps = [0.0, 6.2, 0.0, 0.0]
    session = Scripted([100, 17, 100, 100])
    (result,) = go(session, READ, repeat=RepetitionPolicy(3, 3)).results
    assert [round(p.iops) for p in result.passes] == [100, 100, 100]
    assert len(session.ran) == 4
    assert any("did not run for 6.2 s" in note for note in result.notes)
    StandsStill.gaps = [0.0, 2.0, 2.0, 2.0]
    with pytest.raises(TargetError, match="did not run during 3 passes in a row"):
        go(Scripted([100]), READ, repeat=RepetitionPolicy(3, 3))


def test_a_stopped_run_keeps_no_figure_from_its_standstill(known: Program) -> None:
    words = [".", "random read 4KiB depth 2 for 1500ms within 8MB", "--drive", "Test"]
    running = measuring(known, *words, "--passes", "3", "--format", "json")
    time.sleep(0.6)
    running.send_signal(signal.SIGSTOP)
    time.sleep(3)
    running.send_signal(signal.SIGCONT)
    out, err = running.communicate(timeout=60)
    assert running.returncode == 0, err
    (step,) = json.loads(out)["steps"]
    assert step["passes"] == 3
    assert any("the Jovik process did not run" in note for note in step["notes"]), step["notes"]


def test_a_process_that_stood_still_for_long_does_not_blame_the_drive(tmp_path: Path) -> None:
    """The watch on a silent drive starts anew behind the gap."""
    code = (
        "import sys; from pathlib import Path; from jovik.engine import io_session as s\n"
        "from jovik.steps import parse; s.STALL_S = 1.5\n"
        "with s.FileSession(Path(sys.argv[1]), 'blocking') as session:\n"
        "    work = parse('random read 4KiB for 2s within 1MiB').workload(1)\n"
        "    session.prepare(work, lambda _: None); session.warm_up(); print('in', flush=True)\n"
        "    print(session.run(work, lambda _: None).stopped)\n"
    )
    process = subprocess.Popen(
        [sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE, text=True
    )
    assert process.stdout is not None and process.stdout.readline() == "in\n"
    time.sleep(0.5)
    process.send_signal(signal.SIGSTOP)
    time.sleep(3)
    process.send_signal(signal.SIGCONT)
    assert process.communicate(timeout=30)[0].strip() == "False"


# Space


def test_what_stays_free() -> None:
    total = 500 * GIB
    assert reserved_bytes(total) == GIB and reserved_bytes(total, system=True) == 50 * GIB
    assert writable_bytes(total, 100 * GIB) == 99 * GIB
    assert writable_bytes(total, 100 * GIB, system=True) == 50 * GIB
    # A small test is made on a full system drive, too; a large one is not.
    assert writable_bytes(total, 20 * GIB, system=True) == 4 * GIB
    assert writable_bytes(total, 2 * GIB, system=True) == GIB
    assert writable_bytes(total, GIB // 2, system=True) == 0
    assert floor_bytes(total, 100 * GIB, system=True) == 25 * GIB
    assert floor_bytes(total, 20 * GIB, system=True) == GIB // 2


@pytest.fixture
def drive(tmp_path: Path) -> Iterator[Path]:
    """A file system of 320 MB of its own."""
    need("mkfs.ext4", "mount", "umount")
    device = loop_device(sparse_file(tmp_path / "image", 320 << 20))
    place = tmp_path / "drive"
    place.mkdir()
    run("mkfs.ext4", "-q", device)
    run("mount", device, place)
    yield place
    succeeds("umount", "-l", place)
    succeeds("losetup", "-d", device)


def free(place: Path) -> int:
    found = os.statvfs(place)
    return found.f_bavail * found.f_frsize


@ROOT
def test_a_fill_of_the_systems_own_drive_is_said_asked_and_leaves_a_tenth(
    known: Program, drive: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from jovik.engine import io_file
    from jovik.hardware import device
    from jovik.runs import prepare

    for module in (io_file, prepare, device):
        monkeypatch.setattr(module, "on_system_volume", lambda _: True)
    with FileSession(drive) as session:
        session.to_fill_bytes(85)
        with pytest.raises(TargetError, match="because the system runs from this drive"):
            session.to_fill_bytes(93)
    with Shelf(str(known.shelf)) as shelf:
        import jovik as api

        with pytest.raises(api.UsageError, match="fills the drive that the system runs from"):
            api.measure(shelf, str(drive), "fill to 80%", drive="Test")
        done = api.measure(shelf, str(drive), "fill to 80%", drive="Test", yes=True)
    assert done.run.state == "done"


def test_the_systems_own_volume_is_known() -> None:
    from jovik.hardware.device import on_system_volume

    assert on_system_volume(Path("/")) and on_system_volume(Path("/usr"))
    assert not on_system_volume(Path("/proc"))


@ROOT
def test_a_pass_ends_when_others_take_what_was_to_stay_free(known: Program, drive: Path) -> None:
    before = free(drive)
    running = measuring(known, drive, "random write 4KiB for 30s within 64MiB", "--drive", "Test")
    time.sleep(1)
    with (drive / "others").open("wb") as file:
        while free(drive) > 2**20:
            try:
                file.write(bytes(2**19))
                file.flush()
            except OSError:
                break
    _, err = running.communicate(timeout=30)
    assert running.returncode == 3, err
    assert "other programs have used space that must stay free" in err
    (drive / "others").unlink()
    os.sync()
    assert free(drive) >= before - 2**20


@ROOT
def test_a_plan_that_takes_its_own_room_is_refused_before_anything_is_written(
    known: Program, drive: Path
) -> None:
    before = free(drive)
    plan = ["fill to 80%", "sequential write 1MiB over 128MiB"]
    told = known("measure", drive, "--drive", "Test", *plan, status=3).err
    assert "step 2" in told and "has too little space" in told and "'empty'" in told
    assert free(drive) == before and not list(drive.glob(".jovik*"))
    known("measure", drive, "--drive", "Test", plan[0], "empty", plan[1])
    told = known(
        "measure", drive, "--drive", "Test", plan[0], "copy in 100 files of 1MiB", status=3
    )
    assert "step 2" in told.err


# What the system refuses


@pytest.mark.parametrize("code", ["ENOSPC", "EDQUOT", "EROFS", "ENOENT", "EMFILE", "ENOMEM"])
def test_what_the_environment_refused_is_no_fault_of_the_drive(code: str) -> None:
    import errno

    number = getattr(errno, code)
    fault = IoFault(number, os.strerror(number), 4096, "write", 10**8)
    error = fault_error(fault, "0.10 s into the pass", "")
    assert isinstance(error, TargetError) and error.exit_status == 3 and error.hint
    drive = fault_error(replace(fault, errno=errno.EIO), "later", "")
    assert isinstance(drive, DriveError) and drive.exit_status == 4
    refused = environment_error(OSError(number, os.strerror(number), "/x"))
    assert refused is not None and refused.exit_status == 3
    assert environment_error(ValueError("x")) is None


LIMITS = {
    "file sizes, laying out": (resource.RLIMIT_FSIZE, 4 << 20, "sequential write 1MiB over 16MiB"),
    "file sizes, copying": (resource.RLIMIT_FSIZE, 4 << 20, "copy in 3 files of 8MiB"),
    "memory for threads": (
        resource.RLIMIT_AS,
        1 << 30,
        "random read 4KiB depth 1000 for 200ms within 8MB",
    ),
}


@pytest.mark.parametrize("what", LIMITS)
def test_a_processs_own_limits_are_the_environments_refusal(known: Program, what: str) -> None:
    limit, most, step = LIMITS[what]
    words = ["measure", ".", step, "--passes", "1", "--drive", "Test", "--engine", "blocking"]
    known(*words[:2], "random read 4KiB for 100ms within 1MiB", *words[3:])  # compiled by now
    # Counting lines takes memory, too, and fails with words of its own.
    env = {k: v for k, v in known.env.items() if not k.startswith("COVERAGE")}
    done = subprocess.run(
        known.command(*words),
        cwd=known.folder,
        env=env,
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: resource.setrlimit(limit, (most, most)),
    )
    assert done.returncode == 3, done
    assert "Traceback" not in done.stderr and "fault in Jovik" not in done.stderr
    assert "the drive failed" not in done.stderr and "ulimit" in done.stderr
    assert not os.listdir(known.folder)


# A shelf that somebody else holds


def test_a_shelf_that_is_locked_for_long_loses_no_pass(known: Program) -> None:
    known.env["JOVIK_SHELF_PATIENCE_S"] = "1"
    step = "random read 4KiB depth 2 for 300ms within 8MB"
    running = measuring(known, ".", step, "--passes", "12", "--drive", "Test")
    holder = sqlite3.connect(known.shelf, timeout=30, isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    time.sleep(3)
    holder.execute("ROLLBACK")
    holder.close()
    _, err = running.communicate(timeout=60)
    assert running.returncode == 0, err
    assert len(passes(known.shelf)) == 12
    assert not list(Path(known.env["XDG_DATA_HOME"]).rglob("*.jsonl"))


def test_passes_that_waited_to_the_end_say_where_and_are_delivered(known: Program) -> None:
    known.env["JOVIK_SHELF_PATIENCE_S"] = "1"
    step = "random read 4KiB depth 2 for 300ms within 8MB"
    running = measuring(known, ".", step, "--passes", "4", "--drive", "Test")
    holder = sqlite3.connect(known.shelf, timeout=30, isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    _, err = running.communicate(timeout=60)
    assert running.returncode == 3, err
    assert "is locked by another program" in err and "wait in" in err
    (spool,) = Path(known.env["XDG_DATA_HOME"]).rglob("*.jsonl")
    assert str(spool) in err and "nothing finished was lost" not in err
    assert spool.stat().st_mode & 0o077 == 0
    kept = spool.read_bytes()
    # Where others could have written it, it is none of ours.
    if os.geteuid() == 0:
        os.chown(spool, 65534, 65534)
        holder.execute("ROLLBACK")
        known("sheet", "list")
        assert spool.read_bytes() == kept
        os.chown(spool, 0, 0)
    else:
        holder.execute("ROLLBACK")
    holder.close()
    whole = spool.read_bytes()
    spool.write_bytes(whole.replace(b'"sort"', b'"tros"'))
    assert "cannot be delivered now" in known("sheet", "list").err and spool.exists()
    spool.write_bytes(whole)
    known("sheet", "list")
    assert not spool.exists() and len(passes(known.shelf)) == 4
    with Shelf(str(known.shelf)) as shelf:
        assert [r.state for r in shelf.runs.every()] == ["done"]


def passes(shelf: Path) -> list[tuple[int, int]]:
    with sqlite3.connect(shelf) as connection:
        return connection.execute("select step_id, number from pass").fetchall()


def test_a_sensor_that_never_moved_is_ignored_by_scout_and_health_afterwards(
    jovik: Program,
) -> None:
    def seen() -> tuple[str, float]:
        log = jovik("health", "model:ember", "--format", "json").json["readings"]
        board = next(r for r in log if r["what"] == "temperature, board")
        drive = jovik("scout", "model:ember", "--format", "json").json["drives"][0]
        return board["why"], drive["temperature_c"]

    assert seen() == ("at or above its limit of 84 °C", 103.0)
    jovik("measure", "model:ember", "sequential read 1MiB depth 8 for 90s", "--passes", "1")
    why, degrees = seen()
    assert "never moved" in why and degrees < 60, "the sensor is known for this sample"
    assert "board, 103 °C: ignored" in jovik("scout", "model:ember").out
