"""What on a machine can make figures differ, from recorded trees of sysfs and proc."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest

from jovik.base.circumstances import CircumstanceKind
from jovik.hardware.circumstances import Place, circumstances
from jovik.hardware.device import devices
from jovik.hardware.layers import stack_of
from jovik.hardware.mounts import Mount, read_mounts
from tests.conftest import Program
from tests.test_cli_several import device


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    """An empty machine; a test puts into it what it is about."""
    (tmp_path / "sys" / "block").mkdir(parents=True)
    (tmp_path / "proc").mkdir()
    return tmp_path


def put(tree: Path, **files: str) -> None:
    """Files by their path with two underscores for a slash."""
    for name, content in files.items():
        path = tree / name.replace("__", "/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)


def seen(tree: Path, **at: object) -> dict[CircumstanceKind, tuple[str, bool]]:
    place = Place(
        sys=tree / "sys",
        proc=tree / "proc",
        timers=tree / "timers",
        scrubs=tree / "scrubs",
        **at,  # type: ignore[arg-type]
    )
    return {c.kind: (c.value, c.matters) for c in circumstances(place)}


def test_a_quiet_machine_has_nothing_to_tell(tree: Path) -> None:
    put(tree, sys__devices__system__cpu__cpu0__cpufreq__scaling_governor="performance\n")
    assert seen(tree) == {CircumstanceKind.GOVERNOR: ("performance", False)}


@pytest.mark.parametrize(
    ("governor", "driver", "preference", "matters"),
    [
        ("powersave", "acpi-cpufreq", "", True),
        ("powersave", "intel_pstate", "balance_performance", False),
        ("powersave", "intel_pstate", "power", True),
        ("schedutil", "acpi-cpufreq", "", False),
    ],
)
def test_the_governor_matters_where_it_slows(
    tree: Path, governor: str, driver: str, preference: str, matters: bool
) -> None:
    base = "sys__devices__system__cpu__cpu0__cpufreq__"
    files = {"scaling_governor": governor, "scaling_driver": driver}
    files |= {"energy_performance_preference": preference} if preference else {}
    put(tree, **{base + k: v + "\n" for k, v in files.items()})
    value, told = seen(tree)[CircumstanceKind.GOVERNOR]
    assert told is matters and value.startswith(governor)


def test_a_laptop_on_battery_is_told_and_a_mouse_is_not(tree: Path) -> None:
    put(
        tree,
        sys__class__power_supply__hidpp_0__type="Battery\n",
        sys__class__power_supply__hidpp_0__scope="Device\n",
        sys__class__power_supply__hidpp_0__status="Discharging\n",
    )
    assert seen(tree) == {}
    put(
        tree,
        sys__class__power_supply__BAT0__type="Battery\n",
        sys__class__power_supply__AC__type="Mains\n",
        sys__class__power_supply__AC__online="1\n",
    )
    assert seen(tree) == {}
    put(tree, sys__class__power_supply__AC__online="0\n")
    assert seen(tree)[CircumstanceKind.BATTERY] == ("on battery", True)


def test_link_power_saving_is_told_by_kind_of_link(tree: Path) -> None:
    put(tree, sys__module__pcie_aspm__parameters__policy="default performance [powersave]\n")
    nvme = device(kind="NVMe", name="nvme0n1")
    assert seen(tree, device=nvme)[CircumstanceKind.LINK_POWER] == ("PCIe ASPM powersave", True)
    assert CircumstanceKind.LINK_POWER not in seen(tree, device=device())


def test_layers_and_mount_options_are_told(tree: Path) -> None:
    blocks = tree / "sys" / "devices" / "block"
    for name, number in (("dm-0", "253:0"), ("dm-1", "253:1"), ("sda", "8:0")):
        (blocks / name / "slaves").mkdir(parents=True)
        (blocks / name / "dev").write_text(number)
        (tree / "sys" / "dev" / "block").mkdir(parents=True, exist_ok=True)
        (tree / "sys" / "dev" / "block" / number).symlink_to(blocks / name)
    put(
        tree,
        **{
            "sys__devices__block__dm-0__dm__uuid": "LVM-abc\n",
            "sys__devices__block__dm-1__dm__uuid": "CRYPT-LUKS2-def\n",
        },
    )
    (blocks / "dm-0" / "slaves" / "dm-1").symlink_to(blocks / "dm-1")
    (blocks / "dm-1" / "slaves" / "sda").symlink_to(blocks / "sda")
    found = stack_of("253:0", tree / "sys")
    assert found.layers == ("logical volume (LVM)", "encryption (dm-crypt)")
    assert found.drives == ("sda",)
    mount = Mount("253:0", "/data", "btrfs", "/dev/dm-0", ("rw", "compress=zstd:3", "sync"))
    place = Place(mount=mount, sys=tree / "sys", proc=tree / "proc", timers=tree / "timers")
    told = {c.value: c.matters for c in circumstances(place)}
    assert told == {
        "encryption (dm-crypt)": True,
        "logical volume (LVM)": False,
        "compression (compress=zstd:3)": True,
        "copy on write (btrfs)": False,
        "mount option sync": True,
    }
    # A folder mounted through the volume belongs to the drive at the bottom.
    (tree / "sys" / "block" / "sda").symlink_to(blocks / "sda")
    (blocks / "sda" / "size").write_text("1000\n")
    (blocks / "sda" / "holders").mkdir()
    (blocks / "sda" / "holders" / "dm-1").symlink_to(blocks / "dm-1")
    (blocks / "dm-1" / "holders").mkdir()
    (blocks / "dm-1" / "holders" / "dm-0").symlink_to(blocks / "dm-0")
    put(tree, proc__self__mountinfo="30 1 253:0 / /data rw - btrfs /dev/dm-0 rw\n")
    assert read_mounts(tree / "proc")
    assert [m.point for m in devices(tree / "sys", tree / "proc")[0].mounts] == ["/data"]


def test_load_swap_and_maintenance_are_told(tree: Path) -> None:
    put(
        tree,
        proc__pressure__io="some avg10=12.34 avg60=1.00 avg300=0.10 total=1\n",
        proc__pressure__cpu="some avg10=0.00 avg60=0.00 avg300=0.00 total=1\n",
        proc__swaps="Filename Type Size Used Priority\n/dev/nosuch0 partition 1 0 -2\n",
        proc__77__comm="fstrim\n",
        proc__cpuinfo="flags\t: fpu hypervisor lahf\n",
        timers__stamp=" ",
    )
    (tree / "timers" / "stamp-fstrim.timer").touch()
    os.utime(tree / "timers" / "stamp-fstrim.timer", (0, 0))
    places = Place(device=device(), sys=tree / "sys", proc=tree / "proc", timers=tree / "timers")
    told = {c.value: c.matters for c in circumstances(places)}
    assert told == {
        "io pressure 12 % of the last 10 s": True,
        "swap on it (/dev/nosuch0)": True,
        "trim is running (fstrim)": True,
        "the weekly trim is due": False,
        "a virtual machine": False,
    }


def test_what_mattered_is_on_record_and_told_by_compare_and_rank(jovik: Program) -> None:
    import json
    import sqlite3

    for rig in ("calm", "travel"):
        jovik("measure", "model:slate", "random read 4KiB for 1s", "--rig", rig, "--passes", "3")
    seen_then: list[dict[str, object]] = [
        {"kind": "battery", "value": "on battery", "matters": True}
    ]
    with sqlite3.connect(jovik.shelf) as shelf:
        shelf.execute(
            "UPDATE run SET circumstances = ? WHERE arrival = 2", (json.dumps(seen_then),)
        )
    words = ("Corvane Slate 1TB@rig=calm", "Corvane Slate 1TB@rig=travel")
    assert "battery no to on battery" in jovik("compare", *words).out.splitlines()[0]
    assert "conditions that matter: Corvane Slate 1TB: on battery" in jovik("rank").out
    assert jovik("runs", "show", "last", "--format", "json").json["circumstances"][0]["value"] == (
        "on battery"
    )
    assert "whole" in jovik("shelf", "check").out
    with sqlite3.connect(jovik.shelf) as shelf:
        shelf.execute('UPDATE run SET circumstances = \'[{"kind": "mood"}]\' WHERE arrival = 2')
    assert "a circumstance" in jovik("shelf", "check", status=1).out


def test_scout_and_health_can_be_tried_on_model_drives(jovik: Program) -> None:
    told = jovik("scout", "model:pebble@link=USB 480 Mb/s", "--format", "json").json["drives"][0]
    assert told["node"] == "model:pebble" and told["link"]["now"] == "USB 480 Mb/s"
    beyond = [o for o in told["obstacles"] if o["what"] == "claim beyond the link"]
    assert len(beyond) == 2
    log = jovik("health", "model:comet", "--format", "json").json
    assert log["health"] == jovik("health", "model:comet", "--format", "json").json["health"]
    assert log["health"]["hours"] > 0 and {r["verdict"] for r in log["readings"]} <= {"OK", ""}
    assert "made-up log" in jovik("health", "model:comet").out
    assert "nearest: comet" in jovik("health", "model:commet", status=2).err
    assert "Circumstances" in jovik("scout", "model:comet", "--all").out


@pytest.mark.parametrize(
    ("ended", "age_s", "scrubbing"),
    [
        ("canceled:0|finished:0", 1, True),
        ("canceled:0|finished:1", 1, False),
        ("canceled:0|finished:0", 600, False),
    ],
)
def test_a_scrub_is_seen_by_its_status_file(
    tree: Path, ended: str, age_s: int, scrubbing: bool
) -> None:
    put(tree, sys__fs__btrfs__ab12__devices__sdx="\n")
    put(tree, scrubs__scrub="")
    status = tree / "scrubs" / "scrub.status.ab12"
    status.write_text(f"scrub status:1\nab12:1|data_extents_scrubbed:4|duration:9|{ended}\n")
    os.utime(status, (time.time() - age_s, time.time() - age_s))
    mount = Mount("0:45", "/mnt/x", "btrfs", "/dev/sdx", ("rw",))
    told = seen(tree, mount=mount)
    assert (CircumstanceKind.MAINTENANCE in told) == scrubbing


def test_what_power_saving_costs_is_told_from_two_steps(jovik: Program) -> None:
    """Slate sleeps after 10 ms and wakes in 120 us, of which a median sees a little less."""
    told = jovik("measure", "model:slate", "--plan", "power-saving", "--seed", "3").out
    assert "after a pause of 50.0 ms a read waits" in told and "saves power" in told
    found = jovik("runs", "show", "last", "--format", "json").json["after_a_pause"][0]
    longer = found["longer_ns"]
    assert found["sure"] and longer["low"] < 120_000 * 0.956 < longer["high"]
    awake = jovik("measure", "model:comet", "--plan", "power-saving", "--seed", "3")
    assert "saves power" not in awake.out and "has no measurable extra wait" in awake.out
