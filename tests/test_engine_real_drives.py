"""Real block devices and file systems, and faults that come from below the engine. Root.

Skipped elsewhere.
"""

from __future__ import annotations

import fcntl
import json
import os
import signal
import sqlite3
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from jovik.engine import io_session as session_module
from jovik.engine.io_session import FileSession
from jovik.steps import parse_access
from tests.conftest import Program
from tests.programs import loop_device, need, run, sparse_file, succeeds

GROUNDTRUTH = Path(
    os.environ.get("JOVIK_GROUNDTRUTH", Path(__file__).parents[2] / "shared" / "groundtruth")
)
SHUT_DOWN = 0x8004587D
"""The shutdown ioctl of ext4 and XFS (EXT4_IOC_SHUTDOWN, XFS_IOC_GOINGDOWN)."""

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="needs root for loop devices and mounts")
ENGINES = pytest.mark.parametrize("engine", ["io_uring", "blocking"])
Mount = Callable[..., Path]


def pointed_at(link: Path) -> str:
    """What an entry of /proc/PID/fd stands for; nothing when it was closed meanwhile."""
    try:
        return os.readlink(link)
    except OSError:
        return ""


@pytest.fixture
def mounted(tmp_path: Path) -> Iterator[Mount]:
    """Makes a file system of its own on a loop device and mounts it.

    All is taken down afterwards.
    """
    undo: list[list[str | Path]] = []

    def make(kind: str, size: int = 320, backing: Path | None = None, sector: int = 512) -> Path:
        tool = f"mkfs.{kind}"
        need(tool, "mount", "losetup")
        image, mount = (backing or tmp_path) / f"{kind}.img", tmp_path / f"{kind}.mnt"
        device = loop_device(sparse_file(image, size << 20), "--sector-size", str(sector))
        undo.append(["losetup", "-d", device])
        quiet = [] if kind == "vfat" else ["-q"]
        run(
            tool,
            *quiet,
            *(["-E", "lazy_itable_init=0,lazy_journal_init=0"] if kind == "ext4" else []),
            device,
        )
        mount.mkdir()
        if not succeeds("mount", device, mount):
            pytest.skip(f"this kernel does not mount {kind}")
        undo.append(["umount", mount])
        return mount

    yield make
    for words in reversed(undo):
        for _ in range(100):
            # A test that is about taking it away has done so itself.
            if words[0] == "umount" and not os.path.ismount(words[1]):
                break
            if succeeds(*words):
                break
            time.sleep(0.1)


def measure(jovik: Program, folder: Path, *words: str, status: int = 0) -> dict[str, object]:
    jovik("sheet", "new", "Test", status=None)
    answer = jovik("measure", folder, "--drive", "Test", *words, "--format", "json", status=status)
    return dict(answer.json) | {"err": answer.err}


@pytest.mark.parametrize("kind", ["ext4", "xfs", "btrfs", "vfat", "tmpfs", "overlay"])
def test_every_file_system_is_measured_directly_or_says_so(
    jovik: Program, mounted: Mount, tmp_path: Path, kind: str
) -> None:
    if kind == "tmpfs":
        folder = Path("/dev/shm")
    elif kind == "overlay":
        base = mounted("ext4")
        for name in ("lower", "upper", "work", "merged"):
            (base / name).mkdir()
        folder = base / "merged"
        options = ",".join(f"{n}dir={base / n}" for n in ("lower", "upper", "work"))
        if not succeeds("mount", "-t", "overlay", "overlay", "-o", options, folder):
            pytest.skip("this kernel has no overlay")
    else:
        folder = mounted(kind)
    try:
        steps = [
            "random mixed 50% read 4KiB depth 4 for 200ms within 16MiB verify",
            "sequential write 64KiB depth 4 over 8MiB verify",
        ]
        told = measure(jovik, folder, *steps, "--passes", "1")
        assert not any(p.name.startswith(".jovik") for p in folder.iterdir())
    finally:
        if kind == "overlay":
            run("umount", folder)
    for step in told["steps"]:  # type: ignore[attr-defined]
        assert step["errors"] == 0 and "every stamp came back as it was written" in step["notes"]
        assert step["conditions"]["direct"] == (kind != "tmpfs")
        assert ("buffered (page cache)" in step["notes"]) == (kind == "tmpfs")


