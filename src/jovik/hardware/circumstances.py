"""Conditions of this machine that can slow a drive down or make its figures differ.

All of it is read and nothing is changed; where a command changes something it is named.
"""

from __future__ import annotations

import os
import re
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from jovik.analysis.temperature import plausible_temperatures
from jovik.base.circumstances import Circumstance, CircumstanceKind
from jovik.base.quantities import show_rate
from jovik.hardware.device import BlockDevice, number, text, under_folder
from jovik.hardware.io_limits import io_limits
from jovik.hardware.layers import stack_of
from jovik.hardware.mounts import Mount, read_swaps
from jovik.hardware.temperature import sensors_of

Kind = CircumstanceKind
BUSY_IO, BUSY_CPU = 2.0, 10.0
"""Percent of the last ten seconds with a waiting process (Documentation/accounting/psi.rst)."""
WARM_C = 55.0
"""A drive that is so warm before anything is asked of it has little left before it throttles."""
DUE_S = 3600.0
SCRUB_FRESH_S = 30.0
A_WEEK_S = 7 * 86_400.0
DYNAMIC_DRIVERS = ("intel_pstate", "amd-pstate-epp")
"""Drivers whose governor "powersave" follows the load (Documentation/admin-guide/pm)."""
NETWORK_FILE_SYSTEMS = ("nfs", "nfs4", "cifs", "smb3", "fuse.sshfs", "9p", "virtiofs", "ceph")
TO_TELL = "to measure its cost: jovik measure . --plan power-saving"
COPY_ON_WRITE = ("btrfs", "zfs", "bcachefs")


@dataclass(frozen=True)
class Place:
    """The subject of the checks: a drive, its mount, and the place of the shelf.

    `sys` and `proc` are those file systems, so that a recorded tree can be read too.
    `stuck_sensors` are temperature sensors to ignore.
    """

    device: BlockDevice | None = None
    mount: Mount | None = None
    shelf: Path | None = None
    sys: Path = Path("/sys")
    proc: Path = Path("/proc")
    timers: Path = Path("/var/lib/systemd/timers")
    scrubs: Path = Path("/var/lib/btrfs")
    stuck_sensors: frozenset[str] = frozenset()


def circumstances(at: Place) -> list[Circumstance]:
    """Return all conditions that matter or may matter, the former first."""
    of_machine = (_battery, _governor, _link_power, _layers, _file_system, _control_groups)
    around = (_virtual, _swap, _shelf, _maintenance, _load, _temperature)
    circumstances = [c for look in (*of_machine, *around) for c in look(at)]
    return sorted(circumstances, key=lambda c: not c.matters)


def _battery(at: Place) -> Iterator[Circumstance]:
    every = sorted((at.sys / "class" / "power_supply").glob("*"))
    # A mouse or a headset has a battery too.
    supplies = [s for s in every if text(s / "scope") != "Device"]
    mains = [s for s in supplies if text(s / "type") in ("Mains", "USB")]
    batteries = [s for s in supplies if text(s / "type") == "Battery"]
    if batteries and mains and not any(number(s / "online") for s in mains):
        yield Circumstance(
            Kind.BATTERY, "on battery", True, "processor and links may be slowed", "plug it in"
        )
    elif any(text(s / "status") == "Discharging" for s in batteries) and not mains:
        yield Circumstance(Kind.BATTERY, "on battery", True, "processor and links may be slowed")


def _governor(at: Place) -> Iterator[Circumstance]:
    folders = sorted((at.sys / "devices" / "system" / "cpu").glob("cpu[0-9]*/cpufreq"))
    governors = {
        (
            text(f / "scaling_governor"),
            text(f / "scaling_driver"),
            text(f / "energy_performance_preference"),
        )
        for f in folders
    }
    for governor, driver, preference in sorted(governors):
        slow = governor == "powersave" and driver not in DYNAMIC_DRIVERS
        saving = preference in ("power", "balance_power")
        yield Circumstance(
            Kind.GOVERNOR,
            f"{governor}{f', preference {preference}' if preference else ''}",
            slow or preference == "power",
            "small reads will look slower" if slow or saving else "",
            "cpupower frequency-set -g performance" if slow or saving else "",
        )


