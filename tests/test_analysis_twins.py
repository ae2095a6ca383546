"""Twins: fitted, written, read again, measured, and ranked by what they predict."""

from __future__ import annotations

import re
import shutil
import statistics
import subprocess
import zipfile
from collections.abc import Callable
from importlib import resources
from pathlib import Path

import numpy as np
import pytest

from jovik.base.errors import UsageError
from jovik.base.recording_file import read_recording, write_recording
from jovik.base.shipped import shipped_path
from jovik.shelf.archive import twins_archive
from jovik.simulator import load_model
from jovik.simulator.replay import elapsed_s
from jovik.simulator.robust_fit import Floats, robust_fit
from jovik.steps import parse_access
from jovik.steps.replay import recording_names
from tests.conftest import Program
from tests.programs import need
from tests.test_recording import chain
from tests.test_recording_counters import LIMITED

DRIVES = {
    "comet": "Veldhaar Comet 2TB",
    "slate": "Corvane Slate 1TB",
    "pebble": "Tarnmoor Pebble 1TB",
    "gannet": "Corvane Gannet 12TB",
}


def shipped_model(name: str) -> bytes:
    return (resources.files("jovik.simulator") / "catalogue" / f"{name}.toml").read_bytes()


MEASURED: dict[str, bytes] = {}
"""Exports of drives that were measured by the plan already."""


def second_look(jovik: Program, model: str) -> str:
    out = jovik.folder / f"{model}-measured.zip"
    if model in MEASURED:
        out.write_bytes(MEASURED[model])
        jovik("shelf", "import", out)
    else:
        jovik("measure", f"model:{model}", "--plan", "second-look", "--seed", "3", "--yes")
        jovik("shelf", "export", "--out", out, "--drive", DRIVES[model])
        MEASURED[model] = out.read_bytes()
    return DRIVES[model]


@pytest.mark.parametrize("model", DRIVES)
def test_a_twin_of_second_look_predicts_the_shipped_programs(jovik: Program, model: str) -> None:
    name = second_look(jovik, model)
    found = jovik("twin", name, "--out", "twin.toml", "--format", "json").json
    assert found["typical_error"] < 0.05 and found["missing"] == []
    true = load_model(model).behaviour
    twin = load_model(str(jovik.folder / "twin.toml")).behaviour
    errors = []
    for program in recording_names():
        recording = read_recording(shipped_path("recording", program))[0]
        took = elapsed_s([twin, true], recording)
        errors.append(abs(took[0] / took[1] - 1))
    assert statistics.median(errors) < 0.02 and max(errors) < 0.1
    for p in found["parameters"]:
        if p["name"] in ("read_latency", "read_rate", "write_rate", "outer_rate", "settle"):
            of = true.platter if p["name"] in ("outer_rate", "settle") else true
            own = getattr(of, p["name"])
            assert p["determined"] and p["value"]["low"] < own < p["value"]["high"]


def test_a_twin_is_a_model_drive_of_its_own_without_claims(jovik: Program) -> None:
    name = second_look(jovik, "slate")
    jovik("twin", name, "--out", "twin.toml")
    drive = load_model(str(jovik.folder / "twin.toml"))
    assert drive.sheet.drive.name == f"{name}, twin" and drive.sheet.claims == ()
    text = (jovik.folder / "twin.toml").read_text()
    assert f'drive = "{name}"' in text and 'firmware = ["' in text and "[origin.determined]" in text
    told = jovik("measure", "model:twin.toml", 'replay "editor-start"', "--passes", "3").out
    assert told.startswith("editor-start: the program 2.88 s, here 2.8")
    judged = jovik("judge", name, "--format", "json", status=None).json
    assert {c["run"] for c in judged["claims"]} <= {r["run"] for r in runs_of(jovik, name)} | {None}
    refused = jovik("twin", name, "--out", "twin.txt", status=2).err
    assert "end it in .toml" in refused


def runs_of(jovik: Program, drive: str) -> list[dict[str, str]]:
    found = jovik("runs", "list", "--format", "json").json["runs"]
    return [r for r in found if r["drive"] == drive]


