"""Identity, links and health logs, from hand-made trees and logs."""

from __future__ import annotations

import os
import struct
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest

from jovik.analysis.health import changes, counter_note, readings
from jovik.analysis.limits import disturbances, link_limit
from jovik.analysis.readiness import LOW_SPACE_BYTES, Surroundings, obstacles
from jovik.analysis.step_result import PassFigures
from jovik.analysis.temperature import (
    assess_sensors,
    heat_limit,
    seconds_above,
    summarise_temperatures,
    trusted_temperatures,
)
from jovik.base.errors import TargetError
from jovik.base.findings import Disturbance
from jovik.base.health import Health
from jovik.base.trace import PassSurroundings
from jovik.hardware import ata, nvme
from jovik.hardware.device import devices, under_folder
from jovik.hardware.host_load import Counters, between, counters
from jovik.hardware.link import pcie_link, sata_link, usb_link
from jovik.hardware.temperature import sensors_of
from jovik.queries import readiness
from jovik.sheets.sheet import parse_claim
from jovik.steps import IoStep, parse
from tests.conftest import Program


def put(root: Path, **files: str) -> None:
    for name, content in files.items():
        path = root / name.replace("__", "/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content + "\n")


@pytest.fixture
def tree(tmp_path: Path) -> tuple[Path, Path]:
    """A /sys and a /proc with an NVMe drive in a narrow slot, a SATA disk and a USB drive."""
    sys, proc = tmp_path / "sys", tmp_path / "proc"
    common = {
        "queue__logical_block_size": "512",
        "queue__physical_block_size": "4096",
        "queue__write_cache": "write back",
        "ro": "0",
    }
    port = sys / "devices/pci0000:00/0000:01:00.0"
    put(
        port,
        current_link_speed="8.0 GT/s PCIe",
        current_link_width="2",
        max_link_speed="16.0 GT/s PCIe",
        max_link_width="4",
    )
    n = port / "nvme/nvme0/nvme0n1"
    put(
        n,
        size="1953525168",
        dev="259:0",
        queue__scheduler="[none] mq-deadline",
        queue__rotational="0",
        **common,
    )
    put(n / "nvme0n1p1", partition="1", size="1953521664", dev="259:1")
    put(port / "nvme/nvme0", model="Fjord 1TB", serial="HF-00417", firmware_rev="2B1")
    put(
        port / "nvme/nvme0/hwmon1",
        temp1_input="41850",
        temp1_label="Composite",
        temp2_input="52850",
    )
    (n / "device").symlink_to("..")
    s = sys / "devices/pci0000:00/0000:00:1f.2/ata3/host2/target2:0:0/2:0:0:0/block/sda"
    put(
        s,
        size="15628053168",
        dev="8:0",
        queue__scheduler="mq-deadline",
        queue__rotational="1",
        **common,
    )
    put(s / "../..", vendor="ATA     ", model="Tarn Deep 8TB", rev="R12")
    (s.parents[1] / "vpd_pgb1").write_bytes(
        b"\x00\xb1\x00\x3c" + (7200).to_bytes(2, "big") + bytes(58)
    )
    (s.parents[1] / "vpd_pg80").write_bytes(b"\x00\x80\x00\x08TD889001")
    put(s.parents[4] / "link3/ata_link/link3", sata_spd="3.0 Gbps", hw_sata_spd_limit="6.0 Gbps")
    (s / "device").symlink_to("../..")
    usb = sys / "devices/pci0000:00/0000:00:14.0/usb2/2-1"
    put(usb, speed="480", bDeviceClass="00", serial="PB-5", manufacturer="Tarnmoor")
    u = usb / "2-1:1.0/host6/target6:0:0/6:0:0:0/block/sdb"
    put(
        u,
        size="1953525168",
        dev="8:16",
        queue__scheduler="mq-deadline",
        queue__rotational="1",
        **common,
    )
    put(u / "../..", vendor="Tarnmoor", model="Pebble")
    (u / "device").symlink_to("../..")
    for folder in ("block", "dev/block"):
        (sys / folder).mkdir(parents=True)
    for where, number in ((n, "259:0"), (s, "8:0"), (u, "8:16")):
        (sys / "block" / where.name).symlink_to(where)
        (sys / "dev/block" / number).symlink_to(where)
    (sys / "dev/block/259:1").symlink_to(n / "nvme0n1p1")
    mount = tmp_path / "with space"
    mount.mkdir()
    escaped = str(mount).replace(" ", "\\040")
    put(
        proc / "self",
        mountinfo=f"22 1 0:20 / / rw - rootfs rootfs rw\n36 22 259:1 / {escaped} rw,noatime "
        "shared:1 - ext4 /dev/nvme0n1p1 rw,discard",
    )
    put(proc, swaps="Filename Type Size Used Priority")
    return sys, proc


def test_drives_their_links_and_mounts(tree: tuple[Path, Path], tmp_path: Path) -> None:
    fast, disk, usb = devices(*tree)
    assert (fast.kind, fast.model, fast.serial, fast.firmware, fast.medium) == (
        "NVMe",
        "Fjord 1TB",
        "HF-00417",
        "2B1",
        "solid state",
    )
    assert (
        fast.link is not None
        and str(fast.link) == "PCIe 3.0 x2 (of PCIe 4.0 x4)"
        and fast.link.reduced
    )
    assert (
        fast.partitions[0].mounts[0].point == str(tmp_path / "with space")
        and fast.scheduler == "none"
    )
    assert (disk.kind, disk.maker, disk.serial, disk.medium, disk.rpm) == (
        "SATA",
        "",
        "TD889001",
        "spinning",
        7200,
    )
    assert disk.link is not None and str(disk.link) == "SATA 3 Gb/s (of SATA 6 Gb/s)"
    assert (usb.kind, usb.maker, usb.serial, usb.medium) == ("USB", "Tarnmoor", "PB-5", "")
    assert (
        usb.link is not None
        and usb.link.now == "USB 480 Mb/s"
        and usb.link.rate_bytes_s == pytest.approx(53.2e6, rel=0.01)
    )
    found, mount = under_folder(tmp_path / "with space", *tree)
    assert (
        found is not None
        and found.name == "nvme0n1"
        and mount is not None
        and "noatime" in mount.options
    )
    assert {s.name: s.read_c() for s in sensors_of("nvme0n1", tree[0])} == {
        "composite": 41.85,
        "sensor 2": 52.85,
    }


@pytest.mark.parametrize(
    ("rate", "least", "most"),
    [
        (pcie_link(16.0, 4).rate_bytes_s, 7.0e9, 7.88e9),
        (pcie_link(8.0, 4).rate_bytes_s, 3.5e9, 3.94e9),
        (pcie_link(5.0, 1).rate_bytes_s, 0.44e9, 0.5e9),
        (sata_link(6.0).rate_bytes_s, 590e6, 600e6),
        (usb_link(480).rate_bytes_s, 53e6, 54e6),
        (usb_link(5000).rate_bytes_s, 460e6, 500e6),
        (usb_link(10000).rate_bytes_s, 1.1e9, 1.21e9),
    ],
)
def test_what_a_link_can_carry(rate: float | None, least: float, most: float) -> None:
    assert rate is not None and least < rate < most


def nvme_log(**changed: int) -> bytes:
    """A health log by figure 207 of the base specification."""
    log = bytearray(512)
    facts = {
        "warning": 0,
        "kelvin": 314,
        "spare": 100,
        "least": 10,
        "used": 3,
        "read": 2000,
        "written": 1000,
        "cycles": 12,
        "hours": 345,
    }
    facts |= {"unsafe": 4, "media": 0, "warm": 0, "throttled": 0} | changed
    log[0], log[3], log[4], log[5] = facts["warning"], facts["spare"], facts["least"], facts["used"]
    log[1:3] = struct.pack("<H", facts["kelvin"])
    for at, name in (
        (32, "read"),
        (48, "written"),
        (112, "cycles"),
        (128, "hours"),
        (144, "unsafe"),
        (160, "media"),
    ):
        log[at : at + 16] = facts[name].to_bytes(16, "little")
    log[192:196] = struct.pack("<I", facts["warm"])
    log[200:204] = struct.pack("<HH", 320, 0)
    log[224:228] = struct.pack("<I", facts["throttled"])
    return bytes(log)


def test_an_nvme_health_log() -> None:
    identity = bytearray(4096)
    identity[266:270] = struct.pack("<HH", 343, 358)
    health = nvme.parse_health(nvme_log(throttled=7, warm=1), bytes(identity))
    assert health.temperatures_c == {"composite": 41.0, "sensor 1": 47.0} and (
        health.warning_c,
        health.critical_c,
    ) == (70.0, 85.0)
    assert (health.percentage_used, health.hours, health.power_cycles, health.unsafe_shutdowns) == (
        3,
        345,
        12,
        4,
    )
    assert health.host_written_bytes == 1000 * 512_000 and health.throttled_s == 67
    told = {r.what: r for r in readings(health)}
    assert (
        told["rated endurance used"].verdict == "OK" and told["time throttled"].verdict == "warning"
    )
    worn = {
        r.what: r.why
        for r in readings(
            nvme.parse_health(nvme_log(warning=0b101, used=104, spare=5, media=3, kelvin=8))
        )
    }
    assert (
        "beyond its rated endurance" in worn["rated endurance used"]
        and "below its threshold" in worn["spare capacity"]
    )
    assert (
        worn["warning"]
        and worn["media errors"]
        and "not to be believed" in worn["temperature, composite"]
    )


def ata_data(**attributes: int) -> bytes:
    data = bytearray(512)
    for place, (name, value) in enumerate(attributes.items()):
        entry = bytes([int(name[1:])]) + b"\x32\x00\x64\x64" + value.to_bytes(6, "little") + b"\x00"
        data[2 + 12 * place : 14 + 12 * place] = entry
    data[0] = 16
    return bytes(data)


def test_ata_smart_data_and_statistics() -> None:
    general, solid = bytearray(512), bytearray(512)
    general[16:24] = (777).to_bytes(6, "little") + b"\x00\xc0"
    general[24:32] = (10**9).to_bytes(6, "little") + b"\x00\xc0"
    general[40:48] = (5).to_bytes(6, "little") + b"\x00\x80"  # there, but not valid
    solid[8:16] = (42).to_bytes(6, "little") + b"\x00\xc0"
    data = ata_data(a5=2, a9=100, a12=9, a194=0x0030_0014_0023, a197=0, a199=31, a242=7)
    health = ata.parse_health(data, {1: bytes(general), 7: bytes(solid)})
    assert (
        health.hours,
        health.power_cycles,
        health.percentage_used,
        health.reallocated_sectors,
    ) == (777, 9, 42, 2)
    assert health.temperatures_c == {"drive": 35.0}
    assert health.host_written_bytes == 512 * 10**9 and health.host_read_bytes == 7 * 512
    told = {r.what: (r.verdict, r.why) for r in readings(health)}
    assert (
        told["reallocated sectors"][0] == "warning"
        and "cable" in told["link errors"][1]
        and told["pending sectors"][0] == "OK"
    )


def test_an_ata_identity() -> None:
    data = bytearray(512)

    def words(first: int, text: str, count: int) -> None:
        padded = text.ljust(2 * count).encode()
        for i in range(count):
            data[2 * (first + i) : 2 * (first + i) + 2] = padded[2 * i : 2 * i + 2][::-1]

    words(10, "TD889001", 10)
    words(23, "R12", 4)
    words(27, "Tarn Deep 8TB", 20)
    data[434:436] = struct.pack("<H", 5400)
    data[164] = 1
    assert ata.parse_identity(bytes(data)) == ata.AtaIdentity(
        "Tarn Deep 8TB", "TD889001", "R12", 5400, True
    )


@pytest.mark.parametrize("parse", [nvme.parse_health, ata.parse_health])
@pytest.mark.parametrize(
    ("log", "said"),
    [
        (b"\xff" * 512, "full of ones"),
        (bytes(512), "full of zeros"),
        (b"\x01" * 100, "cut short: 100 of 512"),
    ],
)
def test_a_log_that_is_none_is_refused(parse: object, log: bytes, said: str) -> None:
    with pytest.raises(TargetError, match=said):
        parse(log)  # type: ignore[operator]


def test_a_run_against_the_drives_own_counter() -> None:
    def health(written: int, **more: int) -> Health:
        return Health("x", host_written_bytes=written, **more)  # type: ignore[arg-type]

    assert counter_note(health(0), health(10 * 10**9), 10 * 10**9) == ""
    assert "factor of 1000" in counter_note(health(0), health(10**8), 100 * 10**9)
    assert "did not move" in counter_note(health(5), health(5), 10**11)
    assert changes(
        health(0, media_errors=1, throttled_s=0), health(0, media_errors=3, throttled_s=9)
    ) == [
        "2 new media errors",
        "it slowed itself down for heat for 9 s",
    ]


def test_sensors_that_cannot_be_believed_are_set_aside() -> None:
    samples = [
        (
            float(t),
            {
                "drive": 30 + t / 5,
                "stuck": 40.0,
                "mad": 250.0,
                "far": 115 + t / 100,
                "near": 33 + t / 6,
            },
        )
        for t in range(0, 120, 2)
    ]
    found = {r.name: r for r in assess_sensors(samples)}
    assert found["drive"].set_aside == "" and found["near"].set_aside == ""
    assert (
        "never moved" in found["stuck"].set_aside
        and "no drive is at 250" in found["mad"].set_aside
        and "away from the others" in found["far"].set_aside
    )
    assert seconds_above(trusted_temperatures(samples), 50.0) == pytest.approx(18, abs=2)


def test_a_rate_that_falls_in_the_heat_is_marked() -> None:
    slices = np.zeros((201, 5), np.int64)
    slices[:100, 0], slices[100:, 0] = 10**8, 4 * 10**7
    warm = [(float(t), 50.0 + 2 * t) for t in range(21)]
    limit = heat_limit(slices, warm, 70.0)
    assert (
        limit is not None
        and limit.what == "heat"
        and limit.rate_bytes_s == pytest.approx(4e8, rel=0.15)
    )
    assert heat_limit(slices, warm, 99.0) is None
    steady = np.full((201, 5), 10**8, np.int64)
    assert heat_limit(steady, warm, 70.0) is None
    assert heat_limit(steady, warm, None) is None
    # Hot from the first moment on with normal rates, nothing limits it.
    assert heat_limit(steady, [(float(t), 71.0) for t in range(21)], 70.0) is None
    # A full cache half a minute after the limit was passed is no heat.
    full = np.zeros((601, 5), np.int64)
    full[:400, 2], full[400:, 2] = 10**8, 2 * 10**7
    assert heat_limit(full, [(float(t), 60.0 + t) for t in range(61)], 65.0) is None
    # It throttles at its limit, and cools below it while it does.
    cooling = [(float(t), 50.0 + 2 * t if t <= 10 else 80.0 - t) for t in range(21)]
    assert heat_limit(slices, cooling, 70.0) is not None


def test_a_sensor_is_believed_in_all_steps_of_a_run_or_in_none() -> None:
    """One that never moves is found out late; no step then reports its temperature."""
    slices = np.full((101, 5), 10**8, np.int64)
    first = [(float(t), {"drive": 40.0 + t / 10, "board": 103.0}) for t in range(10)]
    later = [(float(t), {"drive": 41.0 + t / 10, "board": 103.0}) for t in range(10, 120)]
    early = summarise_temperatures([(first, slices)], assess_sensors(first), 85.0)
    assert early.temperature is not None and early.temperature.peak_c == 103.0
    known = summarise_temperatures([(first, slices)], assess_sensors([*first, *later]), 85.0)
    assert known.temperature is not None and known.temperature.peak_c < 42
    assert known.limit is None and not any("above its limit" in n for n in known.notes)
    assert any("'board' (103 °C) is ignored" in n for n in known.notes)


def test_what_disturbs_a_pass_is_named() -> None:
    quiet, busy = PassSurroundings(0.3, 0.25, 0.0, 0), PassSurroundings(0.9, 0.1, 0.3, 5 * 10**7)
    assert disturbances([quiet, None, quiet], [10**9, 10**9, 10**9]) == []
    found = disturbances([quiet, busy], [10**9, 10**9])
    assert [d.sort for d in found] == list(Disturbance)
    assert [round(d.worst, 2) for d in found] == [0.05, 0.3, 0.8] and found[1].bad
    assert [d.amount_bytes for d in found] == [5 * 10**7, None, None]
    before, after = Counters(1, 0, 10, 0.5, 0, 0), Counters(3, 1, 20, 1.5, 10**9, 10**8)
    load = between(before, after, 10**9)
    assert load is not None and (load.busy, load.stolen, load.own, load.other_bytes) == (
        0.2,
        0.1,
        0.1,
        10**8,
    )
    figures = [PassFigures(52e6, 52e6, 1.0, 0, 0, 10**9, 0, 0)] * 3
    assert [x.what for x in link_limit(figures, "USB 480 Mb/s", 53.2e6)] == ["link"]
    assert link_limit(figures, "USB 5 Gb/s", 483e6) == ()


def test_what_stands_in_the_way() -> None:
    around = Surroundings(
        ("it holds an XFS file system",),
        "",
        "",
        False,
        False,
        False,
        None,
        0.0,
        "USB 480 Mb/s",
        53.2e6,
        False,
    )
    told = obstacles(around, [parse_claim("sequential read", "500MB/s")])
    assert [o.what for o in told] == ["claim beyond the link", "can do"]
    assert (
        "this port carries at most 53.2 MB/s; the claim of 500 MB/s" in told[0].why
        and "writing is refused: it holds an XFS" in told[1].why
    )


def test_processor_time_is_counted_in_the_systems_own_ticks(
    tree: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    sys, proc = tree
    (proc / "stat").write_text("cpu  500 0 250 1000 0 0 0 250\n")
    monkeypatch.setattr(os, "sysconf", lambda name: 250)
    found = counters(None, sys, proc)
    assert found is not None and (found.busy_s, found.stolen_s, found.all_s) == (3.0, 1.0, 8.0)


def test_scout_asks_for_the_space_that_a_plan_takes(
    monkeypatch: pytest.MonkeyPatch, jovik: Program
) -> None:
    shown = jovik("plan", "show", "first-look", "--target", "model:comet", "--format", "json").json
    steps = [parse(s) for line in shown["lines"] for s in line["steps"]]
    takes = max(s.span for s in steps if isinstance(s, IoStep))
    for free, is_low in ((takes + 2**30, False), (takes + 2**30 - 1, True)):
        disk = SimpleNamespace(total=10**12, free=free)
        monkeypatch.setattr(readiness.shutil, "disk_usage", lambda _, disk=disk: disk)
        assert (readiness._free("/mnt", False) < LOW_SPACE_BYTES) == is_low
