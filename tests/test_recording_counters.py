"""Recordings of real programs, against the kernel's own counters of the device."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from jovik.base.recording import Kind, Recording, dependencies
from jovik.base.recording_file import read_recording
from jovik.hardware.block_events import recording_of
from jovik.hardware.block_trace import tapped
from jovik.hardware.io_limits import IoLimit, io_limits
from tests.conftest import Program
from tests.programs import loop_device, need, run
from tests.test_recording import ROOT, TRACING

pytestmark = pytest.mark.skipif(
    not (ROOT and TRACING), reason="needs root and the kernel's trace events"
)
READS, READ_SECTORS, WRITES, WRITE_SECTORS, DISCARDS, DISCARD_SECTORS, FLUSHES = (
    *(0, 2, 4, 6),
    *(11, 13, 15),
)
"""Fields of Documentation/block/stat.rst."""

PRELUDE = "import os, subprocess, sys\nfolder = sys.argv[1]\n"
PROGRAMS = {
    "durable SQLite transactions": """
import sqlite3
shelf = sqlite3.connect(f"{folder}/s.db", isolation_level=None)
shelf.execute("pragma synchronous = full")
shelf.execute("create table t (a)")
for n in range(25):
    shelf.execute("insert into t values (?)", (n,))
""",
    "a file each with fsync": """
for n in range(30):
    fd = os.open(f"{folder}/{n}", os.O_CREAT | os.O_WRONLY)
    os.write(fd, os.urandom(5000))
    os.fsync(fd)
    os.close(fd)
""",
    "sync and reading again": """
for n in range(10):
    with open(f"{folder}/{n}", "wb") as file:
        file.write(os.urandom(300_000))
    os.sync()
fd = os.open(f"{folder}/3", os.O_RDONLY)
os.posix_fadvise(fd, 0, 0, os.POSIX_FADV_DONTNEED)
while os.read(fd, 65536): pass
""",
    "discards": """
with open(f"{folder}/big", "wb") as file:
    file.write(os.urandom(20_000_000))
os.sync()
os.unlink(f"{folder}/big")
os.sync()
subprocess.run(["fstrim", folder], check=True)
""",
    "durable direct writes": """
import mmap
page = mmap.mmap(-1, 16384)
fd = os.open(f"{folder}/d", os.O_CREAT | os.O_WRONLY | os.O_DIRECT | os.O_DSYNC)
for n in range(40):
    os.pwritev(fd, [page], 16384 * (n * 7 % 40))
""",
}


def wait_for_quiet(stat: Path) -> None:
    """Wait until the system has stopped looking at a new device."""
    seen, since = "", time.monotonic()
    while time.monotonic() - since < 0.5:
        if (now := stat.read_text()) != seen:
            seen, since = now, time.monotonic()
        time.sleep(0.02)


@pytest.fixture
def loop(tmp_path: Path) -> Iterator[tuple[str, Path]]:
    need("losetup", "mkfs.ext4", "mount", "umount")
    image, folder = tmp_path / "image", tmp_path / "mounted"
    image.write_bytes(b"")
    os.truncate(image, 300 * 2**20)
    folder.mkdir()
    device = loop_device(image, "--direct-io=on")
    try:
        run("mkfs.ext4", "-q", "-E", "lazy_itable_init=0,lazy_journal_init=0", device)
        run("mount", device, folder)
        wait_for_quiet(Path(f"/sys/block/{Path(device).name}/stat"))
        yield device, folder
    finally:
        run("umount", folder)
        run("losetup", "-d", device)


def recorded(folder: Path, loop: tuple[str, Path], program: str) -> tuple[Recording, list[int]]:
    """Record a program, and return what the kernel counted meanwhile."""
    device, mounted = loop
    path = folder / "program.py"
    path.write_text(PRELUDE + program + "os.sync()\n")
    known = Path("/sys/block") / Path(device).name

    def counters() -> list[int]:
        return [int(x) for x in (known / "stat").read_text().split()]

    # Others may look at a new device at any time: both have to see the same stretch of time.
    with tapped((known / "dev").read_text().strip()) as tap:
        before, begin = counters(), time.monotonic_ns()
        process = subprocess.Popen([sys.executable, path, mounted])
        assert process.wait(60) == 0
        after, end = counters(), time.monotonic_ns()
    with tap.spool as spool:
        found = recording_of(spool, "program", begin, end, process.pid)
    return found, [b - a for a, b in zip(before, after, strict=True)]


@pytest.mark.parametrize("program", PROGRAMS)
def test_a_recording_has_what_the_kernel_counted(
    tmp_path: Path, loop: tuple[str, Path], program: str
) -> None:
    found, counted = recorded(tmp_path, loop, PROGRAMS[program])

    def of(kind: Kind) -> tuple[int, int]:
        chosen = found.kind == kind
        return int(chosen.sum()), int(found.bytes[chosen].sum()) // 512

    assert of(Kind.READ) == (counted[READS], counted[READ_SECTORS])
    assert of(Kind.DISCARD) == (counted[DISCARDS], counted[DISCARD_SECTORS])
    flushes, writes = of(Kind.FLUSH)[0], of(Kind.WRITE)
    assert flushes == counted[FLUSHES]
    assert writes[1] == counted[WRITE_SECTORS]
    # The kernel counts a request for a flush as a write without data, too.
    assert writes[0] <= counted[WRITES] <= writes[0] + flushes
    assert counted[FLUSHES if program != "discards" else DISCARDS] > 0
    assert (found.queued_ns <= found.issue_ns).all() and (found.queued_ns >= 0).all()
    assert np.mean(found.queued_ns < found.issue_ns) > 0.5


def test_a_flush_that_waits_for_its_turn_is_one_request_with_one_end(
    tmp_path: Path, loop: tuple[str, Path]
) -> None:
    """Flushes take turns with the writes before and after them."""
    found, _ = recorded(tmp_path, loop, PROGRAMS["durable SQLite transactions"])
    flushes = np.flatnonzero(found.kind == Kind.FLUSH)
    assert len(flushes) > 20
    assert (found.done_ns[flushes] > found.issue_ns[flushes]).all()
    assert (found.issue_ns[flushes][1:] >= found.done_ns[flushes][:-1]).all(), "one at a time"


LIMITED = Path(__file__).parents[2] / "shared/groundtruth/limited"
PACED = """
import mmap, os, sys, time
page = mmap.mmap(-1, 131072)
fd = os.open(sys.argv[1], os.O_RDONLY | os.O_DIRECT)
begin = time.monotonic()
for n in range(80):
    os.preadv(fd, [page], n * 131072)