def test_what_no_step_determined_is_of_the_class_and_says_so(jovik: Program) -> None:
    steps = [f"random read 4KiB depth {d} for 1s" for d in (1, 4, 32)]
    jovik("measure", "model:comet", *steps, "--passes", "3", "--seed", "1")
    told = jovik("twin", DRIVES["comet"]).out
    found = jovik("twin", DRIVES["comet"], "--format", "json").json
    by_name = {p["name"]: p for p in found["parameters"]}
    assert by_name["read_latency"]["determined"] and by_name["read_iops"]["determined"]
    for name in ("write_latency", "write_rate", "cache_size", "flush_time", "file_time"):
        assert not by_name[name]["determined"] and by_name[name]["phrases"] == []
    assert "no step determined:" in told and "random write 4KiB" in found["missing"]


def test_a_twin_of_a_fake_drive_begins_with_what_it_lost(jovik: Program) -> None:
    steps = [f"random read 4KiB depth {d} for 1s" for d in (1, 4, 32)]
    jovik("measure", "model:hollow", *steps, "--passes", "3")
    jovik("measure", "model:hollow", "sequential write 1MiB over 100GB verify", status=4)
    told = jovik("twin", "Oberon Hollow 2TB").out
    assert told.startswith("Oberon Hollow 2TB holds about 64.0 GB, not 2.00 TB")
    assert jovik("rank", "--load", "game-level", status=None).out.count("predicted") == 0


def test_too_few_results_name_the_steps_that_are_missing(jovik: Program) -> None:
    jovik("measure", "model:comet", "random read 4KiB for 1s", "--passes", "3")
    refused = jovik("twin", DRIVES["comet"], status=2).err
    assert "too few results" in refused and "sequential write 512KiB depth 4" in refused
    assert "random read 4KiB," not in refused and "second-look" in refused


def test_a_predicted_row_becomes_a_measured_one(jovik: Program) -> None:
    fast, slow = second_look(jovik, "comet"), second_look(jovik, "slate")
    shutil.copy(shipped_path("recording", "game-level"), jovik.folder / "mine.jrec")
    by_file = jovik("rank", "--load", "mine.jrec", "--format", "json").json["programs"]
    found = jovik("rank", "--load", "game-level", "--format", "json").json
    assert by_file == found["programs"]
    assert [(p["drive"], p["predicted"]) for p in found["programs"]] == [(fast, True), (slow, True)]
    predicted = found["programs"][1]["elapsed_s"]
    jovik("measure", "model:slate", 'replay "game-level"', "--passes", "5")
    again = jovik("rank", "--load", "game-level", "--format", "json").json["programs"]
    assert [(p["drive"], p["predicted"]) for p in again] == [(fast, True), (slow, False)]
    assert predicted["low"] <= again[1]["elapsed_s"]["median"] <= predicted["high"]
    told = jovik("rank", "--load", "game-level").out
    assert told.startswith("game-level takes 4.0") and "(predicted)" in told.splitlines()[0]


def test_an_upgrade_by_a_recorded_program(jovik: Program) -> None:
    fast, slow = second_look(jovik, "comet"), second_look(jovik, "slate")
    words = ["upgrade", slow, fast, "--load", "game-level"]
    times = {
        p["drive"]: p["elapsed_s"]["median"]
        for p in jovik("rank", "--load", "game-level", "--format", "json").json["programs"]
    }
    job = jovik(*words, "--format", "json").json["upgrades"][0]["jobs"][0]
    assert (job["job"], job["computed"], job["old_how"]) == ("game level", False, "predicted")
    assert (job["old_s"], job["new_s"]) == (times[slow], times[fast])
    told = jovik(*words).out.splitlines()
    assert told[0].startswith("game level takes 4.0")
    # Behind the slow drive's link the fast one saves little of a program that reads large files.
    linked = jovik(*words, "--link", "550MB/s", "--format", "json").json["upgrades"][0]["jobs"][0]
    assert times[fast] * 1.1 < linked["new_s"] < times[slow]
    jovik("measure", "model:slate", 'replay "game-level"', "--passes", "5")
    mixed = jovik(*words, "--format", "json").json["upgrades"][0]["jobs"]
    assert [(j["old_how"], j["new_how"]) for j in mixed if j["job"] == "game level"] == [
        ("measured", "predicted")
    ]
    assert (
        "class of drives has no twin"
        in jovik(*words[:2], "class:hdd-7200", *words[3:], status=2).err
    )
    assert "no recorded program" in jovik(*words[:3], "--load", "nothing", status=2).err