def _link_power(at: Place) -> Iterator[Circumstance]:
    device = at.device
    if device is None:
        return
    entry = (at.sys / "block" / device.name).resolve()
    if device.kind == "NVMe":
        policy = _chosen(text(at.sys / "module" / "pcie_aspm" / "parameters" / "policy"))
        if policy:
            saves = policy.startswith("power")
            yield Circumstance(
                Kind.LINK_POWER,
                f"PCIe ASPM {policy}",
                saves,
                "a read after a pause waits until the link wakes" if saves else "",
                "echo performance > /sys/module/pcie_aspm/parameters/policy" if saves else "",
            )
        states = number(at.sys / "module/nvme_core/parameters/default_ps_max_latency_us", -1)
        if states > 0:
            yield Circumstance(
                Kind.LINK_POWER,
                f"NVMe power states up to {states:,} us to wake",
                False,
                "a read after a pause waits until the drive wakes",
                TO_TELL,
            )
    if device.kind == "SATA":
        host = next((p.name for p in entry.parents if re.fullmatch(r"host\d+", p.name)), None)
        policy = text(
            at.sys / "class" / "scsi_host" / (host or "") / "link_power_management_policy"
        )
        if policy:
            saves = policy not in ("max_performance", "keep_firmware_settings")
            yield Circumstance(
                Kind.LINK_POWER,
                f"SATA link power management {policy}",
                saves and policy.startswith("min"),
                "a read after a pause waits until the link wakes" if saves else "",
                f"echo max_performance > /sys/class/scsi_host/{host}/link_power_management_policy"
                if saves
                else "",
            )
    if device.kind == "USB":
        port = next(
            (p for p in entry.parents if (p / "speed").exists() and (p / "power").is_dir()), None
        )
        if port is not None and text(port / "power" / "control") == "auto":
            yield Circumstance(
                Kind.LINK_POWER,
                "USB autosuspend",
                False,
                "a read after a pause may wait until the drive wakes",
                f"echo on > /sys/bus/usb/devices/{port.name}/power/control",
            )


def _chosen(words: str) -> str:
    match = re.search(r"\[(.*?)\]", words)
    return match[1] if match else words


def _layers(at: Place) -> Iterator[Circumstance]:
    if at.mount is None:
        return
    effects = {
        "encryption": "the processor encrypts every block",
        "RAID": "it is measured as a whole: no figure is of one drive",
        "image": "another file system lies below",
        "cache": "a faster drive answers for the slower one",
    }
    for layer in stack_of(at.mount.number, at.sys).layers:
        effect = next((e for word, e in effects.items() if word in layer), "")
        yield Circumstance(Kind.LAYER, layer, bool(effect), effect)


def _file_system(at: Place) -> Iterator[Circumstance]:
    mount = at.mount
    if mount is None:
        return
    if mount.kind in NETWORK_FILE_SYSTEMS:
        yield Circumstance(
            Kind.FILE_SYSTEM,
            f"{mount.kind}, over a network or from a host",
            True,
            "the way there is measured too",
        )
    compress = next((o for o in mount.options if o.startswith("compress")), None)
    if compress and compress not in ("compress=no", "compress=none"):
        yield Circumstance(
            Kind.FILE_SYSTEM,
            f"compression ({compress})",
            True,
            "data that can be compressed looks faster than the drive is",
        )
    if mount.kind in COPY_ON_WRITE:
        yield Circumstance(
            Kind.FILE_SYSTEM,
            f"copy on write ({mount.kind})",
            False,
            "random writes are written elsewhere, and metadata with them",
        )
    telling = {
        "sync": "each write waits for the medium",
        "dirsync": "each new file waits for the medium",
        "data=journal": "everything is written twice",
        "discard": "space is discarded at once, which may disturb writes",
    }
    for option, effect in telling.items():
        if option in mount.options:
            yield Circumstance(
                Kind.FILE_SYSTEM, f"mount option {option}", option != "discard", effect
            )


def _control_groups(at: Place) -> Iterator[Circumstance]:
    for limit in io_limits(at.proc):
        if at.device is not None and limit.number == at.device.number:
            words = show_rate(limit.per_s) if limit.unit == "bytes" else f"{limit.per_s:,} IOPS"
            yield Circumstance(
                Kind.CONTROL_GROUP,
                f"{limit.direction}s at most {words}",
                True,
                "figures end there, whatever the drive can do",
                "run Jovik outside this container, service or shell",
            )


def _virtual(at: Place) -> Iterator[Circumstance]:
    try:
        flags = (at.proc / "cpuinfo").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return
    if re.search(r"^flags\s*:.*\bhypervisor\b", flags, re.MULTILINE):
        name = text(at.sys / "class" / "dmi" / "id" / "product_name")
        yield Circumstance(
            Kind.VIRTUAL,
            f"a virtual machine{f' ({name})' if name else ''}",
            at.device is not None and at.device.kind == "virtio",
            "the host's own cache, limits and neighbours lie behind it",
        )


