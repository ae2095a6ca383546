"""The users of a block device: mounts in any namespace, swap, stacked devices, open files, I/O.

The kernel's exclusive open keeps out whoever claims a device in the same way: file systems, swap,
device mapper, md, bcache. Loop devices do not, nor does a program that merely has the node open.
"""

from __future__ import annotations

import os
import stat
import struct
import time
from collections.abc import Iterator
from pathlib import Path

from jovik.hardware.device import text
from jovik.hardware.host_load import counters
from jovik.hardware.mounts import Mount, read_mounts, read_swaps

LOOP_GET_STATUS64 = 0x4C05
"""Of <linux/loop.h>."""
LOOP_STATUS_BYTES = 232
QUIET_GLANCES = 5
"""Half a second in which nobody moves anything."""
PATIENCE_S, GLANCE_S = 3.0, 0.1
"""How long to wait for openers that only come by, such as udev, and for I/O to end."""
NO_DRIVES = ("/dev/pts/", "/dev/null", "/dev/zero", "/dev/tty", "/dev/urandom", "/dev/shm/")


def extent_of(entry: Path) -> dict[str, str]:
    """Return a device with its partitions: kernel names by number (``"8:0"``)."""
    names = {text(entry / "dev"): entry.name}
    names |= {text(p / "dev"): p.name for p in entry.iterdir() if (p / "partition").exists()}
    return names


def occupants(entry: Path, sys: Path = Path("/sys"), proc: Path = Path("/proc")) -> list[str]:
    """Return the users of a device or a part of it, in words. Empty without any.

    Parameters
    ----------
    entry : Path
        Its folder in sysfs.
    sys, proc : Path
        Where those file systems are, so that a made tree can be read too.
    """
    users = _above(entry, sys, proc)
    below = _backing_block(entry, sys)
    if below is not None:
        # Who uses the device that a loop device rests on would lose the same bytes.
        others = _above(below, sys, proc, besides=entry.name)
        users += [f"it is based on {below.name}: {what}" for what in others]
    image = image_of(entry)
    if image is not None:
        # Another name of the same file is the same file.
        for other in sorted((sys / "block").glob("loop*")):
            if other.name != entry.name and image_of(other) == image:
                users.append(f"its image is behind {other.name} too{_uses(other.name, sys, proc)}")
        users += ["its image is swapped to" for node in read_swaps(proc) if _is(node, image)]
    return users


def _above(entry: Path, sys: Path, proc: Path, *, besides: str = "") -> list[str]:
    """Return the users of the device or a part of it, `besides` one loop device based on it."""
    extent = extent_of(entry)
    users = list(dict.fromkeys(_mounted(extent, proc)))
    users += [f"{name} is swapped to" for name in _swapped(extent, proc)]
    users += [f"{name} is built on it" for name in _holders(entry)]
    loops = [name for name in _loops_on(extent, sys) if name != besides]
    users += [f"{name} is based on it{_uses(name, sys, proc)}" for name in loops]
    users += [f"{name} writes back to it" for name in _compressed_swap_on(extent, sys)]
    users += [f"it belongs to {what}" for what in _pools(extent, sys)]
    return users


def _mounted(extent: dict[str, str], proc: Path) -> Iterator[str]:
    for whose, mounts in _namespaces(proc):
        for mount in mounts:
            name = extent.get(mount.number) or extent.get(_source_number(mount))
            if name is not None:
                yield f"/dev/{name} ({mount.kind}) is mounted at {mount.point}{whose}"


def _namespaces(proc: Path) -> Iterator[tuple[str, list[Mount]]]:
    """Yield the mounts of this namespace, then of every other that a process lives in."""
    yield "", [m for group in read_mounts(proc).values() for m in group]
    try:
        namespaces = {os.readlink(proc / "self" / "ns" / "mnt")}
    except OSError:
        return
    for process in _processes(proc):
        try:
            namespace = os.readlink(process / "ns" / "mnt")
        except OSError:
            continue
        if namespace not in namespaces:
            namespaces.add(namespace)
            mounted = read_mounts(proc, process.name)
            where = f" in the namespace of process {process.name}"
            yield where, [m for group in mounted.values() for m in group]


