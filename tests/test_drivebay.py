"""Drives behind real drivers in a virtual machine: volume managers, RAID, encryption, partitions.

A boot takes a minute or more, so these run only where ``JOVIK_DRIVEBAY`` names the program that
boots one, as root: ``JOVIK_DRIVEBAY=../shared/drivebay/drivebay pytest tests/test_drivebay.py``.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

BAY = os.environ.get("JOVIK_DRIVEBAY")
TOP = Path(__file__).parents[1]

pytestmark = pytest.mark.skipif(
    not BAY or os.geteuid() != 0, reason="needs JOVIK_DRIVEBAY to name a drive bay, and root"
)

SCRIPT = """
export PYTHONPATH=/copy:/venv/lib/python3.11/site-packages
export JOVIK_SHELF=/tmp/s.db HOME=/tmp NO_COLOR=1
jovik() { python3 -m jovik "$@"; }
jovik sheet new Test
try() {  # NAME DEVICE SERIAL
  echo "== $1"; sha256sum < $2 > /tmp/before
  jovik measure $2 "random write 4KiB for 100ms within 16MiB" --passes 1 --drive Test \
    --destroy $3 --content-worthless --dry-run 2>&1
  echo "status $?"; sha256sum < $2 > /tmp/after; cmp -s /tmp/before /tmp/after && echo same
}
wipe() {
  for d in "$@"; do wipefs -aq $d; dd if=/dev/zero of=$d bs=1M status=none 2>/dev/null; done
  udevadm settle
}
A=/dev/nvme0n1; B=/dev/nvme1n1
try blank $A SER-A
pvcreate -qq -y $A; vgcreate -qq vg $A; lvcreate -qq -y -L 32M -n lv vg
try "LVM in use" $A SER-A
vgchange -qq -an vg; udevadm settle
try "LVM stopped" $A SER-A
vgremove -qq -ff -y vg; pvremove -qq -ff -y $A; wipe $A
for m in 0.90 1.0 1.2; do
  mdadm --create /dev/md0 --run --metadata=$m --level=1 --raid-devices=2 $A $B >/dev/null 2>&1
  udevadm settle
  try "RAID $m in use" $A SER-A
  mdadm --stop /dev/md0 >/dev/null 2>&1; udevadm settle
  try "RAID $m stopped" $A SER-A
  mdadm --zero-superblock $A $B; wipe $A $B
done
printf pw > /tmp/key
cryptsetup luksFormat -q --type luks2 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 $A /tmp/key
try "LUKS closed" $A SER-A
cryptsetup open --key-file /tmp/key $A secret; udevadm settle
try "LUKS open" $A SER-A
cryptsetup close secret; wipe $A
mkfs.ext4 -q $A; mkdir -p /mnt/x; mount -o ro $A /mnt/x
try "mounted" $A SER-A
umount /mnt/x; wipe $A
python3 - $A <<'END'
import struct, sys
entry = struct.pack("<B3xB3xII", 0, 0x83, 2048, 65536)
with open(sys.argv[1], "r+b") as drive:
    drive.write(bytes(446) + entry + bytes(48) + b"\\x55\\xaa")