def _swap(at: Place) -> Iterator[Circumstance]:
    if at.device is None:
        return
    for node in sorted(read_swaps(at.proc)):
        name = Path(node).name
        parts = {p.name for p in at.device.partitions} | {at.device.name}
        on_it = name in parts
        if not on_it and not node.startswith("/dev/") and Path(node).exists():
            under, _ = under_folder(Path(node).parent, at.sys, at.proc)
            on_it = under is not None and under.name == at.device.name
        if on_it:
            yield Circumstance(
                Kind.SWAP,
                f"swap on it ({node})",
                True,
                "the system may use it in the middle",
                f"swapoff {node}",
            )


def _shelf(at: Place) -> Iterator[Circumstance]:
    if at.device is None or at.shelf is None:
        return
    under, _ = under_folder(at.shelf.parent, at.sys, at.proc)
    if under is not None and under.name == at.device.name:
        yield Circumstance(
            Kind.SHELF,
            "the shelf lies on it",
            False,
            "between passes their results are written to it",
            "name another with --shelf",
        )


def _maintenance(at: Place) -> Iterator[Circumstance]:
    if at.mount is not None:
        entry = at.sys / "dev" / "block" / at.mount.number
        action = text(entry / "md" / "sync_action")
        if action not in ("", "idle"):
            yield Circumstance(
                Kind.MAINTENANCE, f"RAID {action} is running", True, "it takes part of every drive"
            )
        if at.mount.kind == "btrfs" and _scrubbing(at):
            yield Circumstance(
                Kind.MAINTENANCE, "a scrub of btrfs is running", True, "it reads all of the drive"
            )
    running = {text(p / "comm") for p in at.proc.glob("[0-9]*")}
    for program, what in (("fstrim", "trim"), ("btrfs-scrub", "scrub"), ("e4defrag", "defrag")):
        if program in running:
            yield Circumstance(
                Kind.MAINTENANCE,
                f"{what} is running ({program})",
                True,
                "the drive is busy with it",
            )
    stamp = at.timers / "stamp-fstrim.timer"
    if stamp.exists():
        remaining_s = stamp.stat().st_mtime + A_WEEK_S - time.time()
        if remaining_s < DUE_S:
            yield Circumstance(
                Kind.MAINTENANCE,
                "the weekly trim is due",
                False,
                "it may begin in the middle",
                "systemctl start fstrim.service",
            )


def _scrubbing(at: Place) -> bool:
    """Return True if a scrub is running, by its status file, which is rewritten every few seconds.

    One that ended says so in it, one that was killed writes no more (btrfs-scrub(8), FILES).
    """
    if at.mount is None:
        return False
    # Its number is of no block device: a file system of btrfs may have several.
    device = os.path.basename(os.path.realpath(at.mount.source))
    members = (at.sys / "fs" / "btrfs").glob(f"*/devices/{device}")
    for uuid in {m.parents[1].name for m in members}:
        status = at.scrubs / f"scrub.status.{uuid}"
        try:
            fresh = time.time() - status.stat().st_mtime < SCRUB_FRESH_S
        except OSError:
            continue
        going = [x for x in text(status).splitlines() if "|canceled:0|finished:0" in x]
        if fresh and going:
            return True
    return False


def _load(at: Place) -> Iterator[Circumstance]:
    for what, limit, effect in (
        ("io", BUSY_IO, "drives were waited for just before the start"),
        ("cpu", BUSY_CPU, "the processor was busy just before the start"),
    ):
        match = re.search(r"some avg10=([\d.]+)", text(at.proc / "pressure" / what))
        if match is not None and float(match[1]) > limit:
            yield Circumstance(
                Kind.LOAD,
                f"{what} pressure {float(match[1]):.0f} % of the last 10 s",
                True,
                effect,
            )
    if not (at.proc / "pressure").is_dir():
        load = text(at.proc / "loadavg").split()
        if load and float(load[0]) > max((os.cpu_count() or 1) / 2, 1):
            yield Circumstance(
                Kind.LOAD, f"load {load[0]}", True, "the processor was busy just before the start"
            )


def _temperature(at: Place) -> Iterator[Circumstance]:
    if at.device is None:
        return
    read = {s.name: c for s in sensors_of(at.device.name) if (c := s.read_c()) is not None}
    if warm := plausible_temperatures(read, at.stuck_sensors):
        warmest = max(warm.values())
        yield Circumstance(
            Kind.TEMPERATURE,
            f"{warmest:.0f} °C before the start",
            warmest >= WARM_C,
            "it may throttle sooner" if warmest >= WARM_C else "",
            "let it cool down" if warmest >= WARM_C else "",
        )
