"""Block devices as the kernel shows them in sysfs: identity, geometry, link, partitions, mounts."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from jovik.hardware.link import Link, pcie_link, sata_link, usb_link
from jovik.hardware.mounts import Mount, read_mounts

SECTOR = 512
"""The sector of sysfs sizes, for any block size (Documentation/ABI/stable/sysfs-block)."""
HIDDEN_NAMES = ("ram", "zram", "fd", "sr", "dm-", "md", "nbd")
"""Kernel names of devices that are not drives."""

SYSTEM_POINTS = ("/", "/boot", "/boot/efi", "/usr", "/var", "/home")
"""Where a drive is mounted that the running system lives on."""


@dataclass(frozen=True)
class Partition:
    """A part of a drive that has a name of its own."""

    name: str
    capacity_bytes: int
    mounts: tuple[Mount, ...] = ()


GONE_STATES = ("offline", "cancel", "deleted", "dead", "deleting")
"""Of SCSI (scsi_sysfs.c) and NVMe (sysfs.c) devices in the kernel."""


@dataclass(frozen=True)
class BlockDevice:
    """One block device. Empty strings and None are facts that the kernel does not report."""

    name: str
    node: str
    kind: str  # NVMe, SATA, USB, SCSI, virtio, loop, ...
    maker: str
    model: str
    serial: str
    firmware: str
    capacity_bytes: int
    medium: str  # solid state or spinning
    rpm: int | None
    driver: str
    logical_block_bytes: int
    physical_block_bytes: int
    write_cache: str
    scheduler: str
    read_only: bool
    link: Link | None
    partitions: tuple[Partition, ...] = ()
    mounts: tuple[Mount, ...] = ()
    number: str = ""
    removable: bool = False

    @property
    def is_stick(self) -> bool:
        """Return True for a USB stick or a card: a disk in an enclosure is not removable."""
        return self.kind == "USB" and self.removable and self.rpm is None

    @property
    def all_mounts(self) -> tuple[Mount, ...]:
        """Mounts of the whole device and of its partitions."""
        return self.mounts + tuple(m for p in self.partitions for m in p.mounts)

    @property
    def is_system(self) -> bool:
        """Return True if the running system lives on it."""
        return any(m.point in SYSTEM_POINTS for m in self.all_mounts)


def is_attached(name: str, sys: Path = Path("/sys")) -> bool:
    """Return True if the system still has a drive, by its kernel name.

    A SCSI or USB device that was pulled stays in sysfs for a while, marked as offline or going.
    """
    entry = sys / "block" / name
    return entry.exists() and text(entry / "device" / "state") not in GONE_STATES


def text(path: Path) -> str:
    """Return a sysfs attribute, or nothing."""
    try:
        return path.read_text(encoding="utf-8", errors="replace").strip("\x00 \n\t")
    except OSError:
        return ""


def number(path: Path, otherwise: int = 0) -> int:
    """Return a sysfs attribute as a number."""
    match = re.match(r"-?\d+", text(path))
    return int(match[0]) if match else otherwise


def devices(sys: Path = Path("/sys"), proc: Path = Path("/proc")) -> list[BlockDevice]:
    """Return every drive the kernel knows, loop devices with something behind them included.

    Parameters
    ----------
    sys, proc : Path
        Where those file systems are, so that a recorded tree can be read too.
    """
    mounts = read_mounts(proc)
    devices = []
    for entry in sorted((sys / "block").iterdir()) if (sys / "block").is_dir() else []:
        if entry.name.startswith(HIDDEN_NAMES) or number(entry / "size") == 0:
            continue
        devices.append(device(entry, mounts))
    return devices


def device(entry: Path, mounts: dict[str, list[Mount]]) -> BlockDevice:
    """Return one device from its folder under `/sys/block`."""
    base, queue = entry / "device", entry / "queue"
    real = str(entry.resolve())
    kind = _kind(entry.name, real, base)
    maker, model, serial, firmware = _identity(kind, entry, base)
    medium, rpm = _medium(kind, entry)
    return BlockDevice(
        name=entry.name,
        node=f"/dev/{entry.name}",
        kind=kind,
        maker=maker,
        model=model,
        serial=serial,
        firmware=firmware,
        capacity_bytes=number(entry / "size") * SECTOR,
        medium=medium,
        rpm=rpm,
        driver=_driver(entry),
        logical_block_bytes=number(queue / "logical_block_size", SECTOR),
        physical_block_bytes=number(queue / "physical_block_size", SECTOR),
        write_cache=text(queue / "write_cache"),
        scheduler=_chosen(text(queue / "scheduler")),
        read_only=number(entry / "ro") == 1,
        removable=number(entry / "removable") == 1,
        link=_link(kind, entry.resolve()),
        partitions=tuple(
            Partition(
                p.name,
                number(p / "size") * SECTOR,
                _mounts_on(p, mounts),
            )
            for p in sorted(entry.iterdir())
            if (p / "partition").exists()
        ),
        mounts=_mounts_on(entry, mounts),
        number=text(entry / "dev"),
    )


def _mounts_on(entry: Path, mounts: dict[str, list[Mount]]) -> tuple[Mount, ...]:
    """Return mounts of a block device and of its holders: volumes, encryption, RAID."""
    mounted = list(mounts.get(text(entry / "dev"), ()))
    holders = sorted((entry / "holders").iterdir()) if (entry / "holders").is_dir() else []
    for holder in holders:
        mounted += _mounts_on(holder.resolve(), mounts)
    return tuple(dict.fromkeys(mounted))


def _chosen(words: str) -> str:
    match = re.search(r"\[(.*?)\]", words)
    return match[1] if match else words


def _kind(name: str, real: str, base: Path) -> str:
    if name.startswith("nvme"):
        return "NVMe"
    if name.startswith("loop"):
        return "loop"
    if name.startswith("mmcblk"):
        return "SD"
    if "/virtio" in real:
        return "virtio"
    if "/usb" in real:
        return "USB"
    if "/ata" in real:
        return "SATA"
    return "SCSI" if (base / "scsi_level").exists() or name.startswith("sd") else "other"


def _identity(kind: str, entry: Path, base: Path) -> tuple[str, str, str, str]:
    """Maker, model, serial, firmware.

    ATA puts all of it into one model string of 40 characters (ACS-4, 7.13.7); SCSI has 8 for the
    maker (SPC-4, 6.6.2).
    """
    if kind == "NVMe":
        return "", text(base / "model"), text(base / "serial"), text(base / "firmware_rev")
    if kind == "loop":
        return "", text(entry / "loop" / "backing_file"), "", ""
    maker, model = text(base / "vendor"), text(base / "model")
    if maker.startswith("0x"):
        maker = ""
    if maker == "ATA":
        maker = ""
    serial = text(entry / "serial") or _page_serial(base)
    if kind == "USB":
        port = _usb_device(entry.resolve())
        if port is not None:
            serial = serial or text(port / "serial")
            maker = maker or text(port / "manufacturer")
    return maker, model, serial, text(base / "rev")


def _page_serial(base: Path) -> str:
    """Return the unit serial number page, 80h, as SCSI disks cache it (SPC-4, 7.8.16).

    Four bytes of head, then the text.
    """
    try:
        page = (base / "vpd_pg80").read_bytes()
    except OSError:
        return ""
    return page[4 : 4 + int.from_bytes(page[2:4], "big")].decode("ascii", "replace").strip("\x00 ")


def _driver(entry: Path) -> str:
    """Return the kernel's driver of the nearest device above that has one."""
    for folder in (entry / "device", *entry.resolve().parents):
        if (folder / "driver").exists():
            return (folder / "driver").resolve().name
    return ""