def test_a_program_fits_a_drive_if_it_is_no_slower_than_when_it_was_recorded(
    jovik: Program,
) -> None:
    fast = second_look(jovik, "comet")
    found = jovik("fit", fast, "--load", "game-level", "--format", "json").json
    (asked,) = found["asked"]
    assert (asked["verdict"], asked["predicted"]) == ("faster", True) and found["fits"] == []
    assert asked["elapsed_s"]["high"] < asked["recorded_s"]
    slow = second_look(jovik, "gannet")
    told = jovik("fit", slow, "--load", "game-level", "--load", "voices", status=1).out
    assert "runs game-level slower than when recorded" in told and "sustainable loads" in told
    assert "jovik rank --load game-level" in jovik("fit", "--load", "game-level", status=2).err
    jovik("measure", "model:pebble", "random read 4KiB for 1s", "--passes", "3")
    refused = jovik("fit", "Tarnmoor Pebble 1TB", "--load", "game-level", status=2).err
    assert "too few results for a twin" in refused


def test_a_program_whose_range_no_drive_holds_is_not_predicted(jovik: Program) -> None:
    jovik("measure", "model:thimble", "--plan", "second-look", "--seed", "3", "--yes")
    # A request for each piece of more than the 128 GB of the drive.
    write_recording(chain(130_000, 1000, 1000), jovik.folder / "huge.jrec")
    refused = jovik("rank", "--load", "huge.jrec", status=2).err
    assert "no drive was measured with" in refused


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (("[origin]", '[origin]\nrun_this = "rm"'), "run_this"),
        (("[behaviour]", '[behaviour]\nread_speed = "1GB/s"'), "read_speed"),
        (("\nread_iops = ", "\nread_iops = -"), "read_iops"),
        (('capacity = "1TB"\nfirmware', 'capacity = "1e400TB"\nfirmware'), "capacity"),
    ],
)
def test_a_foreign_twin_is_checked_whole(
    jovik: Program, change: tuple[str, str], reason: str
) -> None:
    second_look(jovik, "slate")
    jovik("twin", DRIVES["slate"], "--out", "twin.toml")
    path = Path(jovik.folder / "twin.toml")
    path.write_text(path.read_text().replace(*change, 1))
    with pytest.raises(UsageError, match=reason):
        load_model(str(path))


def test_readers_rank_by_the_twins_of_a_site(jovik: Program) -> None:
    fast, slow = second_look(jovik, "comet"), second_look(jovik, "gannet")
    jovik("measure", "model:pebble", "random read 4KiB for 1s", "--passes", "3")
    jovik("report", "--all", "--each", "--out", "site")
    twins = {p.name for p in (jovik.folder / "site").glob("*-twin.toml")}
    assert twins == {"veldhaar-comet-2tb-twin.toml", "corvane-gannet-12tb-twin.toml"}
    page = (jovik.folder / "site" / "veldhaar-comet-2tb.html").read_text()
    assert 'href="veldhaar-comet-2tb-twin.toml"' in page and 'href="twins.zip"' in page
    own = jovik("rank", "--load", "game-level", "--format", "json").json
    archive = jovik.folder / "site" / "twins.zip"
    reader = Program(jovik.folder, jovik.env | {"JOVIK_SHELF": str(archive)})
    found = reader("rank", "--load", "game-level", "--format", "json").json
    assert [p["drive"] for p in found["programs"]] == [fast, slow]
    for one, other in zip(found["programs"], own["programs"], strict=True):
        # Files have whole nanoseconds and bytes.
        assert one["elapsed_s"]["median"] == pytest.approx(other["elapsed_s"]["median"], rel=1e-4)
        assert one["elapsed_s"]["high"] == pytest.approx(other["elapsed_s"]["high"], rel=1e-3)
        assert one["predicted"] and one["typical_error"] == pytest.approx(
            other["typical_error"], abs=1e-5
        )
    told = reader("rank", "--load", "game-level").out
    assert "when it was recorded (simulated, on model:slate), it took 5.23 s" in told
    assert "s less" in told and "s more" in told
    assert slow not in reader("rank", "--load", "game-level", "--medium", "solid").out
    assert (
        "no twin in this archive"
        in reader("rank", "--load", "game-level", "--medium", "tape", status=2).err
    )
    assert "add --load RECORDING" in reader("rank", status=2).err
    assert "it holds twins, not a shelf" in jovik("shelf", "import", archive, status=2).err


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda files: files.update({"a.toml": b"[drive]\nname = 'x'"}), "a.toml"),
        (lambda files: files.update({"a.toml": shipped_model("slate")}), "is no twin"),
        (lambda files: files.update({"a.toml": b"#" * 200_000}), "more than any archive of twins"),
    ],
)
def test_a_foreign_archive_of_twins_is_checked_whole(
    jovik: Program, change: Callable[[dict[str, bytes]], None], said: str
) -> None:
    files: dict[str, bytes] = {}
    change(files)
    archive = jovik.folder / "twins.zip"
    archive.write_bytes(twins_archive({n: b.decode() for n, b in files.items()}))
    refused = jovik("rank", "--load", "game-level", "--shelf", archive, status=2).err
    assert said in refused