END
blockdev --rereadpt $A; udevadm settle
try "partition" ${A}p1 SER-A
try "partitioned" $A SER-A
mkswap -q ${A}p1; swapon ${A}p1
try "swapped to" $A SER-A
swapoff ${A}p1; wipe $A
try "one of two of a serial" /dev/sda SAME
"""
SAID = {
    "blank": "writes",
    "LVM in use": "is built on it",
    "LVM stopped": "an LVM volume",
    **{f"RAID {m} in use": "is built on it" for m in ("0.90", "1.0", "1.2")},
    **{f"RAID {m} stopped": "a RAID member" for m in ("0.90", "1.0", "1.2")},
    "LUKS closed": "an encrypted volume",
    "LUKS open": "is built on it",
    "mounted": "is mounted at /mnt/x",
    "partition": "is a partition of /dev/nvme0n1",
    "partitioned": "1 partition",
    "swapped to": "is swapped to",
    "one of two of a serial": "has the same serial",
}


def test_what_lies_between_a_drive_and_its_owner_is_seen(tmp_path: Path) -> None:
    assert BAY is not None
    drives = ["nvme,size=64M,serial=SER-A", "nvme,size=64M,serial=SER-B"]
    drives += ["sata,size=64M,serial=SAME", "sata,size=64M,serial=SAME"]
    words = [BAY, "run", "--venv", str(TOP / ".venv"), "--copy", str(TOP / "src")]
    for drive in drives:
        words += ["--drive", drive]
    done = subprocess.run(
        [*words, "--seconds", "2400", "--", SCRIPT], capture_output=True, text=True, check=False
    )
    parts = dict(
        (part.partition("\n")[0], part.partition("\n")[2]) for part in done.stdout.split("== ")[1:]
    )
    print(done.stdout, file=sys.stderr)
    assert set(parts) == set(SAID), (done.stdout, done.stderr)
    for name, said in SAID.items():
        assert said in parts[name], (name, parts[name])
        assert f"status {0 if name == 'blank' else 3}" in parts[name] and "same" in parts[name]


LAYERS = """
export PYTHONPATH=/copy:/venv/lib/python3.11/site-packages
export JOVIK_SHELF=/tmp/s.db HOME=/tmp NO_COLOR=1 COLUMNS=200
jovik() { python3 -m jovik "$@"; }
A=/dev/nvme0n1; B=/dev/nvme1n1; C=/dev/nvme2n1
mkdir -p /mnt/x
READ="random read 4KiB for 200ms within 4MiB"
pvcreate -qq -y $A; vgcreate -qq vg $A; lvcreate -qq -y -L 100M -n lv vg; udevadm settle
mkfs.ext4 -q /dev/vg/lv; mount /dev/vg/lv /mnt/x
echo "== LVM"; jovik scout /mnt/x --all 2>&1
jovik measure /mnt/x "$READ" --passes 1 2>&1
umount /mnt/x; vgchange -qq -an vg; udevadm settle
mdadm --create /dev/md0 --run --metadata=1.2 --level=1 --raid-devices=2 $B $C >/dev/null 2>&1
udevadm settle; mkfs.ext4 -q /dev/md0; mount /dev/md0 /mnt/x
echo "== RAID"; jovik scout /mnt/x 2>&1; jovik measure /mnt/x "$READ" --passes 1 2>&1
umount /mnt/x
echo "== again"; vgchange -qq -ay vg; udevadm settle; mount /dev/vg/lv /mnt/x
jovik measure /mnt/x "$READ" --passes 1 2>&1
"""


def test_a_folder_through_volumes_and_raid_is_known_for_what_it_is(tmp_path: Path) -> None:
    assert BAY is not None
    words = [BAY, "run", "--venv", str(TOP / ".venv"), "--copy", str(TOP / "src")]
    for serial in "ABC":
        words += ["--drive", f"nvme,size=160M,serial=SER-{serial}"]
    done = subprocess.run(
        [*words, "--seconds", "1200", "--", LAYERS], capture_output=True, text=True, check=False
    )
    print(done.stdout, done.stderr, file=sys.stderr)
    parts = dict(
        (part.partition("\n")[0], part.partition("\n")[2]) for part in done.stdout.split("== ")[1:]
    )
    assert set(parts) == {"LVM", "RAID", "again"}
    assert "/dev/nvme0n1" in parts["LVM"] and "/mnt/x" in parts["LVM"]
    assert "logical volume (LVM)" in parts["LVM"] and "new on this shelf" in parts["LVM"]
    assert "through RAID 1 of 2 drives (md): no one drive" in parts["RAID"]
    assert "this is 'RAID 1 of 2 drives (md) on nvme1n1 and nvme2n1" in parts["RAID"]
    assert "no figure is of one drive" in parts["RAID"]
    assert "known by its serial" in parts["again"]


PURGE = """
export PYTHONPATH=/copy:/venv/lib/python3.11/site-packages
export JOVIK_SHELF=/tmp/s.db HOME=/tmp NO_COLOR=1 COLUMNS=200
jovik() { python3 -m jovik "$@"; }
jovik sheet new Test
A=/dev/nvme0n1; B=/dev/sda
written() { head -c 8M /dev/urandom | dd of=$1 bs=1M seek=20 conv=fsync status=none; }
blank() {
  cmp -s -n 67108864 $1 /dev/zero && echo "reads as zeros" || echo "still holds something"
}
purge() {  # NAME DEVICE OPTIONS
  name=$1; device=$2; shift 2
  echo "== $name"; jovik measure $device purge --drive Test "$@" 2>&1
  echo "status $?"; blank $device
}
written $A; purge "unnamed" $A --content-worthless
purge "of another name" $A --destroy SER-B --content-worthless
purge "unknown content" $A --destroy SER-A
purge "NVMe" $A --destroy SER-A --content-worthless
written $B; purge "SATA" $B --destroy SER-C --content-worthless
mkfs.ext4 -q $A; mkdir -p /mnt/x; mount $A /mnt/x; echo mine > /mnt/x/mine; sync
purge "mounted" $A --destroy SER-A --content-worthless
echo "== folder"; jovik measure /mnt/x purge "random read 4KiB for 100ms within 4MiB" --passes 1 \
  --drive Test 2>&1
echo "status $?"; cat /mnt/x/mine; umount /mnt/x
purge "signed" $A --destroy SER-A --content-worthless
"""
ZEROS, HELD = "reads as zeros", "still holds something"
PURGED = {
    "unnamed": ("status 3", HELD, "destroys everything"),
    "of another name": ("status 3", HELD, "is not the sample"),
    "unknown content": ("status 3", HELD, "something is on it"),
    "NVMe": ("status 0", ZEROS, "purged by Format NVM, user data erase", "are blank now"),
    # This drive takes a discard and forgets nothing, which is told.
    "SATA": ("status 0", "purged by discarding all of it", "still have their content"),
    "mounted": ("status 3", HELD, "is mounted at /mnt/x"),
    "folder": ("status 0", "mine", "it did not reach what other files hold"),
    "signed": ("status 3", HELD, "ext4"),
}


def test_a_purge_erases_the_drive_that_was_named_and_no_other(tmp_path: Path) -> None:
    assert BAY is not None
    words = [BAY, "run", "--venv", str(TOP / ".venv"), "--copy", str(TOP / "src")]
    words += ["--drive", "nvme,size=64M,serial=SER-A", "--drive", "sata,size=64M,serial=SER-C"]
    done = subprocess.run(
        [*words, "--seconds", "1800", "--", PURGE], capture_output=True, text=True, check=False
    )
    parts = dict(
        (part.partition("\n")[0], part.partition("\n")[2]) for part in done.stdout.split("== ")[1:]
    )
    print(done.stdout, file=sys.stderr)
    assert set(parts) == set(PURGED), (done.stdout, done.stderr)
    for name, said in PURGED.items():
        assert all(x in parts[name] for x in said), (name, parts[name])
