"""What must never be written: marks, data that nobody can name, and devices that somebody uses."""

from __future__ import annotations

import io
import itertools
import os
import re
import signal
import stat
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.base import stamp
from jovik.base.errors import TargetError
from jovik.hardware import contents, libblkid, signatures
from jovik.hardware.device import by_node, partition_of
from jovik.hardware.device_users import occupants, writers
from tests.conftest import Program
from tests.programs import loop_device, need, run, sparse_file, succeeds

ROOT = pytest.mark.skipif(os.geteuid() != 0, reason="needs root for loop devices and mounts")
MIB = 2**20
ODD = 64 * MIB + 512 * 7
"""A size that is no multiple of 4 KiB."""
WRITE = ["random write 4KiB depth 4 for 200ms within 16MiB", "--passes", "1", "--drive", "Test"]


# Marks


def look(content: bytearray) -> contents.Contents:
    """What is found in an image that lies in a file, as libblkid needs it."""
    with tempfile.TemporaryFile() as opened:
        opened.write(content)
        opened.flush()
        return contents.look_into(opened, len(content))


@pytest.mark.parametrize(("at", "mark", "what"), signatures.SIGNATURES)
def test_every_mark_at_the_start_is_found(at: int, mark: bytes, what: str) -> None:
    size = max(4 * MIB, at + MIB)
    blank = io.BytesIO(bytes(size))
    assert signatures.find(blank, size) == []
    blank.seek(at)
    blank.write(mark)
    assert what in signatures.find(blank, size)


@pytest.mark.parametrize("size", [4 * MIB, 4 * MIB + 512, 4 * MIB + 512 * 7])
@pytest.mark.parametrize(("within", "mark", "what"), signatures.END_SIGNATURES)
def test_every_mark_at_the_end_is_found(within: int, mark: bytes, what: str, size: int) -> None:
    for sectors in (1, 2, 9, 128):
        image = io.BytesIO(bytes(size))
        image.seek(size - sectors * 512 + within)
        image.write(mark)
        assert what in signatures.find(image, size), sectors


MD = 0xA92B4EFC
PLACED = {
    "bcachefs of today": (4096 + 24, bytes.fromhex("c68573f666ce90a9d96a60cf803df7ef"), "bcachefs"),
    "BFS": (0, struct.pack("<I", 0x1BADFACE), "BFS"),
    "Ceph": (0, b"bluestore block device\n", "Ceph"),
    "ASM": (32, b"ORCLDISK", "Oracle ASM"),
    "VMFS": (MIB, struct.pack("<I", 0xC001D00D), "VMFS"),
    "OCFS2": (8192, b"OCFSV2", "OCFS2"),
    "GFS2": (65536, struct.pack(">I", 0x01161970), "GFS2"),
    "VDO": (0, b"dmvdo001", "VDO"),
    "Stratis": (512 + 4, b"!Stra0tis\x86\xff\x02^\x41rh", "Stratis"),
    "VxFS": (1024, struct.pack("<I", 0xA501FCF5), "VxFS"),
    "UFS2": (65536 + 1372, struct.pack("<I", 0x19540119), "UFS2"),
    "cramfs": (0, struct.pack("<I", 0x28CD3D45), "cramfs"),
    "Intel firmware RAID": (-1024, b"Intel Raid ISM Cfg Sig. 1.3.00", "firmware RAID"),
    "DDF": (-512, struct.pack(">I", 0xDE11DE11), "DDF"),
    "DRBD": (-4096 + 60, struct.pack(">I", 0x8374026B), "DRBD"),
    "Sun label": (508, struct.pack(">H", 0xDABE), "Sun"),
    "BSD label": (512, struct.pack("<I", 0x82564557), "BSD"),
    "Apple map": (512, b"PM\0\0\0\0\0\2", "Apple"),
    "LUKS2, second header only": (0x400000, b"SKUL\xba\xbe\0\2", "LUKS2"),
    "ZFS, late uberblock": (255 * 1024, struct.pack("<Q", 0xBAB10C), "ZFS"),
    "ZFS, end label only": (-(256 - 130) * 1024, struct.pack(">Q", 0xBAB10C), "ZFS"),
    "64 KiB pages swap": (65536 - 10, b"SWAPSPACE2", "swap"),
    "hibernated": (4096 - 10, b"S1SUSPEND\0", "hibernated"),
    "minix": (1024 + 16, struct.pack("<H", 0x138F), "minix"),
    "md 0.90": ("0.90", struct.pack("<I", MD), "RAID"),
    "md 1.0": ("1.0", struct.pack("<I", MD), "RAID"),
    "tar": (257, b"ustar  \0", "tar"),
}