@ENGINES
def test_a_device_that_fails_writes_ends_in_exit_status_4(
    jovik: Program, mounted: Mount, tmp_path: Path, engine: str
) -> None:
    small = tmp_path / "small"
    small.mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=100M", "tmpfs", small)
    try:
        # The device promises 300 MB and its backing has 100: writes beyond fail as those of a
        # worn-out drive do.
        folder = mounted("xfs", backing=small)
        words = [
            "sequential write 1MiB depth 2 over 200MiB",
            "random read 4KiB for 100ms within 1MiB",
            "--passes",
            "1",
            "--engine",
            engine,
        ]
        told = measure(jovik, folder, *words, status=4)
        assert told["state"] == "failed" and [s["errors"] > 0 for s in told["steps"]] == [True]  # type: ignore[attr-defined]
        assert "the drive failed a write at byte" in str(
            told["err"]
        ) and "No space left on device" in str(told["err"])
        run("umount", folder)
    finally:
        succeeds("umount", "-l", small)


@ENGINES
def test_a_drive_that_vanishes_under_load(jovik: Program, mounted: Mount, engine: str) -> None:
    folder = mounted("ext4")
    with FileSession(folder, engine) as session:
        work = parse_access("random read 4KiB depth 8 for 20s within 16MiB").workload(1)
        session.prepare(work, lambda _: None)

        def vanish() -> None:
            fd = os.open(folder, os.O_RDONLY)
            fcntl.ioctl(fd, SHUT_DOWN, struct.pack("I", 2))
            os.close(fd)

        timer = threading.Timer(0.5, vanish)
        timer.start()
        began = time.monotonic()
        trace = session.run(work, lambda _: None)
        timer.join()
    assert time.monotonic() - began < 10
    assert trace.first_fault is not None and trace.first_fault.errno == 5 and trace.errors >= 1
    assert trace.ios > 0 and trace.elapsed_ns > 0.4e9


def test_errors_can_be_counted_instead(jovik: Program, mounted: Mount) -> None:
    folder = mounted("ext4")
    with FileSession(folder) as session:
        work = parse_access("random read 4KiB depth 2 for 500ms within 1MiB").workload(
            1, stop_on_error=False
        )
        session.prepare(work, lambda _: None)
        fd = os.open(folder, os.O_RDONLY)
        fcntl.ioctl(fd, SHUT_DOWN, struct.pack("I", 2))
        os.close(fd)
        trace = session.run(work, lambda _: None)
    assert trace.errors > 100 and trace.ios == 0 and trace.elapsed_ns >= 0.5e9