def _source_number(mount: Mount) -> str:
    """Match by source, because btrfs numbers each volume itself."""
    if not mount.source.startswith("/dev/"):
        return ""
    return _number_of(mount.source)


def _number_of(node: str | Path) -> str:
    try:
        status = os.stat(node)
    except OSError:
        return ""
    if not stat.S_ISBLK(status.st_mode):
        return ""
    return f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}"


def _swapped(extent: dict[str, str], proc: Path) -> list[str]:
    by_name = {f"/dev/{name}": name for name in extent.values()}
    swapped = [by_name.get(node) or extent.get(_number_of(node)) for node in read_swaps(proc)]
    return sorted({name for name in swapped if name is not None})


def _holders(entry: Path) -> list[str]:
    """Device mapper, md and bcache devices on it or on one of its partitions."""
    folders = [entry / "holders"]
    folders += [p / "holders" for p in entry.iterdir() if (p / "partition").exists()]
    return sorted({h.name for f in folders if f.is_dir() for h in f.iterdir()})


def _loops_on(extent: dict[str, str], sys: Path) -> list[str]:
    """Loop devices whose backing file is the device, one of its partitions, or another node of it.

    The path in sysfs may be of another namespace, or gone; the kernel itself knows the number.
    """
    loops = []
    for loop in sorted((sys / "block").glob("loop*")):
        number = _loop_backing_number(loop)
        if number is not None and extent.get(number) is not None:
            loops.append(loop.name)
    return loops


def _loop_backing_number(loop: Path) -> str | None:
    """Return the number of the block device behind a loop device.

    None if it is a file, or nothing.
    """
    backing = text(loop / "loop" / "backing_file")
    if not backing:
        return None
    status = _loop_status(loop)
    if status is None:
        return _number_of(backing) or _number_of(backing.removesuffix(" (deleted)")) or None
    # Linux packs 12 bits of the major number and 20 of the minor (huge_encode_dev).
    rdev = status[2]
    return f"{os.major(rdev)}:{os.minor(rdev)}" if rdev else _number_of(backing) or None