@pytest.mark.parametrize("size", [64 * MIB, ODD])
@pytest.mark.parametrize("name", PLACED)
def test_marks_that_nobody_knew(name: str, size: int) -> None:
    at, mark, said = PLACED[name]
    if at == "0.90":  # the last whole 64 KiB but one (Documentation/admin-guide/md.rst)
        at = size // 65536 * 65536 - 65536
    elif at == "1.0":  # 8 KiB from the end, on a multiple of 4 KiB
        at = (size // 512 - 16) // 8 * 8 * 512
    assert isinstance(at, int)
    content = bytearray(size)
    at = at if at >= 0 else size + at
    content[at : at + len(mark)] = mark
    assert said in " ".join(look(content).marks)


@pytest.mark.parametrize("at", [0, 4096, 32 * MIB + 5, 64 * MIB - 1, ODD - 1])
def test_anything_but_zeros_is_something(at: int) -> None:
    size = ODD if at >= 64 * MIB else 64 * MIB
    content = bytearray(size)
    blank = look(content)
    assert blank.data_at is None and blank.checked_bytes == blank.size_bytes == size
    content[at] = 1
    found = look(content)
    assert found.data_at == at // 4096 * 4096 and not found.marks


@given(st.integers(1, 70 * MIB), st.integers(1, 20_000), st.data())
def test_nothing_on_a_small_device_is_missed(size: int, length: int, data: st.DataObject) -> None:
    """13 kB between two samples of 64 MiB were once overwritten."""
    at = data.draw(st.integers(0, size - 1))
    content = bytearray(size)
    content[at : at + length] = b"x" * min(length, size - at)
    with tempfile.TemporaryFile() as opened:
        opened.write(content)
        opened.flush()
        found = contents.look_into(opened, size, whole=True)
    assert found.data_at == at // 4096 * 4096 or found.marks


@given(st.integers(1, 2**50))
def test_the_places_that_are_looked_at_lie_on_the_device(size: int) -> None:
    count = -(-size // contents.SLOT_BYTES)
    first = contents.first_slots(size)
    assert first == sorted(set(first)) and first[0] >= 0 and first[-1] == count - 1
    assert len(first) <= 400 and set(range(min(count, 16))) <= set(first)
    some = list(itertools.islice(contents.every_slot(size), 100))
    assert len(some) == min(100, count) == len(set(some)) and max(some) < count
    if count <= 2000:
        assert sorted(contents.every_slot(size)) == list(range(count))
    else:
        # After a hundred, no gap is larger than a 25th of the device.
        places = sorted([0, *some, count])
        assert max(b - a for a, b in itertools.pairwise(places)) <= count / 25 + 1


def test_a_device_that_was_only_sampled_is_not_called_blank(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(contents, "LOOK_S", 0.0)
    size = 8 * 2**30
    with tempfile.TemporaryFile() as opened:
        opened.truncate(size)
        found = contents.look_into(opened, size, whole=True)
        assert found.checked_bytes < size / 100
        assert re.fullmatch(r"blank where checked: [\d.]+ MB of 8\.59 GB", found.blank_words)
        monkeypatch.setattr(contents, "LOOK_S", 60.0)
        monkeypatch.setattr(contents, "WHOLE_BYTES", 9 * 2**30)
        opened.truncate(64 * MIB)
        assert contents.look_into(opened, 64 * MIB, whole=True).blank_words == (
            "blank: all of it was read"
        )
        opened.seek(9 * MIB)
        opened.write(struct.pack("<4Q", 9 * MIB, 1, 2, stamp.mix(9 * MIB, 1, 2)))
        opened.flush()
        own = contents.look_into(opened, 64 * MIB, whole=True)
        assert own.blank_words == "blank, or written by Jovik: all of it was read"


def test_libblkid_finds_what_the_table_does_not(monkeypatch: pytest.MonkeyPatch) -> None:
    if not libblkid.is_here():
        pytest.skip("needs libblkid.so.1 (Debian: libblkid1)")
    monkeypatch.setattr(signatures, "find", lambda *_: [])
    content = bytearray(4 * MIB)
    content[:4] = b"XFSB"
    content[1024 + 0x38 : 1024 + 0x3A] = b"\x53\xef"
    content[1024 + 0x18 : 1024 + 0x1C] = struct.pack("<I", 2)
    content[1024 + 0x4C : 1024 + 0x50] = struct.pack("<I", 1)
    assert any("libblkid calls 'ext" in what for what in look(content).marks)


def test_a_system_without_libblkid_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(libblkid, "is_here", lambda: False)
    assert "only the marks that Jovik knows" in look(bytearray(4 * MIB)).note


# What Jovik wrote itself


@given(
    place=st.integers(0, 2**40).map(lambda n: n * 512),
    generation=st.integers(0, 2**30),
    seed=st.integers(1, 2**62),
)
def test_the_stamp_of_the_loops_is_known_again(place: int, generation: int, seed: int) -> None:
    from jovik.engine.kernel.primitives import mix

    with np.errstate(over="ignore"):
        compiled = int(mix(place, generation, seed))
    assert stamp.mix(place, generation, seed) == compiled
    head = struct.pack("<4Q", place, generation, seed, compiled ^ 4096 * 7)
    assert stamp.is_stamp(head, place)
    assert not stamp.is_stamp(head, place + 512)
    assert not stamp.is_stamp(bytes(32), 0)
    other = bytes([head[16] ^ 1])
    assert not stamp.is_stamp(head[:16] + other + head[17:], place)


# Who uses it


def test_who_uses_a_device_is_read_from_the_kernel(tmp_path: Path) -> None:
    sys_, proc = tmp_path / "sys", tmp_path / "proc"
    disk = sys_ / "devices" / "sda"
    for name, number in (("", "8:0"), ("sda1", "8:1")):
        (disk / name / "holders").mkdir(parents=True, exist_ok=True)
        (disk / name / "dev").write_text(f"{number}\n")
    (disk / "sda1" / "partition").write_text("1\n")
    (sys_ / "block").mkdir()
    (proc / "self").mkdir(parents=True)
    assert occupants(disk, sys_, proc) == []
    line = "36 35 8:1 / /mnt/x rw shared:1 - ext4 /dev/sda1 rw\n"
    (proc / "self" / "mountinfo").write_text(line)
    (proc / "swaps").write_text("Filename Type Size Used Priority\n/dev/sda partition 1 0 -2\n")
    (disk / "sda1" / "holders" / "dm-0").mkdir()
    member = sys_ / "fs" / "btrfs" / "0a-1b" / "devices" / "sda1"
    member.mkdir(parents=True)
    assert occupants(disk, sys_, proc) == [
        "/dev/sda1 (ext4) is mounted at /mnt/x",
        "sda is swapped to",
        "dm-0 is built on it",
        "it belongs to a mounted btrfs file system",
    ]


@pytest.fixture
def loop(tmp_path: Path) -> Iterator[Callable[..., tuple[str, Path]]]:
    """Makes a bare loop device; its backing file's path stands for a serial."""
    made: list[str] = []

    def make(size: int = 64, image: Path | str | None = None) -> tuple[str, Path]:
        backing = image or sparse_file(tmp_path / f"raw{len(made)}.img", size << 20)
        made.append(loop_device(Path(backing)))
        return made[-1], Path(backing)

    yield make
    for device in reversed(made):
        succeeds("losetup", "-d", device)


def refused(jovik: Program, device: str, image: Path, *more: str) -> str:
    """What is said against writing the device, of which no byte is changed."""
    before = image.read_bytes()
    answer = jovik("measure", device, *WRITE, "--destroy", image, *more, status=3)
    assert image.read_bytes() == before
    assert "is not written: " in answer.err
    return answer.err


@pytest.fixture
def known(jovik: Program) -> Program:
    jovik("sheet", "new", "Test")
    return jovik


LUKS = "--pbkdf pbkdf2 --pbkdf-force-iterations 1000"
MADE = {
    "ext4": (64, "mkfs.ext4 -q IMAGE"),
    "xfs": (320, "mkfs.xfs -q IMAGE"),
    "btrfs": (128, "mkfs.btrfs -q IMAGE"),
    "vfat": (64, "mkfs.vfat IMAGE"),
    "exfat": (64, "mkfs.exfat IMAGE"),
    "ntfs": (64, "mkfs.ntfs -F -Q IMAGE"),
    "minix": (64, "mkfs.minix IMAGE"),
    "minix, version 3": (64, "mkfs.minix -3 IMAGE"),
    "SCO BFS": (64, "mkfs.bfs IMAGE"),
    "F2FS": (128, "mkfs.f2fs -f IMAGE"),
    "NILFS2": (256, "mkfs.nilfs2 -f IMAGE"),
    "JFS": (64, "mkfs.jfs -q IMAGE"),
    "OCFS2": (300, "mkfs.ocfs2 -M local -F -x IMAGE"),
    "GFS2": (128, "mkfs.gfs2 -O -p lock_nolock IMAGE"),
    "ReiserFS": (64, "mkfs.reiserfs -ff IMAGE"),
    "UDF": (64, "mkfs.udf IMAGE"),
    "cramfs": (64, "mkfs.cramfs FOLDER IMAGE"),
    "SquashFS": (64, "mksquashfs FOLDER IMAGE -noappend"),
    "EROFS": (64, "mkfs.erofs IMAGE FOLDER"),
    "ISO 9660": (64, "genisoimage -quiet -o IMAGE FOLDER"),
    "LUKS1": (64, "cryptsetup luksFormat -q --type luks1 --pbkdf-force-iterations 1000 IMAGE KEY"),
    "LUKS2": (64, f"cryptsetup luksFormat -q --type luks2 {LUKS} IMAGE KEY"),
    "swap": (64, "mkswap IMAGE"),
    "swap with pages of 64 KiB": (64, "mkswap -p 65536 IMAGE"),
    "bcache": (64, "make-bcache -B IMAGE"),
    "GPT": (64, "sfdisk IMAGE <gpt"),
    "DOS table": (64, "sfdisk IMAGE <dos"),
    "Sun label": (64, "sfdisk IMAGE <sun"),
    "SGI label": (64, "sfdisk IMAGE <sgi"),
    "LVM volume": (64, "pvcreate -ff -y IMAGE"),
    "tar": (64, "tar -cf IMAGE FOLDER"),
}
"""Images that the real program makes: MiB, and its words."""


@ROOT
@pytest.mark.parametrize("kind", MADE)
def test_what_a_real_program_made_is_not_written(
    known: Program, loop: Callable[..., tuple[str, Path]], tmp_path: Path, kind: str
) -> None:
    size, words = MADE[kind]
    line, _, label = words.partition(" <")
    need(line.split()[0])
    (tmp_path / "folder").mkdir()
    (tmp_path / "folder" / "file").write_text("somebody's")
    (tmp_path / "key").write_text("secret")
    image = sparse_file(tmp_path / "made.img", size << 20)
    on_device = kind == "LVM volume"
    device = loop(image=image)[0] if on_device else ""
    places = {"IMAGE": device or image, "FOLDER": tmp_path / "folder", "KEY": tmp_path / "key"}
    subprocess.run(
        [str(places.get(w, w)) for w in line.split()],
        input=f"label: {label}\n" if label else None,
        check=True,
        capture_output=True,
        text=True,
    )
    with image.open("r+b") as file:
        file.truncate(max(size << 20, image.stat().st_size))
    device = device or loop(image=image)[0]
    # No option overrules a mark that is known.
    told = refused(known, device, image, "--content-worthless")
    assert "it holds " in told
    assert "writing is refused" in known("scout", device).out.replace("\n", " ")


@ROOT
def test_data_that_nobody_can_name_is_overwritten_only_where_it_is_said_to_be_worthless(
    known: Program, loop: Callable[..., tuple[str, Path]]
) -> None:
    device, image = loop()
    with image.open("r+b") as file:
        file.seek(32 * MIB)
        file.write(os.urandom(4096))
    told = refused(known, device, image)
    assert "something is on it, at 33.6 MB" in told and "--content-worthless" in told
    assert "--content-worthless" in known("scout", device).out.replace("\n", " ")
    known("measure", device, *WRITE, "--destroy", image, "--content-worthless")
    assert (
        "is for raw devices" in known("measure", ".", *WRITE, "--content-worthless", status=2).err
    )


@ROOT
def test_what_jovik_wrote_is_written_again(
    known: Program, loop: Callable[..., tuple[str, Path]]
) -> None:
    device, image = loop()
    steps = ["random write 512B depth 4 for 100ms within 1MiB", "sequential write 64KiB over 2MiB"]
    for _ in range(2):
        known("measure", device, *steps, *WRITE, "--destroy", image)


@ROOT
def test_a_loop_device_on_a_loop_device_is_somebodys(
    known: Program, loop: Callable[..., tuple[str, Path]], tmp_path: Path
) -> None:
    need("mkfs.ext4", "mount", "umount")
    device, image = loop()
    above, _ = loop(image=device)
    assert f"{Path(above).name} is based on it" in refused(known, device, image)
    run("mkfs.ext4", "-q", above)
    (tmp_path / "mnt").mkdir()
    run("mount", above, tmp_path / "mnt")
    try:
        (tmp_path / "mnt" / "letter").write_text("somebody's")
        told = refused(known, device, image)
        assert f"{Path(above).name} is based on it ({above} (ext4) is mounted at" in told
        assert f"{Path(above).name} is based on it" in known("scout", device).out.replace("\n", " ")
        # And the other way round: what the device itself rests on.
        other, _ = loop(image=device)
        told = known("measure", other, *WRITE, "--destroy", device, status=3).err
        assert "it is based on" in told or "same serial" in told
    finally:
        run("umount", tmp_path / "mnt")


@ROOT
def test_an_image_under_another_name_is_the_same_file(
    known: Program, loop: Callable[..., tuple[str, Path]], tmp_path: Path
) -> None:
    first, image = loop()
    other_name = tmp_path / "another name"
    other_name.hardlink_to(image)
    device, _ = loop(image=other_name)
    told = refused(known, device, other_name)
    assert f"its image is behind {Path(first).name} too" in told
    need("mkfs.ext4", "mount", "umount")
    run("mkfs.ext4", "-q", first)
    (tmp_path / "mnt").mkdir()
    run("mount", first, tmp_path / "mnt")
    try:
        told = refused(known, device, other_name)
        assert f"is behind {Path(first).name} too ({first} (ext4) is mounted at" in told
    finally:
        run("umount", tmp_path / "mnt")


@ROOT
def test_an_image_that_another_process_writes_is_somebodys(
    known: Program, loop: Callable[..., tuple[str, Path]], tmp_path: Path
) -> None:
    """Such as a virtual machine that runs from the same file by another name."""
    device, image = loop()
    other_name = tmp_path / "another name"
    other_name.hardlink_to(image)
    code = f"import time; f = open({str(other_name)!r}, 'r+b'); print('open', flush=True); input()"
    words = [sys.executable, "-c", code]
    with subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as holder:
        assert holder.stdout is not None and holder.stdout.readline()
        told = refused(known, device, image)
        assert f"process {holder.pid}" in told and "holds it open for writing" in told
        holder.kill()
    known("measure", device, *WRITE, "--destroy", image)


@ROOT
def test_two_devices_of_one_name_are_told_apart_by_detaching_one(
    known: Program, loop: Callable[..., tuple[str, Path]]
) -> None:
    device, image = loop()
    other, _ = loop(image=image)
    told = refused(known, device, image)
    assert f"its image is behind {Path(other).name} too" in told


@ROOT
def test_a_partition_is_named_as_one(known: Program, tmp_path: Path) -> None:
    need("sfdisk", "losetup")
    image = sparse_file(tmp_path / "parts.img", 64 << 20)
    subprocess.run(
        ["sfdisk", "-q", str(image)], input="label: gpt\nsize=16M\n", check=True, text=True
    )
    device = loop_device(image, "--partscan")
    try:
        found = Path("/sys/block") / Path(device).name / f"{Path(device).name}p1" / "dev"
        if not found.exists():
            pytest.skip("the kernel knows no partitions of loop devices here")
        major, minor = map(int, found.read_text().split(":"))
        part = tmp_path / "p1"
        os.mknod(part, 0o600 | stat.S_IFBLK, os.makedev(major, minor))
        told = known("measure", part, *WRITE, "--destroy", image, status=3).err
        assert f"{part} is a partition of {device}" in told
        assert "1 partition" in refused(known, device, image)
    finally:
        succeeds("losetup", "-d", device)


def test_the_node_of_a_partition_leads_to_its_drive(tmp_path: Path) -> None:
    disk = tmp_path / "devices" / "sda"
    (disk / "sda1").mkdir(parents=True)
    (disk / "queue").mkdir()
    (disk / "sda1" / "partition").write_text("1\n")
    (tmp_path / "dev" / "block").mkdir(parents=True)
    # Any node will do: it is its number that leads into sysfs.
    number = os.stat("/dev/null").st_rdev
    link = tmp_path / "dev" / "block" / f"{os.major(number)}:{os.minor(number)}"
    link.symlink_to(disk / "sda1")
    node = Path("/dev/null")
    assert by_node(node, tmp_path, tmp_path) is None
    whole = partition_of(node, tmp_path, tmp_path)
    assert whole is not None and whole.node == "/dev/sda"
    link.unlink()
    link.symlink_to(disk)
    found = by_node(node, tmp_path, tmp_path)
    assert found is not None and found.node == "/dev/sda"
    assert partition_of(node, tmp_path, tmp_path) is None


@ROOT
def test_a_mount_in_another_namespace_is_seen(
    known: Program, loop: Callable[..., tuple[str, Path]], tmp_path: Path
) -> None:
    need("mkfs.ext4", "unshare", "mount")
    device, image = loop()
    run("mkfs.ext4", "-q", device)
    (tmp_path / "mnt").mkdir()
    hidden = subprocess.Popen(
        ["unshare", "-m", "sh", "-c", f"mount {device} {tmp_path}/mnt && echo in && exec sleep 60"],
        stdout=subprocess.PIPE,
        text=True,
    )
    try:
        assert hidden.stdout is not None
        if hidden.stdout.readline() != "in\n":
            pytest.skip("no mount namespace of its own is allowed here")
        told = refused(known, device, image)
        assert f"is mounted at {tmp_path}/mnt in the namespace of process" in told
    finally:
        hidden.kill()
        hidden.wait()


@ROOT
def test_a_device_that_others_hold_or_use_is_left_alone(
    known: Program, loop: Callable[..., tuple[str, Path]]
) -> None:
    device, image = loop()
    fd = os.open(device, os.O_RDWR)
    try:
        entry = Path("/sys/block") / Path(device).name
        assert writers(entry.resolve()) == []  # its own descriptors count for nobody
        told = refused(known, device, image)
        assert "holds it open for writing" in told and f"process {os.getpid()}" in told
    finally:
        os.close(fd)
    reading = threading.Event()

    def read() -> None:
        reader = os.open(device, os.O_RDONLY | os.O_DIRECT)
        import mmap

        room = mmap.mmap(-1, 4096)
        while not reading.is_set():
            os.preadv(reader, [room], 0)
        os.close(reader)

    thread = threading.Thread(target=read)
    thread.start()
    try:
        assert "others are reading or writing it" in refused(known, device, image)
    finally:
        reading.set()
        thread.join()


@ROOT
def test_the_cost_of_a_plan_on_a_device_needs_no_permission(
    known: Program, loop: Callable[..., tuple[str, Path]]
) -> None:
    device, image = loop(3000)
    shown = known("plan", "show", "first-look", "--target", device).out
    assert f"on {device}: about" in shown and "writes about" in shown
    known("measure", device, "--plan", "first-look", "--dry-run", status=3)
    assert image.stat().st_blocks == 0, "nothing was written"


@ROOT
def test_a_device_under_test_cannot_be_mounted_or_formatted(
    known: Program, loop: Callable[..., tuple[str, Path]], tmp_path: Path
) -> None:
    need("mkfs.ext4", "mount")
    device, image = loop()
    running = subprocess.Popen(
        known.command(
            "measure",
            device,
            "random write 4KiB depth 4 for 30s within 16MiB",
            *("--drive", "Test", "--destroy", image),
        ),
        cwd=known.folder,
        env=known.env,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        assert running.stderr is not None
        for line in running.stderr:
            # Before that, whoever ignores SIGINT, as a shell's background job does, ignores it.
            if "[1/1]" in line:
                break
        assert not succeeds("mkfs.ext4", "-q", device)
        assert not succeeds("mount", device, tmp_path)
    finally:
        running.send_signal(signal.SIGINT)
        running.wait(100)


@ROOT
def test_no_byte_is_written_where_somebody_was_quicker(
    known: Program, loop: Callable[..., tuple[str, Path]], tmp_path: Path
) -> None:
    """Mounting and formatting in a loop beside many starts: what was somebody's stays whole."""
    need("mkfs.ext4", "mount", "umount")
    device, image = loop()
    (tmp_path / "mnt").mkdir()
    ended = threading.Event()
    broken: list[str] = []

    def somebody() -> None:
        while not ended.is_set():
            subprocess.run(["wipefs", "-aq", device], check=False, capture_output=True)
            if not succeeds("mkfs.ext4", "-qF", device):
                continue
            if not succeeds("mount", device, tmp_path / "mnt"):
                continue
            try:
                (tmp_path / "mnt" / "letter").write_bytes(b"somebody's" * 1000)
                time.sleep(0.05)
            finally:
                run("umount", tmp_path / "mnt")
            if not succeeds("fsck.ext4", "-fn", device):
                broken.append("a file system was damaged")

    thread = threading.Thread(target=somebody)
    thread.start()
    try:
        for _ in range(int(os.environ.get("JOVIK_RACES", "12"))):
            known("measure", device, *WRITE, "--destroy", image, "--content-worthless", status=None)
    finally:
        ended.set()
        thread.join()
    assert broken == []


def test_a_device_that_is_another_one_by_now_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    from dataclasses import replace

    from jovik.hardware import safety
    from jovik.hardware.device import devices

    found = devices()
    if not found:
        pytest.skip("no block device here")
    first = found[0]
    opened = os.open("/dev/null", os.O_RDWR)
    monkeypatch.setattr(safety, "open_exclusively", lambda *_: opened)
    monkeypatch.setattr(safety, "device_of", lambda _: replace(first, number="0:0"))
    with pytest.raises(TargetError, match="is another device now"):
        safety.claim_for_writing(first, first.serial, None)
    with pytest.raises(OSError):
        os.fstat(opened)