def test_a_twin_on_a_site_is_never_older_than_its_page(jovik: Program) -> None:
    second_look(jovik, "comet")
    publish = ["report", "--all", "--each", "--out", "site", "--format", "json"]
    first = {Path(p).name for p in jovik(*publish).json["written"]}
    assert {"twins.zip", "veldhaar-comet-2tb-twin.toml"} <= first
    assert jovik(*publish).json["written"] == []
    site = jovik.folder / "site"
    old = (site / "twins.zip").read_bytes()
    (site / "twins.zip").unlink()
    assert "twins.zip" in str(jovik(*publish).json["written"])
    assert (site / "twins.zip").read_bytes() == old
    (site / "veldhaar-comet-2tb-twin.toml").unlink()
    assert "comet-2tb-twin.toml" in str(jovik(*publish).json["written"])
    jovik("measure", "model:comet", "random read 4KiB for 900ms", "--passes", "9", "--seed", "8")
    again = str(jovik(*publish).json["written"])
    assert "veldhaar-comet-2tb-twin.toml" in again and "twins.zip" in again
    twin = site / "veldhaar-comet-2tb-twin.toml"
    with zipfile.ZipFile(site / "twins.zip") as archive:
        assert archive.read(twin.name) == twin.read_bytes()
    # What its results no longer allow is in no archive.
    for run in jovik("runs", "--format", "json").json["runs"]:
        jovik("runs", "exclude", run["run"], "--why", "spoilt")
    jovik("measure", "model:comet", "random read 4KiB for 900ms", "--passes", "3")
    jovik(*publish)
    with zipfile.ZipFile(site / "twins.zip") as archive:
        assert archive.namelist() == ["manifest.json"]
    assert "twins.zip" not in (site / "index.html").read_text()
    (site / "corvane-slate-1tb-twin.toml").write_text("mine")
    jovik("measure", "model:slate", "random read 4KiB for 1s", "--passes", "2")
    assert "corvane-slate-1tb-twin.toml" in jovik(*publish, status=2).err


@pytest.mark.parametrize(
    ("model", "steps", "name", "within"),
    [
        ("comet", ["random read 4KiB for 2s", "random write 4KiB for 2s"], "latency_spread", 0.08),
        (
            "quarry",
            [
                "sequential write 128KiB depth 32 over 90% of free",
                "purge",
                "precondition 2 times at random within 90% of free",
                "random write 4KiB depth 32 until steady within 90% of free",
            ],
            "flash_size",
            0.02,
        ),
        (
            "mixer",
            ["random mixed 70% read 4KiB depth 8 for 1s", "random mixed 30% read 4KiB for 1s"],
            "mixed_share",
            0.03,
        ),
        (
            "narrow",
            [
                "sequential write 512KiB depth 4 over 30% of free",
                "empty",
                "fill to 80%",
                "sequential write 512KiB depth 4 over 60% of free",
            ],
            "full_share",
            0.1,
        ),
    ],
)
def test_other_results_determine_the_rest_of_a_twin(
    jovik: Program, model: str, steps: list[str], name: str, within: float
) -> None:
    text = shipped_model(
        "comet" if model == "comet" else "quarry" if model == "quarry" else "slate"
    )
    changed = {
        "mixer": "mixed_share = 0.6\n",
        "narrow": "full_from = 0\nfull_share = 0.4\n",
        "comet": "write_latency_spread = 0.5\n",
        # Two amplifications at once are one to whoever sees the rate only.
        "quarry": 'mapping_size = "4KiB"\n',
    }
    text = re.sub(rb"(full_from|full_share|mapping_size) = .*\n", b"", text)
    text = text.replace(b"[behaviour]\n", b"[behaviour]\n" + changed.get(model, "").encode(), 1)
    (jovik.folder / f"{model}.toml").write_bytes(text)
    short = ["random read 4KiB depth 1,32 for 1s", "sequential read 512KiB depth 4 for 1s"]
    short += ["random write 4KiB depth 1,32 for 600ms", "sequential write 512KiB depth 4 for 600ms"]
    words = ["--passes", "3", "--seed", "5", "--yes"]
    jovik("measure", f"model:{model}.toml", *short, "purge", *steps, *words, timeout=600)
    drive = jovik("runs", "--format", "json").json["runs"][0]["drive"]
    found = jovik("twin", drive, "--out", "twin.toml", "--format", "json").json["parameters"]
    true = load_model(str(jovik.folder / f"{model}.toml")).behaviour
    own = next(p for p in found if p["name"] == name)
    assert own["phrases"] and own["value"]["median"] == pytest.approx(
        getattr(true, name), rel=within
    )
    written = load_model(str(jovik.folder / "twin.toml")).behaviour
    assert getattr(written, name) == pytest.approx(own["value"]["median"], rel=1e-3)
    if model == "comet":
        assert written.spreads == pytest.approx((0.3, 0.5), rel=0.08)