def _medium(kind: str, entry: Path) -> tuple[str, int | None]:
    """Return the medium, and its speed of rotation.

    The rotation rate is in the block device characteristics page, B1h (SBC-4, 6.6.2): 1 is none.
    Without that page the kernel's own guess is taken, but not for USB, where it guesses "turning"
    of everything.
    """
    try:
        page = (entry / "device" / "vpd_pgb1").read_bytes()
        rate = int.from_bytes(page[4:6], "big")
    except OSError:
        rate = 0
    if rate == 1 or kind in ("NVMe", "SD"):
        return "solid state", None
    if 0x401 <= rate < 0xFFFF:
        return "spinning", rate
    if kind in ("SATA", "SCSI"):
        return ("spinning" if number(entry / "queue" / "rotational") else "solid state"), None
    return "", None


def _usb_device(real: Path) -> Path | None:
    """Return the nearest folder above that is a USB device (it has a speed and a device class)."""
    return next(
        (p for p in real.parents if (p / "speed").exists() and (p / "bDeviceClass").exists()), None
    )


def port_of(device: BlockDevice, sys: Path = Path("/sys")) -> str:
    """Return a drive's USB port (``2-1.3``), ATA port (``ata3``) or PCI address.

    Empty if unknown.
    """
    real = (sys / "block" / device.name).resolve()
    port = _usb_device(real)
    if port is not None:
        return port.name
    for pattern in (r"ata\d+", r"[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-9a-f]"):
        name = next((p.name for p in real.parents if re.fullmatch(pattern, p.name)), None)
        if name is not None:
            return name
    return ""


def _link(kind: str, real: Path) -> Link | None:
    if kind == "NVMe":
        for p in real.parents:
            if (p / "current_link_speed").exists():
                speeds = [
                    float(m[0]) if (m := re.match(r"[\d.]+", text(p / f"{w}_link_speed"))) else 0.0
                    for w in ("current", "max")
                ]
                widths = [number(p / f"{w}_link_width") for w in ("current", "max")]
                if speeds[0] and widths[0]:
                    return pcie_link(speeds[0], widths[0], speeds[1] or None, widths[1] or None)
        return None
    if kind == "SATA":
        return _sata(real)
    if kind == "USB":
        port = _usb_device(real)
        return (
            usb_link(number(port / "speed"))
            if port is not None and number(port / "speed")
            else None
        )
    return None