@ENGINES
def test_a_drive_that_no_longer_answers_is_given_up(
    mounted: Mount, engine: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    need("fsfreeze")
    monkeypatch.setattr(session_module, "STALL_S", 1.0)
    folder = mounted("xfs")
    session = FileSession(folder, engine)
    work = parse_access("random write 4KiB depth 2 for 60s within 1MiB").workload(1)
    session.prepare(work, lambda _: None)
    timer = threading.Timer(0.3, lambda: run("fsfreeze", "--freeze", folder))
    timer.start()
    try:
        began = time.monotonic()
        trace = session.run(work, lambda _: None)
        assert 1.0 < time.monotonic() - began < 15
        assert (
            trace.stopped
            and trace.first_fault is not None
            and "no I/O completed" in trace.first_fault.what
        )
        assert trace.ios > 0
    finally:
        timer.join()
        run("fsfreeze", "--unfreeze", folder)
        session.close()


def test_the_devices_own_block_is_the_least(jovik: Program, mounted: Mount) -> None:
    folder = mounted("ext4", sector=4096)
    jovik("sheet", "new", "Test")
    answer = jovik(
        "measure", folder, "--drive", "Test", "random read 512B for 100ms within 1MiB", status=3
    )
    assert "multiples of 4096 bytes" in answer.err
    assert not any(p.is_file() for p in folder.iterdir())


def test_too_little_space_says_how_much_is_needed(jovik: Program, mounted: Mount) -> None:
    folder = mounted("ext4")
    jovik("sheet", "new", "Test")
    answer = jovik("measure", folder, "--drive", "Test", "sequential write 1MiB over 1GB", status=3)
    assert "free; this needs 999 MB" in answer.err


def test_blocks_changed_behind_its_back_are_found(jovik: Program) -> None:
    jovik("sheet", "new", "Test")
    words = [
        "measure",
        ".",
        "--drive",
        "Test",
        "sequential read 64KiB depth 2 for 6s within 4MiB verify",
        "--passes",
        "1",
        "--format",
        "json",
    ]
    running = subprocess.Popen(
        jovik.command(*words),
        cwd=jovik.folder,
        env=jovik.env,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        for _ in range(300):
            links = [
                p
                for p in Path(f"/proc/{running.pid}/fd").iterdir()
                if str(jovik.folder) in pointed_at(p)
            ]
            if links and os.stat(links[0]).st_blocks * 512 >= 4 * 2**20:
                break
            time.sleep(0.1)
        time.sleep(1.0)
        with open(links[0], "r+b", buffering=0) as behind:
            os.pwrite(behind.fileno(), b"overwritten", 17 * 4096 + 500)
            os.fsync(behind.fileno())
        out, err = running.communicate(timeout=60)
    finally:
        running.kill()
    assert running.returncode == 4, err
    assert "did not return the written data" in err and f"{17 * 4096:,}" in err
    assert json.loads(out)["steps"][0]["errors"] >= 1


@pytest.mark.skipif(not (GROUNDTRUTH / "limited").exists(), reason="needs groundtruth/limited")
@pytest.mark.skipif(not Path("/sys/fs/cgroup/blkio").is_dir(), reason="needs the blkio controller")
@ENGINES
def test_a_rate_that_the_kernel_holds_is_the_rate_that_is_measured(
    jovik: Program, engine: str
) -> None:
    need("losetup", "mkfs.ext4", "mount")
    jovik("sheet", "new", "Held")
    phrase = "random read 64KiB depth 8 for 4s within 64MiB"
    words = jovik.command(
        "measure",
        "{dir}",
        "--drive",
        "Held",
        phrase,
        "--passes",
        "2",
        "--engine",
        engine,
        "--format",
        "json",
    )
    held = [
        GROUNDTRUTH / "limited",
        "--where",
        "/dev/shm",
        "--size",
        "256M",
        "--read-bps",
        "50000000",
        "--",
    ]
    found = []
    for _ in range(4):
        done = subprocess.run(
            [*held, *words], capture_output=True, text=True, env=jovik.env, timeout=120, check=True
        )
        found.append(json.loads(done.stdout)["steps"][0]["rate_bytes_s"]["median"] / 50e6)
        # The kernel lets a first tenth of a second through at once, which is 2.5 % of such a pass.
        assert found[-1] < 1.07
        if found[-1] > 0.97:
            return
    pytest.skip(f"this machine was taken away during each try: {found}")


@pytest.mark.skipif(not (GROUNDTRUTH / "limited").exists(), reason="needs groundtruth/limited")
@pytest.mark.skipif(not Path("/sys/fs/cgroup/blkio").is_dir(), reason="needs the blkio controller")
def test_the_cliff_of_a_device_that_the_kernel_holds_is_found_within_three_percent(
    jovik: Program,
) -> None:
    need("losetup", "mkfs.ext4", "mount")
    jovik("sheet", "new", "Held")
    words = jovik.command(
        "measure",
        "{dir}",
        "--drive",
        "Held",
        "sequential write 256KiB depth 4 over 600MB",
        "--format",
        "json",
    )
    held = [
        GROUNDTRUTH / "limited",
        "--where",
        "/dev/shm",
        "--size",
        "1G",
        "--write-bps",
        "200000000",
        "--cliff",
        "400M:50M",
        "--",
    ]
    found = []
    for _ in range(4):
        done = subprocess.run(
            [*held, *words], capture_output=True, text=True, env=jovik.env, timeout=120, check=True
        )
        cliff = json.loads(done.stdout)["steps"][0]["cliff"]
        assert cliff is not None and cliff["low_bytes"] <= cliff["at_bytes"] <= cliff["high_bytes"]
        found.append(
            (
                cliff["at_bytes"] / 400e6,
                cliff["before_bytes_s"] / 200e6,
                cliff["after_bytes_s"] / 50e6,
            )
        )
        if all(abs(x - 1) < 0.03 for x in found[-1]):
            return
    pytest.skip(f"this machine was taken away during each try: {found}")


def test_an_interrupt_is_heard_while_the_drive_is_silent(jovik: Program, mounted: Mount) -> None:
    need("fsfreeze")
    folder = mounted("xfs")
    jovik("sheet", "new", "Test")
    words = jovik.command(
        "measure",
        folder,
        "--drive",
        "Test",
        "random write 4KiB depth 4 for 60s within 1MiB",
        "--passes",
        "1",
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
    frozen = False
    try:
        for _ in range(200):
            time.sleep(0.1)
            with sqlite3.connect(jovik.shelf) as connection:
                if connection.execute("select count(*) from step").fetchone() == (1,):
                    break
        time.sleep(1.5)
        run("fsfreeze", "--freeze", folder)
        frozen = True
        time.sleep(0.5)
        running.send_signal(signal.SIGINT)
        assert running.stdout is not None
        began = time.monotonic()
        out = ""
        while not out.endswith("\n}\n"):
            line = running.stdout.readline()
            assert line, "it ended without its JSON"
            out += line
        assert time.monotonic() - began < 10 and '"state": "interrupted"' in out
        # The process itself can only go when the kernel lets go of its threads.
        run("fsfreeze", "--unfreeze", folder)
        frozen = False
        assert "interrupted" in running.communicate(timeout=20)[1] and running.returncode == 130
    finally:
        if frozen:
            run("fsfreeze", "--unfreeze", folder)
        running.kill()


@pytest.fixture
def loop(tmp_path: Path) -> Iterator[Callable[..., tuple[str, Path]]]:
    """Makes a bare loop device; its backing file's path stands for a serial."""
    made: list[str] = []

    def make(size: int = 64) -> tuple[str, Path]:
        image = sparse_file(tmp_path / f"raw{len(made)}.img", size << 20)
        made.append(loop_device(image))
        return made[-1], image

    yield make
    for device in made:
        succeeds("losetup", "-d", device)


WRITE = ["random write 4KiB depth 4 for 200ms within 16MiB", "--passes", "1", "--drive", "Test"]


def test_a_blank_device_is_written_only_when_it_is_named(
    jovik: Program, loop: Callable[..., tuple[str, Path]]
) -> None:
    jovik("sheet", "new", "Test")
    device, image = loop()
    before = image.read_bytes()
    assert f"--destroy '{image}'" in jovik("measure", device, *WRITE, status=3).err
    assert (
        "its serial is"
        in jovik("measure", device, *WRITE, "--destroy", "SOMEBODY-ELSE", status=3).err
    )
    told = jovik("measure", device, *WRITE, "--destroy", image, "--dry-run").err
    assert "writes" in told and image.read_bytes() == before
    assert "before it was written, the device was blank: all of it was read" in told
    # Other tests keep the system busy, which may look at the device meanwhile.
    looks = (jovik("scout", device, "--format", "json").json["drives"][0] for _ in range(9))
    can = (o["why"] for look in looks for o in look["obstacles"] if o["what"] == "can do")
    assert any("it is blank: all of it was read" in why for why in can)
    read = jovik(
        "measure",
        device,
        "random read 4KiB depth 4 for 200ms within 16MiB",
        "--passes",
        "1",
        "--drive",
        "Test",
        "--format",
        "json",
    ).json
    assert (
        read["written_bytes"] == 0
        and "read as it is" in read["steps"][0]["notes"][0]
        and image.read_bytes() == before
    )
    done = jovik(
        "measure",
        device,
        *WRITE,
        "sequential write 64KiB over 8MiB verify",
        "--destroy",
        image,
        "--format",
        "json",
    ).json
    assert done["target"] == {"kind": "device", "path": device} and done["steps"][1]["errors"] == 0
    assert any("the device was blank: all of" in n for n in done["steps"][0]["notes"])
    assert image.read_bytes() != before
    assert "destroy" in jovik("measure", ".", *WRITE, "--destroy", image, status=2).err


@pytest.mark.parametrize(
    "kind", ["mounted", "ext4", "xfs", "btrfs", "swap", "partitions", "system"]
)
def test_a_device_that_belongs_to_somebody_is_never_written(
    jovik: Program, loop: Callable[..., tuple[str, Path]], tmp_path: Path, kind: str
) -> None:
    jovik("sheet", "new", "Test")
    if kind == "system":
        found = json.loads(jovik("scout", "/", "--format", "json").out)["drives"][0]
        answer = jovik("measure", found["node"], *WRITE, "--destroy", "anything", status=3)
        assert "is not written: it is the drive this system runs from" in answer.err
        return
    device, image = loop(320)
    if kind == "partitions":
        with open(device, "r+b") as opened:
            opened.seek(510)
            opened.write(b"\x55\xaaEFI PART")
    elif kind == "swap":
        run("mkswap", device)
    else:
        run(f"mkfs.{'ext4' if kind == 'mounted' else kind}", "-q", device)
    mount = tmp_path / "mnt"
    if kind == "mounted":
        mount.mkdir()
        run("mount", device, mount)
    try:
        before = image.read_bytes()
        answer = jovik("measure", device, *WRITE, "--destroy", image, status=3)
        said = {
            "mounted": "is mounted at",
            "swap": "swap space",
            "partitions": "a GUID partition table",
        }.get(kind, "file system")
        assert "is not written:" in answer.err and said in answer.err
        assert image.read_bytes() == before
        obstacles = json.loads(jovik("scout", device, "--format", "json").out)["drives"][0][
            "obstacles"
        ]
        assert any(
            o["what"] == "can do" and ("refused" in o["why"] or "folder" in o["why"])
            for o in obstacles
        )
    finally:
        if kind == "mounted":
            run("umount", mount)


def test_scout_and_identity_of_a_folder_on_a_loop_device(jovik: Program, mounted: Mount) -> None:
    folder = mounted("ext4")
    under = json.loads(jovik("scout", folder, "--format", "json").out)["drives"][0]
    assert under["node"].startswith("/dev/") and not under["node"].startswith("/dev/loop")
    assert "no drive can be identified" in jovik("scout", "/dev/shm", status=3).err
    assert "keeps no health log" in jovik("health", folder, status=3).err or under["kind"] in (
        "NVMe",
        "SATA",
    )


ALTERNATING = """
import subprocess, sys, threading, time
from pathlib import Path

every, rates, words = float(sys.argv[1]), sys.argv[2].split(","), sys.argv[3:]
group = next(x.split(":", 2)[2] for x in open("/proc/self/cgroup").read().split() if ":blkio:" in x)
knob = Path("/sys/fs/cgroup/blkio" + group.strip()) / "blkio.throttle.write_bps_device"
number = knob.read_text().split()[0]

def turn():
    at = 0
    while True:
        time.sleep(every)
        at += 1
        knob.write_text(f"{number} {rates[at % 2]}\\n")

threading.Thread(target=turn, daemon=True).start()
sys.exit(subprocess.run(words).returncode)
"""


@pytest.mark.skipif(not (GROUNDTRUTH / "limited").exists(), reason="needs groundtruth/limited")
@pytest.mark.skipif(not Path("/sys/fs/cgroup/blkio").is_dir(), reason="needs the blkio controller")
def test_a_device_that_the_kernel_holds_to_two_rates_in_turn_alternates(jovik: Program) -> None:
    need("losetup", "mkfs.ext4", "mount")
    jovik("sheet", "new", "Held")
    every = float(os.environ.get("JOVIK_ALTERNATE_S", "1"))
    amount = round(30 * 9 * every)
    words = jovik.command(
        "measure",
        "{dir}",
        "--drive",
        "Held",
        f"sequential write 256KiB depth 4 over {amount}MB",
        "--format",
        "json",
    )
    held = [
        *(GROUNDTRUTH / "limited", "--where", "/dev/shm", "--size", f"{amount + 400}M"),
        *("--write-bps", "40000000", "--", sys.executable, "-c", ALTERNATING),
        *(str(every), "40000000,20000000"),
    ]
    found = []
    for _ in range(3):
        done = subprocess.run(
            [*held, *words], capture_output=True, text=True, env=jovik.env, timeout=300, check=True
        )
        step = json.loads(done.stdout)["steps"][0]
        parts = [p for p in step["facts"]["long_write"]["parts"] if p["shape"] == "alternating"]
        found.append(step["notes"])
        if parts and (
            parts[0]["period_s"] == pytest.approx(2 * every, rel=0.1)
            and parts[0]["rate_bytes_s"]["median"] == pytest.approx(30e6, rel=0.06)
            and step["cliff"] is None
        ):
            print(step["notes"])
            return
    pytest.skip(f"this machine was taken away during each try: {found}")