def test_heat_that_was_seen_is_the_twins(jovik: Program) -> None:
    steps = ["random read 4KiB for 2s", "random read 4KiB depth 32 for 2s"]
    steps += ["sequential read 512KiB depth 4 for 3s", "random write 4KiB for 2s"]
    jovik("measure", "model:ember", *steps, "--passes", "3", "--seed", "3")
    cool = jovik("twin", "Veldhaar Ember 1TB", "--format", "json").json["parameters"]
    assert "full" not in {p["name"] for p in cool}  # it hardly warmed up
    jovik("measure", "model:ember", *steps, "sequential read 1MiB depth 8 for 10min", "--passes", 1)
    found = jovik("twin", "Veldhaar Ember 1TB", "--out", "twin.toml", "--format", "json").json
    values = {p["name"]: p["value"]["median"] for p in found["parameters"]}
    # Of its sensors the warmest that moves shows 4 degrees more than the drive has.
    true = load_model("ember").behaviour.heat
    twin = load_model(str(jovik.folder / "twin.toml")).behaviour
    assert true is not None and twin.heat is not None
    assert twin.heat.idle == pytest.approx(true.idle + 4, abs=1)
    assert twin.heat.time == pytest.approx(true.time, rel=0.1)
    assert twin.heat.throttle_at == pytest.approx(true.throttle_at + 4, abs=0.5)
    assert twin.heat.resume_at == pytest.approx(true.resume_at + 4, abs=0.5)
    assert twin.heat.throttle_share == pytest.approx(true.throttle_share, abs=0.01)
    assert values["full"] == pytest.approx(twin.heat.full, abs=0.1)
    # A step that heat held back says nothing of the rate of a cool drive.
    assert values["read_rate"] == pytest.approx(12.5e9, rel=0.05)
    told = jovik("measure", "model:twin.toml", "sequential read 1MiB depth 8 for 10min").out
    assert "limited by the heat (at 88 °C" in told


def test_a_long_write_that_saw_no_cliff_says_nothing_of_the_rate_after_it(jovik: Program) -> None:
    steps = ["random read 4KiB depth 1,32 for 1s", "sequential read 512KiB depth 4 for 1s"]
    steps += [
        "sequential write 512KiB depth 4 for 600ms",
        "sequential write 1MiB depth 8 over 20GB",
    ]
    jovik("measure", "model:comet", *steps, "--passes", "3", "--yes")
    found = jovik("twin", DRIVES["comet"], "--format", "json").json["parameters"]
    by_name = {p["name"]: p for p in found}
    assert (
        not by_name["direct_write_rate"]["determined"] and not by_name["cache_size"]["determined"]
    )
    assert by_name["direct_write_rate"]["value"]["median"] < 3e9


def test_a_limit_lets_through_at_once_what_was_saved_up() -> None:
    free = load_model("comet").behaviour.model_copy(update={"latency_spread": 0.0})
    held = free.model_copy(update={"read_limit": 20e6})
    slow = chain(100, 10_000_000, 1000, 65_536)
    assert elapsed_s([held], slow) == elapsed_s([free], slow), "6.5 MB/s are asked for"
    whole = 100 * 65_536 / 20e6
    # The first tenth of a second's worth comes at once.
    assert elapsed_s([held], chain(100, 0, 1000, 65_536))[0] == pytest.approx(whole - 0.1, rel=0.03)
    disk = load_model("gannet").behaviour.model_copy(update={"read_limit": 5e5})
    seeks = chain(100, 0, 1000, 65_536)
    assert elapsed_s([disk], seeks)[0] == pytest.approx(100 * 65_536 / 5e5 - 0.1, rel=0.03)
    assert disk.iops(parse_access("sequential read 1MiB").workload(0)) == pytest.approx(5e5 / 2**20)
    writes = held.model_copy(update={"read_limit": None, "write_limit": 20e6})
    fast = chain(100, 0, 1000, 65_536)
    assert elapsed_s([writes], fast) == elapsed_s([free], fast)


