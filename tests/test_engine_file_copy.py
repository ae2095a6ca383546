"""Copying real files.

What is written and read, how it is counted, what is left, and how it fails.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import subprocess
import threading
import time
from collections import Counter
from pathlib import Path

import pytest

from jovik.analysis.copy import SequentialRate, copy_finding
from jovik.base.errors import TargetError
from jovik.base.io_session import CopyJob, Progress
from jovik.base.trace import CopyRecord, Trace
from jovik.engine.file_copy import CHUNK_BYTES, CopyFolder, files_of
from jovik.engine.io_session import FileSession
from jovik.engine.own_folder import FILES, LOCK, NAME_PREFIX, READY, OwnFolder, sweep
from jovik.hardware.source_files import files_in
from tests.conftest import Program
from tests.programs import succeeds

ROOM = 10**10
JOB = CopyJob(True, (1_500_000, 3_000_000, 10, 0, 4096), seed=3)


def watch(_: Progress) -> None:
    return None


def there(folder: Path) -> list[Path]:
    return sorted(p for p in folder.rglob("*") if p.is_file() and p.name not in (LOCK, READY))


def test_made_up_files_have_their_sizes_and_no_block_twice(tmp_path: Path) -> None:
    copies = CopyFolder(tmp_path)
    trace = copies.run(JOB, ROOM, watch)
    assert sorted(p.stat().st_size for p in there(tmp_path)) == sorted(JOB.sizes)
    blocks = Counter(
        data[n : n + 4096]
        for p in there(tmp_path)
        for data in (p.read_bytes(),)
        for n in range(0, len(data) - 4095, 4096)
    )
    assert len(blocks) > 1000 and max(blocks.values()) == 1, (
        "a drive that finds equal blocks gains nothing"
    )
    assert trace.written_bytes == sum(JOB.sizes) and trace.ios == 5 and trace.copy.files == 5
    assert (
        0 <= trace.copy.sync_ns <= trace.elapsed_ns
        and trace.copy.source_ns == 0
        and trace.copy.laid_out_bytes == 0
    )
    copies.close()
    assert os.listdir(tmp_path) == []


def test_each_pass_copies_anew_and_copying_out_reads_what_is_there(tmp_path: Path) -> None:
    copies = CopyFolder(tmp_path)
    seen: list[Progress] = []
    big = CopyJob(True, (CHUNK_BYTES * 40,), seed=1)
    for _ in range(2):
        assert copies.run(big, ROOM, seen.append).written_bytes == CHUNK_BYTES * 40
        assert len(there(tmp_path)) == 1
    first = copies.run(CopyJob(False, big.sizes, seed=1), ROOM, watch)
    again = copies.run(CopyJob(False, big.sizes, seed=1), ROOM, watch)
    other = copies.run(CopyJob(False, (1000, 2000), seed=1), ROOM, watch)
    assert (first.read_bytes, first.written_bytes, first.copy.laid_out_bytes) == (
        CHUNK_BYTES * 40,
        0,
        0,
    )
    assert (
        again.copy.laid_out_bytes == 0
        and other.copy.laid_out_bytes == 3000
        and other.read_bytes == 3000
        and other.ios == 2
    )
    assert all(live.done_bytes <= CHUNK_BYTES * 40 for live in seen)
    copies.close()


def test_a_persons_folder_keeps_its_shape_and_the_source_is_timed(tmp_path: Path) -> None:
    source, target = tmp_path / "source", tmp_path / "target"
    (source / "a" / "b").mkdir(parents=True)
    target.mkdir()
    for name in ("top", "a/one", "a/b/two"):
        (source / name).write_bytes(os.urandom(70_000))
    (source / "link").symlink_to(source / "top")
    os.mkfifo(source / "pipe")
    (source / f"{NAME_PREFIX}old").mkdir()
    (source / f"{NAME_PREFIX}old" / "rest").write_bytes(b"x")
    copies = CopyFolder(target)
    trace = copies.run(CopyJob(True, folder=str(source)), ROOM, watch)
    copied = {str(p).split("/files/")[1]: p.read_bytes() for p in there(target)}
    assert copied == {n: (source / n).read_bytes() for n in ("top", "a/one", "a/b/two")}
    assert trace.copy.source_ns > 0 and trace.written_bytes == 210_000
    copies.close()
    assert len(files_in(str(source), skip=NAME_PREFIX)) == 3 and len(files_in(str(source))) == 4


@pytest.mark.parametrize(
    ("make", "said"), [(False, "there is no folder"), (True, "holds no files")]
)
def test_a_folder_without_files_is_refused(tmp_path: Path, make: bool, said: str) -> None:
    if make:
        (tmp_path / "x").mkdir()
    with pytest.raises(TargetError, match=said):
        files_of(CopyJob(True, folder=str(tmp_path / "x")))


def test_more_than_there_is_room_for_is_refused(tmp_path: Path) -> None:
    copies = CopyFolder(tmp_path)
    with pytest.raises(TargetError, match=r"no room for 4\.50 MB"):
        copies.size(JOB, 1000)
    copies.run(JOB, ROOM, watch)
    # What the copies hold themselves is room for the next pass.
    assert copies.size(JOB, 0) == (5, sum(JOB.sizes))
    copies.close()


def test_only_what_nobody_holds_is_swept(tmp_path: Path) -> None:
    living, dead, young = (tmp_path / f"{NAME_PREFIX}{n}" for n in ("living", "dead", "young"))
    for folder in (living, dead, young):
        folder.mkdir()
        (folder / LOCK).touch()
        (folder / "files").mkdir()
    fd = os.open(living / LOCK, os.O_RDWR)
    fcntl.flock(fd, fcntl.LOCK_EX)
    for folder in (living, dead):
        os.utime(folder, (time.time() - 60,) * 2)
    sweep(tmp_path)
    assert sorted(p.name for p in tmp_path.iterdir()) == [
        f"{NAME_PREFIX}living",
        f"{NAME_PREFIX}young",
    ]
    os.close(fd)


def test_what_a_killed_copy_left_goes_at_the_next_start_of_any_kind(
    jovik: Program, tmp_path: Path
) -> None:
    target = tmp_path / "target"
    target.mkdir()
    jovik("sheet", "new", "Test")
    words = ["measure", target, "--drive", "Test", "--passes", "1"]
    copying = subprocess.Popen(
        jovik.command(*words, "copy in 2000 files of 64KiB"),
        cwd=jovik.folder,
        env=jovik.env,
        stderr=subprocess.DEVNULL,
    )
    while not list(target.glob(f"{NAME_PREFIX}*/{FILES}/*/*")):
        time.sleep(0.01)
    copying.kill()
    copying.wait()
    assert list(target.iterdir())
    jovik(*words, "random read 4KiB for 100ms within 1MiB")
    assert list(target.iterdir()) == []


def test_a_folder_that_is_swapped_for_a_link_turns_nothing_elsewhere(tmp_path: Path) -> None:
    target, elsewhere = tmp_path / "target", tmp_path / "elsewhere"
    target.mkdir()
    (elsewhere / FILES / "00000").mkdir(parents=True)
    (elsewhere / FILES / "letter").write_text("somebody's")
    (elsewhere / LOCK).write_text("somebody's")
    before = sorted(p.relative_to(elsewhere) for p in elsewhere.rglob("*"))
    copies = CopyFolder(target)
    copies.run(JOB, 2**30, lambda _: None)
    (own,) = target.iterdir()
    aside = tmp_path / "aside"
    own.rename(aside)
    own.symlink_to(elsewhere)
    trace = copies.run(JOB, 2**30, lambda _: None)
    assert trace.first_fault is None
    copies.close()
    assert sorted(p.relative_to(elsewhere) for p in elsewhere.rglob("*")) == before
    assert own.is_symlink() and list(aside.iterdir()) == []


def test_a_folder_below_that_is_swapped_for_a_link_is_refused(tmp_path: Path) -> None:
    target, elsewhere = tmp_path / "target", tmp_path / "elsewhere"
    target.mkdir()
    elsewhere.mkdir()
    folder = OwnFolder(target)
    os.symlink(elsewhere, FILES, dir_fd=folder.fd)
    with pytest.raises(OSError):
        folder.create("a/b")
    os.unlink(FILES, dir_fd=folder.fd)
    os.close(folder.create("a/b"))
    (own,) = target.iterdir()
    (own / FILES / "a" / "b").unlink()
    (own / FILES / "a" / "b").symlink_to(elsewhere / "victim")
    with pytest.raises(OSError):
        folder.create("a/b")
    with pytest.raises(OSError):
        folder.open("a/b")
    folder.close()
    assert list(elsewhere.iterdir()) == [] and list(target.iterdir()) == []


def test_what_took_the_place_of_the_folder_is_not_deleted(tmp_path: Path) -> None:
    """Nor by the sweep of a later start, whatever it is called."""
    target = tmp_path / "target"
    target.mkdir()
    folder = OwnFolder(target)
    (own,) = target.iterdir()
    own.rename(tmp_path / "aside")
    own.mkdir()
    (own / "letter").write_text("somebody's")
    folder.close()
    assert (own / "letter").read_text() == "somebody's"
    link = target / f"{NAME_PREFIX}link"
    link.symlink_to(tmp_path / "aside")
    os.utime(own, (time.time() - 60,) * 2)
    sweep(target)
    assert (own / "letter").exists() and link.is_symlink()


@pytest.mark.skipif(os.geteuid() != 0, reason="needs root for another user's folder")
def test_roots_copies_stay_roots_while_links_are_swapped_beside_them(tmp_path: Path) -> None:
    """Many starts against somebody who turns every name into a link, as fast as it goes."""
    target, elsewhere = tmp_path / "target", tmp_path / "elsewhere"
    target.mkdir()
    (elsewhere / FILES).mkdir(parents=True)
    (elsewhere / FILES / "letter").write_text("somebody's")
    ended = threading.Event()

    def somebody() -> None:
        number = 0
        while not ended.is_set():
            for name in os.listdir(target):
                number += 1
                with contextlib.suppress(OSError):
                    os.rename(target / name, tmp_path / f"aside{number}")
                    os.symlink(elsewhere, target / name)
                with contextlib.suppress(OSError):
                    os.unlink(target / name)

    thread = threading.Thread(target=somebody)
    thread.start()
    try:
        for _ in range(int(os.environ.get("JOVIK_RACES", "20"))):
            with contextlib.suppress(TargetError):
                copies = CopyFolder(target)
                try:
                    copies.run(CopyJob(True, (4096,) * 3), 2**30, lambda _: None)
                finally:
                    copies.close()
            sweep(target)
    finally:
        ended.set()
        thread.join()
    assert [str(p.relative_to(elsewhere)) for p in sorted(elsewhere.rglob("*"))] == [
        FILES,
        f"{FILES}/letter",
    ]


def test_the_slices_are_the_copy(tmp_path: Path) -> None:
    with FileSession(tmp_path) as session:
        trace = session.copy(CopyJob(True, (200_000,) * 300, seed=2), watch)
        assert session.copy_size(CopyJob(True, (5, 6))) == (2, 11)
    assert (
        trace.slices[:, 2].sum() == 60_000_000
        and trace.slices[:, 3].sum() == 300
        and not trace.slices[:, :2].any()
    )
    assert (
        len(trace.slices) * 10**8 >= trace.elapsed_ns
        and trace.engine == "buffered calls"
        and not trace.direct
    )
    assert os.listdir(tmp_path) == []


@pytest.mark.skipif(os.geteuid() != 0, reason="needs root to mount")
def test_a_drive_that_is_full_in_the_middle_is_a_fault_with_what_was_copied(tmp_path: Path) -> None:
    if not succeeds("mount", "-t", "tmpfs", "-o", "size=4M", "tmpfs", tmp_path):
        pytest.skip("nothing can be mounted here")
    try:
        copies = CopyFolder(tmp_path)
        trace = copies.run(CopyJob(True, (2**20,) * 10, seed=1), ROOM, watch)
        assert (
            trace.first_fault is not None
            and trace.first_fault.what == "No space left on device"
            and 0 < trace.written_bytes < 10 * 2**20
        )
        copies.close()
        assert os.listdir(tmp_path) == []
    finally:
        succeeds("umount", tmp_path)


def passed(
    seconds: float, source: float = 0.0, sync: float = 0.0, size: int = 10**9, files: int = 10
) -> Trace:
    import numpy as np

    record = CopyRecord(files, size, round(sync * 1e9), round(source * 1e9))
    return Trace(
        "buffered calls",
        False,
        1,
        round(seconds * 1e9),
        0,
        0,
        np.zeros((1, 5), np.int64),
        {},
        copy=record,
    )


def test_what_a_copy_comes_to_and_when_the_source_was_measured_instead() -> None:
    found, words, limits = copy_finding(
        [passed(5), passed(5.1), passed(4.9)], SequentialRate(400e6, "sequential write 1MiB")
    )
    assert (
        found.seconds == 5
        and found.files_s == 2
        and found.of_sequential == pytest.approx(0.5)
        and not words
        and not limits
    )
    _, words, limits = copy_finding([passed(5, source=4, sync=1)], None)
    assert words == ["the final sync took 20 % of the time"]
    assert (
        [x.what for x in limits] == ["source"]
        and limits[0].rate_bytes_s == pytest.approx(250e6)
        and "80 %" in limits[0].note
    )
    assert copy_finding([passed(5, source=2)], None)[2] == []
