"""The programs of the system that tests run: looked for here and nowhere else.

A test skips and names what is not there.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

PACKAGES = {
    "bash": "bash",
    "cryptsetup": "cryptsetup-bin",
    "fsck.ext4": "e2fsprogs",
    "genisoimage": "genisoimage",
    "make-bcache": "bcache-tools",
    "mkfs.bfs": "util-linux",
    "mkfs.cramfs": "util-linux",
    "mkfs.erofs": "erofs-utils",
    "mkfs.exfat": "exfatprogs",
    "mkfs.f2fs": "f2fs-tools",
    "mkfs.gfs2": "gfs2-utils",
    "mkfs.jfs": "jfsutils",
    "mkfs.minix": "util-linux",
    "mkfs.nilfs2": "nilfs-tools",
    "mkfs.ntfs": "ntfs-3g",
    "mkfs.ocfs2": "ocfs2-tools",
    "mkfs.reiserfs": "reiserfsprogs",
    "mkfs.udf": "udftools",
    "mksquashfs": "squashfs-tools",
    "pvcreate": "lvm2",
    "sfdisk": "fdisk",
    "tar": "tar",
    "unshare": "util-linux",
    "chromium": "chromium",
    "fsfreeze": "util-linux",
    "groff": "groff",
    "initdb": "postgresql",
    "losetup": "mount",
    "mkfs.btrfs": "btrfs-progs",
    "mkfs.ext4": "e2fsprogs",
    "mkfs.vfat": "dosfstools",
    "mkfs.xfs": "xfsprogs",
    "mkswap": "util-linux",
    "mount": "mount",
    "setpriv": "util-linux",
    "umount": "mount",
}
"""Each program and the Debian package that has it."""
ELSEWHERE = {"initdb": "/usr/lib/postgresql/*/bin/initdb"}
"""Where Debian keeps what is not on the PATH."""


def find(name: str) -> Path | None:
    """A program on the PATH, or the newest where Debian keeps it."""
    found = shutil.which(name)
    if found:
        return Path(found).resolve()
    kept = sorted(Path("/").glob(ELSEWHERE[name].lstrip("/"))) if name in ELSEWHERE else []
    return kept[-1] if kept else None


def need(*names: str) -> Path:
    """Where the last of these programs is.

    The test that calls this is skipped when one is missing.
    """
    found = None
    for name in names:
        found = find(name)
        if found is None:
            pytest.skip(f"needs {name} (Debian: {PACKAGES[name]})")
    assert found is not None
    return found


def run(*words: str | Path) -> str:
    """What a program prints; it has to succeed."""
    need(str(words[0]))
    return subprocess.run(words, check=True, capture_output=True, text=True).stdout.strip()


def succeeds(*words: str | Path) -> bool:
    """Whether a program does what it is asked to; False too where the kernel does not allow it."""
    need(str(words[0]))
    return subprocess.run(words, check=False, capture_output=True).returncode == 0


def loop_device(image: Path, *options: str) -> str:
    """A loop device on a file; the test is skipped where there is none."""
    need("losetup")
    done = subprocess.run(
        ["losetup", "--find", "--show", *options, image],
        check=False,
        capture_output=True,
        text=True,
    )
    if done.returncode:
        pytest.skip(f"no loop device: {done.stderr.strip()}")
    return done.stdout.strip()


def sparse_file(path: Path, size_bytes: int) -> Path:
    """A file of zeros that takes no space."""
    with path.open("wb") as file:
        file.truncate(size_bytes)
    return path


def on_a_terminal(
    words: list[str],
    env: dict[str, str],
    *,
    rows: int,
    columns: int,
    folder: Path | None = None,
    only_errors: bool = False,
    typed: bytes = b"",
) -> tuple[int, bytes]:
    """Run a command on a terminal of its own and return its exit status and its output.

    With `only_errors` its standard output goes nowhere. `typed` is what the user types.
    """
    import fcntl
    import pty
    import struct
    import termios

    terminal, end = pty.openpty()
    fcntl.ioctl(end, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
    running = subprocess.Popen(
        words,
        cwd=folder,
        env=env | {"TERM": "xterm-256color"},
        stdin=end if typed else None,
        stdout=subprocess.DEVNULL if only_errors else end,
        stderr=end,
    )
    os.write(terminal, typed)
    os.close(end)
    said = b""
    while True:
        try:
            got = os.read(terminal, 65_536)
        except OSError:
            break
        if not got:
            break
        said += got
    status = running.wait()
    os.close(terminal)
    return status, said