@pytest.mark.skipif(not LIMITED.exists(), reason="needs groundtruth/limited")
@pytest.mark.skipif(not Path("/sys/fs/cgroup/blkio").is_dir(), reason="needs the blkio controller")
def test_a_limit_of_a_control_group_is_named_and_is_the_twins(jovik: Program) -> None:
    need("losetup", "mkfs.ext4")
    jovik("sheet", "new", "Held", "--interface", "SATA 6 Gb/s")
    steps = ["random read 4KiB depth 1,8 for 1s", "sequential read 256KiB depth 4 for 1s"]
    steps += ["random write 4KiB depth 8 for 1s within 64MiB"]
    words = ["measure", "{dir}", *steps, "--drive", "Held", "--passes", "3", "--no-rest", "--yes"]
    held = [LIMITED, "--where", "/dev/shm", "--size", "1500M"]
    held += ["--read-bps", "20M", "--write-bps", "10M", "--"]
    done = subprocess.run(
        [*held, *jovik.command(*words)],
        env=jovik.env,
        cwd=jovik.folder,
        capture_output=True,
        text=True,
        check=True,
    )
    assert "reads at most 20.0 MB/s" in done.stderr and "writes at most 10.0 MB/s" in done.stderr
    shown = jovik("runs", "show", "last", "--format", "json").json["steps"]
    limits = [[x for x in s["limits"] if x["what"] == "control group"] for s in shown]
    assert all(limits), "each step asks for more"
    assert limits[0][0]["rate_bytes_s"] == pytest.approx(20e6, rel=0.01)
    jovik("twin", "Held", "--out", "held.toml")
    twin = load_model(str(jovik.folder / "held.toml")).behaviour
    assert (twin.read_limit, twin.write_limit) == pytest.approx((20e6, 10e6), rel=0.01)
    assert "latency_spread" not in twin.model_fields_set, "its waits are the control group's"
    jovik("sheet", "claim", "Held", "sequential read", "500MB/s")
    assert "control group" in jovik("judge", "Held", status=None).out


def test_the_file_of_a_twin_with_the_widest_spread_is_read(jovik: Program) -> None:
    text = shipped_model("comet").replace(
        b"[behaviour]\n", b"[behaviour]\nlatency_spread = 2.0\n", 1
    )
    (jovik.folder / "wide.toml").write_bytes(text)
    for seed in ("1", "2", "3"):  # a sample of latencies is a little wider, or narrower
        steps = ["random read 4KiB depth 1,32 for 1s", "random write 4KiB depth 1,32 for 1s"]
        jovik("measure", "model:wide.toml", *steps, "--passes", "3", "--seed", seed)
        jovik("twin", "Veldhaar Comet 2TB", "--out", f"twin{seed}.toml")
        twin = load_model(str(jovik.folder / f"twin{seed}.toml")).behaviour
        assert twin.latency_spread == pytest.approx(2.0, rel=0.05)


@pytest.mark.parametrize("seed", range(6))
def test_a_robust_fit_is_scipys(seed: int) -> None:
    """The same cost, minimum and Hessian as another program's, outliers included."""
    from scipy.optimize import least_squares

    rng = np.random.default_rng(seed)
    x = np.linspace(0.1, 4, 25)
    seen = 3 * np.exp(-0.8 * x) + 0.5 + rng.normal(0, 0.05, 25)
    seen[rng.integers(0, 25, 3)] += 5

    def residuals(p: Floats) -> Floats:
        return np.asarray((p[0] * np.exp(-p[1] * x) + p[2] - seen) / 0.05)

    start = np.array([1.0, 1.0, 0.0])
    theirs = least_squares(residuals, start, loss="soft_l1", f_scale=3.0, xtol=1e-12, ftol=1e-12)
    ours, jacobian = robust_fit(residuals, start, 3.0)
    assert ours == pytest.approx(theirs.x, rel=1e-4)
    assert jacobian.T @ jacobian == pytest.approx(theirs.jac.T @ theirs.jac, rel=1e-3)