with open(sys.argv[2], "w") as file:
    file.write(str(time.monotonic() - begin))
"""


@pytest.mark.skipif(not LIMITED.exists(), reason="needs groundtruth/limited")
@pytest.mark.skipif(not Path("/sys/fs/cgroup/blkio").is_dir(), reason="needs the blkio controller")
def test_what_a_limit_holds_back_is_time_above_the_drive(jovik: Program) -> None:
    need("losetup")
    (jovik.folder / "paced.py").write_text(PACED)
    words = [*jovik.command("record", "--out", "a.jrec", "--on", "{dev}", "--format", "json")]
    words += ["--", "python3", "paced.py", "{dev}", "took"]
    held = [LIMITED, "--where", "/dev/shm", "--fs", "none", "--size", "64M", "--read-bps", "20M"]
    more = {"env": jovik.env, "cwd": jovik.folder, "timeout": 60}
    done = subprocess.run([*held, "--", *words], capture_output=True, text=True, check=True, **more)
    found = json.loads(done.stdout)
    took_ns = float((jovik.folder / "took").read_text()) * 1e9
    # The limit lets 20 MB through in a second; the device itself takes next to nothing.
    assert found["reads"] == 80 and found["waited_ns"] < 0.2 * took_ns
    assert 0.8 * took_ns < found["above_ns"] + found["waited_ns"] < 1.02 * took_ns
    assert found["by_others"] == 0
    told = jovik("record", "show", "a.jrec").out
    assert "waited above it" in " ".join(told.split())
    known = dependencies(read_recording(jovik.folder / "a.jrec")[0])
    assert known.think_ns[1:].sum() < 0.3 * took_ns, "the wait above is nobody's think time"


def test_limits_of_both_versions_and_all_levels_are_known(tmp_path: Path) -> None:
    proc, top = tmp_path / "proc", tmp_path / "groups"
    (proc / "self").mkdir(parents=True)
    (top / "v1" / "a").mkdir(parents=True)
    (top / "v2" / "shop" / "job").mkdir(parents=True)
    lines = [f"1 0 0:1 / {top}/v1 rw - cgroup cgroup rw,blkio"]
    lines += [f"2 0 0:2 / {top}/v2 rw - cgroup2 cgroup2 rw"]
    (proc / "self" / "mountinfo").write_text("\n".join(lines) + "\n")
    (proc / "self" / "cgroup").write_text("7:blkio:/a\n3:cpuset:/\n0::/shop/job\n")
    knob = top / "v1" / "a" / "blkio.throttle.write_iops_device"
    knob.write_text("7:3 200\n")
    (top / "v2" / "shop" / "io.max").write_text("254:0 rbps=40000000 wbps=max riops=max wiops=9\n")
    assert set(io_limits(proc)) == {
        IoLimit("7:3", "write", "I/Os", 200),
        IoLimit("254:0", "read", "bytes", 40_000_000),
        IoLimit("254:0", "write", "I/Os", 9),
    }
    assert io_limits(tmp_path / "nowhere") == []