def _sata(real: Path) -> Link | None:
    port = next((p for p in real.parents if re.fullmatch(r"ata\d+", p.name)), None)
    if port is None:
        return None
    speeds = {}
    for folder in port.glob("link*/ata_link/link*"):
        for which in ("sata_spd", "sata_spd_limit", "hw_sata_spd_limit"):
            match = re.match(r"([\d.]+) Gbps", text(folder / which))
            if match:
                speeds[which] = float(match[1])
    if "sata_spd" not in speeds:
        return None
    return sata_link(speeds["sata_spd"], speeds.get("hw_sata_spd_limit", speeds["sata_spd"]))


def under_folder(
    folder: Path, sys: Path = Path("/sys"), proc: Path = Path("/proc")
) -> tuple[BlockDevice | None, Mount | None]:
    """Return the drive and mount under a folder, through partitions, dm, loop and overlays.

    Returns
    -------
    (device, mount)
        None for what cannot be told: a file system in memory, on the network, or over several
        drives.
    """
    mounts = read_mounts(proc)
    best = _mount_of(folder, mounts)
    if best is None:
        return None, None
    if best.kind == "overlay":
        upper = best.option("upperdir")
        return (
            under_folder(Path(upper), sys, proc)
            if upper and Path(upper) != folder
            else (None, best)
        )
    key = best.number
    if not (sys / "dev" / "block" / key).exists() and best.source.startswith("/dev/"):
        # btrfs gives each volume a number of its own; its source is the device all the same.
        try:
            node = os.stat(best.source).st_rdev
        except OSError:
            return None, best
        key = f"{os.major(node)}:{os.minor(node)}"
    entry = (
        backing_drive((sys / "dev" / "block" / key).resolve(), sys, proc)
        if (sys / "dev" / "block" / key).exists()
        else None
    )
    return (device(entry, mounts) if entry is not None else None), best


def on_system_volume(folder: Path) -> bool:
    """Return True if a folder is on a file system that the running system lives on."""
    mounts = read_mounts()
    mount = _mount_of(folder, mounts)
    if mount is None:
        return False
    theirs = [m for group in mounts.values() for m in group if m.point in SYSTEM_POINTS]
    # Each volume of a btrfs has a number of its own; its source is the same.
    return any(
        m.number == mount.number or (mount.source.startswith("/dev/") and m.source == mount.source)
        for m in theirs
    )


def _mount_of(folder: Path, mounts: dict[str, list[Mount]]) -> Mount | None:
    whole = Path(os.path.realpath(folder))
    over = [
        m
        for group in mounts.values()
        for m in group
        if whole == Path(m.point) or Path(m.point) in whole.parents
    ]
    # The deepest mount point; of several on one point the last covers the others.
    return max(over, key=lambda m: (len(Path(m.point).parts), m.order)) if over else None


def backing_drive(entry: Path, sys: Path, proc: Path) -> Path | None:
    """Return the whole drive at the bottom of a stack, or None if it is based on several."""
    if (entry / "partition").exists():
        entry = entry.parent
    slaves = sorted((entry / "slaves").iterdir()) if (entry / "slaves").is_dir() else []
    if slaves:
        below = {backing_drive(s.resolve(), sys, proc) for s in slaves}
        return below.pop() if len(below) == 1 else None
    backing = text(entry / "loop" / "backing_file")
    if entry.name.startswith("loop") and backing:
        drive, _ = under_folder(Path(backing).parent, sys, proc)
        return (sys / "block" / drive.name).resolve() if drive is not None else entry
    return entry


def by_node(path: Path, sys: Path = Path("/sys"), proc: Path = Path("/proc")) -> BlockDevice | None:
    """Return the whole drive that a device node stands for.

    None if it is a partition or unknown.
    """
    entry = _entry_of(os.stat(path).st_rdev, sys)
    if not (entry / "queue").is_dir():
        return None
    return device(entry, read_mounts(proc))


def device_of(fd: int) -> BlockDevice | None:
    """Return the whole drive of an open descriptor, or None for anything else."""
    return by_node(Path(f"/proc/self/fd/{fd}"))


def partition_of(
    path: Path, sys: Path = Path("/sys"), proc: Path = Path("/proc")
) -> BlockDevice | None:
    """Return the drive of which a device node is a partition, or None."""
    entry = _entry_of(os.stat(path).st_rdev, sys)
    if not (entry / "partition").exists():
        return None
    return device(entry.parent, read_mounts(proc))


def _entry_of(node: int, sys: Path) -> Path:
    """Return the folder in sysfs of a device by its number."""
    return (sys / "dev" / "block" / f"{os.major(node)}:{os.minor(node)}").resolve()