def _loop_status(loop: Path) -> tuple[int, int, int] | None:
    """Return a loop device's file as device and inode, and its number if it is a device."""
    import fcntl

    try:
        fd = os.open(f"/dev/{loop.name}", os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return None
    try:
        status = bytearray(LOOP_STATUS_BYTES)
        fcntl.ioctl(fd, LOOP_GET_STATUS64, status)
    except OSError:
        return None
    finally:
        os.close(fd)
    device, inode, rdev = struct.unpack_from("<3Q", status)
    return device, inode, rdev


def image_of(loop: Path) -> tuple[int, int] | None:
    """Return the device and inode of the image file behind a loop device, or None.

    Parameters
    ----------
    loop : Path
        Its folder in sysfs.
    """
    if not (loop / "loop").is_dir():
        return None
    status = _loop_status(loop)
    if status is None or status[2]:
        return None
    return status[0], status[1]


def _is(path: str | Path, image: tuple[int, int]) -> bool:
    """Return True if a path leads to this device and inode."""
    try:
        status = os.stat(path)
    except OSError:
        return False
    return (status.st_dev, status.st_ino) == image


def _backing_block(entry: Path, sys: Path) -> Path | None:
    """Return the device below a loop device, in sysfs.

    None if it is based on a file or is no loop device.
    """
    if not (entry / "loop").is_dir():
        return None
    number = _loop_backing_number(entry)
    node = sys / "dev" / "block" / number if number else None
    if node is None or not node.exists():
        return None
    return node.resolve()


def _uses(name: str, sys: Path, proc: Path) -> str:
    """Return the uses of a loop device that is based on the device."""
    entry = sys / "block" / name
    users = _above(entry.resolve(), sys, proc)
    return f" ({'; '.join(users)})" if users else ""


def _compressed_swap_on(extent: dict[str, str], sys: Path) -> list[str]:
    swaps = []
    for zram in sorted((sys / "block").glob("zram*")):
        backing = text(zram / "backing_dev")
        if backing and extent.get(_number_of(backing)) is not None:
            swaps.append(zram.name)
    return swaps


def _pools(extent: dict[str, str], sys: Path) -> list[str]:
    """File systems over several devices that tell their members in sysfs."""
    pools = []
    names = set(extent.values())
    for kind, pattern in (("btrfs", "*/devices/*"), ("bcachefs", "*/dev-*/block")):
        for member in sorted((sys / "fs" / kind).glob(pattern)):
            if member.name in names or member.resolve().name in names:
                pools.append(f"a mounted {kind} file system")
    return list(dict.fromkeys(pools))


def writers(entry: Path, proc: Path = Path("/proc")) -> list[str]:
    """Other processes that hold the device, a part of it or its image open for writing, in words.

    Only those that this process may look at are seen; root sees all.
    """
    extent, own_pid, image = extent_of(entry), os.getpid(), image_of(entry)
    end = time.monotonic() + PATIENCE_S
    while True:
        users = [
            f"process {p.name} ({text(p / 'comm')}) holds it open for writing"
            for p in _processes(proc)
            if int(p.name) != own_pid and _holds_for_writing(p, extent, image)
        ]
        if not users or time.monotonic() > end:
            return users
        time.sleep(GLANCE_S)


def _holds_for_writing(
    process: Path, extent: dict[str, str], image: tuple[int, int] | None
) -> bool:
    try:
        descriptors = list((process / "fd").iterdir())
    except OSError:
        return False
    for descriptor in descriptors:
        try:
            leads_to = os.readlink(descriptor)
            # Asking for a file's number could wait for a server on the network for ever, so an
            # image is told by its inode first, which the kernel says by itself.
            is_node = leads_to.startswith("/dev/") and not leads_to.startswith(NO_DRIVES)
            if not is_node and image is None:
                continue
            about = _facts_of(process / "fdinfo" / descriptor.name)
            is_held = is_node and extent.get(_number_of(descriptor)) is not None
            if image is not None and not is_held:
                is_held = about.get("ino") == str(image[1]) and _is(descriptor, image)
        except OSError:
            continue
        if is_held and int(about.get("flags", "0"), 8) & os.O_ACCMODE != os.O_RDONLY:
            return True
    return False


def _facts_of(fdinfo: Path) -> dict[str, str]:
    """Return the kernel's facts on a descriptor (proc(5), /proc/pid/fdinfo.

    ``ino`` since 5.14).
    """
    lines = (line.split() for line in fdinfo.read_text().splitlines())
    return {words[0].rstrip(":"): words[1] for words in lines if len(words) > 1}


def moving_bytes(name: str) -> int:
    """Return the bytes that others still move on a device after `PATIENCE_S`, or 0.

    Nothing moves only if nothing did in `QUIET_GLANCES` glances in a row, because a busy machine
    holds up those who read.

    Parameters
    ----------
    name : str
        Its kernel name.
    """
    end, quiet = time.monotonic() + PATIENCE_S, 0
    while True:
        before = counters(name)
        time.sleep(GLANCE_S)
        after = counters(name)
        if before is None or after is None:
            return 0
        moved = after.read_bytes + after.written_bytes - before.read_bytes - before.written_bytes
        quiet = 0 if moved else quiet + 1
        if quiet == QUIET_GLANCES or (moved and time.monotonic() > end):
            return moved


def _processes(proc: Path) -> Iterator[Path]:
    try:
        entries = sorted(proc.iterdir())
    except OSError:
        return
    yield from (p for p in entries if p.name.isdigit())
