"""Model drives: their parameters are the truth, and what is measured on them must find it."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from jovik.analysis.long_write import long_write
from jovik.analysis.statistics import interval
from jovik.base.errors import TargetError, UnknownNameError, UsageError
from jovik.base.io_session import CopyJob, Progress, Workload
from jovik.base.trace import Trace
from jovik.simulator import ModelDrive, ModelSession, load_model, model_names
from jovik.simulator.drive_state import RateNoise
from jovik.simulator.parameters import UnreadableRange
from jovik.steps import parse_access
from tests.conftest import Program


def watch(_: Progress) -> None:
    return None


def one_pass(drive: ModelDrive, phrase: str, seed: int = 5) -> Trace:
    work = parse_access(phrase).workload(seed)
    session = ModelSession(drive)
    session.prepare(work, watch)
    return session.run(work, watch)


def still(drive: ModelDrive, **changes: object) -> ModelDrive:
    """The same drive without noise."""
    return other(drive, pass_spread=0.0, slice_spread=0.0, hiccup_every=0, **changes)


def other(drive: ModelDrive, **changes: object) -> ModelDrive:
    """The same drive with other parameters."""
    return replace(drive, behaviour=drive.behaviour.model_copy(update=changes))


@pytest.mark.parametrize("name", model_names())
def test_every_model_drive_has_a_sheet_and_a_behaviour(name: str) -> None:
    drive = load_model(name)
    assert drive.sheet.claims and drive.sheet.drive.capacity_bytes == drive.behaviour.capacity


@pytest.mark.parametrize(
    "phrase",
    [
        "random read 4KiB",
        "random read 4KiB depth 32",
        "random write 64KiB depth 4",
        "sequential read 1MiB depth 8",
        "random mixed 70% read 8KiB depth 16 workers 2",
    ],
)
@pytest.mark.parametrize("name", model_names())
def test_what_is_measured_is_what_the_parameters_say(name: str, phrase: str) -> None:
    # Pauses and bad places are no part of the formula.
    drive = other(load_model(name), hiccup_every=0, bad=[])
    truth = drive.behaviour.iops(parse_access(phrase).workload(0))
    assert one_pass(still(drive), f"{phrase} for 3s").iops == pytest.approx(truth, rel=0.001)
    measured = [one_pass(drive, f"{phrase} for 3s", seed).iops for seed in range(30)]
    found = interval(measured)
    assert found.low is not None and found.high is not None
    assert found.low * 0.99 < truth < found.high * 1.01
    assert np.std(np.log(measured)) == pytest.approx(drive.behaviour.pass_spread, rel=0.6)


def test_rates_rise_with_depth_and_fall_with_block() -> None:
    behaviour = load_model("comet").behaviour
    by_depth = [
        behaviour.iops(parse_access(f"random read 4KiB depth {d}").workload(0))
        for d in (1, 2, 4, 8, 16, 32, 64)
    ]
    assert by_depth == sorted(by_depth)
    by_block = [
        behaviour.iops(parse_access(f"random read {b}KiB").workload(0)) for b in (4, 16, 64, 256)
    ]
    assert by_block == sorted(by_block, reverse=True)


def test_the_write_cache_ends_where_it_says() -> None:
    drive = still(load_model("drift"), cache_size=20 * 10**9)
    trace = one_pass(drive, "sequential write 1MiB depth 8 over 40GB")
    assert trace.written_bytes == pytest.approx(40e9, rel=1e-4)
    written = np.cumsum(trace.slices[:, 2])
    rates = trace.slices[:, 2] / 0.1
    fast, slow = rates[written < 19e9], rates[written > 21e9][:-1]
    behaviour = drive.behaviour
    work = parse_access("sequential write 1MiB depth 8 over 40GB").workload(0)
    assert fast.mean() == pytest.approx(behaviour.iops(work) * 2**20, rel=0.002)
    assert slow.mean() == pytest.approx(behaviour.iops(work, cached=False) * 2**20, rel=0.002)


def test_a_full_cache_starves_the_next_test_until_it_has_drained() -> None:
    drive = still(load_model("drift"))
    session = ModelSession(drive)
    session.run(parse_access("sequential write 1MiB depth 8 over 45GB").workload(1), watch)
    write = parse_access("sequential write 1MiB depth 8 for 1s").workload(1)
    starved = session.run(write, watch).rate_bytes_s
    session.run(parse_access("sequential read 1MiB for 5min").workload(1), watch)
    assert session.run(write, watch).rate_bytes_s > 5 * starved


def test_a_pass_counts_whole_and_latencies_obey_littles_law() -> None:
    trace = one_pass(load_model("comet"), "random mixed 70% read 4KiB depth 16 for 2s")
    assert sum(x.total for x in trace.latencies.values()) == trace.ios
    assert trace.read_bytes + trace.written_bytes == trace.ios * 4096
    mean_ns = sum(x.sum_ns for x in trace.latencies.values()) / trace.ios
    assert mean_ns * trace.iops / 1e9 == pytest.approx(16, rel=0.03)


def test_the_same_seed_gives_the_same_pass() -> None:
    one, two, other = (
        one_pass(load_model("slate"), "random read 4KiB depth 8 for 1s", seed) for seed in (3, 3, 4)
    )
    assert (one.slices == two.slices).all() and one.elapsed_ns == two.elapsed_ns
    assert (one.slices != other.slices).any()


def test_a_paced_pass_keeps_its_pace() -> None:
    assert one_pass(
        load_model("comet"), "sequential write 64KiB at most 100MB/s for 5s"
    ).rate_bytes_s == pytest.approx(100e6, rel=0.005)


def test_more_than_the_drive_holds_is_refused() -> None:
    work: Workload = parse_access("sequential write 1MiB over 3TB").workload(0)
    with pytest.raises(TargetError, match=r"holds 2\.00 TB"):
        ModelSession(load_model("comet")).check(work)


def test_a_model_of_ones_own_and_its_faults(tmp_path: Path) -> None:
    from importlib import resources

    text = (resources.files("jovik.simulator") / "catalogue" / "slate.toml").read_text()
    mine = tmp_path / "mine.toml"
    mine.write_text(text.replace('"556MB/s"', '"300MB/s"'))
    assert load_model(str(mine)).behaviour.read_rate == 300e6
    mine.write_text(text.replace("read_iops = 98000", "read_iops = -1"))
    with pytest.raises(UsageError, match=r"line \d+: read_iops"):
        load_model(str(mine))
    with pytest.raises(UnknownNameError, match="slat") as caught:
        load_model("slat")
    assert "slate" in caught.value.hint


# What each parameter does


def test_a_write_cache_of_free_space_shrinks_as_the_drive_fills() -> None:
    behaviour = load_model("ember").behaviour
    assert behaviour.cache_bytes(0) == pytest.approx(20e9 + 0.08e12) and behaviour.cache_bytes(
        50
    ) == pytest.approx(20e9 + 0.04e12)
    session = ModelSession(still(load_model("ember"), heat=None))
    session.fill(80, 1, watch)
    session.wait(10**12)
    trace = session.run(parse_access("sequential write 1MiB depth 8 over 90GB").workload(1), watch)
    found = long_write(trace.slices, trace.elapsed_ns)
    # A fifth of the terabyte is free: 20 GB and 8 % of that, and what is written takes no more of
    # it than its end shows.
    assert (
        found is not None
        and found.cliff is not None
        and found.cliff.at_bytes == pytest.approx(36e9, rel=0.02)
    )


def test_crowding_begins_where_it_says_and_ends_at_its_share() -> None:
    behaviour = load_model("drift").behaviour
    assert [behaviour.crowding(p) for p in (0, 70, 85, 100)] == pytest.approx(
        [1, 1, 1 - 0.65 / 2, 0.35]
    )
    assert load_model("thimble").behaviour.crowding(100) == pytest.approx(0.5)


def test_a_platter_is_slower_towards_its_hub_and_far_ways_take_longer() -> None:
    platter = load_model("gannet").behaviour.platter
    assert platter is not None
    assert [platter.rate_at(s) / 1e6 for s in (0, 1)] == pytest.approx(
        [262, 124]
    ) and platter.rate_at(0.5) > (262e6 + 124e6) / 2
    # Half a turn at 7,200 a minute is 4.17 ms; the whole way takes 15 ms, none of it the settling
    # time.
    assert platter.access_ns(0) == pytest.approx(1.6e6 + 30e9 / 7200) and platter.access_ns(
        1
    ) == pytest.approx(15e6 + 30e9 / 7200)
    drive = still(load_model("gannet"))
    near, far = (
        one_pass(drive, f"random read 4KiB for 5s within {s}").iops for s in ("16GB", "5TB")
    )
    assert (
        near == pytest.approx(1e9 / (platter.access_ns(16 / 12000) + 4096 / 262e6 * 1e9), rel=0.06)
        and far < 0.75 * near
    )
    queued = [
        one_pass(drive, f"random read 4KiB depth {d} for 5s within 16GB").iops
        for d in (1, 2, 32, 256)
    ]
    assert (
        queued[1] / queued[0] == pytest.approx(1.22, rel=0.01)
        and queued[2] == pytest.approx(queued[3], rel=0.01)
        and queued[2] > 2 * queued[0]
    )


def test_heat_follows_its_time_constant_and_throttles_between_its_bounds() -> None:
    drive = still(load_model("ember"), cache_size=10**15)
    heat = drive.behaviour.heat
    assert heat is not None
    session = ModelSession(drive)
    session.wait(10**12)
    assert session.state.warm_c == pytest.approx(heat.idle)
    trace = session.run(parse_access("sequential read 1MiB depth 8 for 5min").workload(1), watch)
    assert trace.environment is not None
    warm = [values["controller"] - 4.0 for _, values in trace.environment.temperatures]
    load = trace.slices[5, 0] * 10 / max(drive.behaviour.read_rate, drive.behaviour.write_rate)
    end = heat.idle + (heat.full - heat.idle) * load
    for at in (10, 20, 30):
        assert warm[at] == pytest.approx(end + (heat.idle - end) * np.exp(-at / 45), abs=0.5)
    settled = warm[100:]
    assert (
        max(settled) <= heat.throttle_at + 1
        and min(settled) >= heat.resume_at - 1
        and max(settled) - min(settled) > 4
    )
    rates = trace.slices[:-1, 0]
    assert rates[1000:].min() == pytest.approx(heat.throttle_share * rates[:50].mean(), rel=0.02)
    assert {values["board"] for _, values in trace.environment.temperatures} == {103.0}
    session.wait(45 * 10**9)
    cooled = heat.idle + (warm[-1] - heat.idle) * np.exp(-1)
    assert session.temperatures_c()["memory"] == pytest.approx(cooled - 6, abs=1.5)


def test_a_cache_drains_while_nothing_is_written_and_folding_ends_with_it() -> None:
    drive = still(load_model("drift"))
    session = ModelSession(drive)
    session.run(parse_access("sequential write 1MiB depth 8 over 160GB").workload(1), watch)
    assert session.state.cached_bytes == pytest.approx(
        45e9, rel=1e-3
    ) and session.state.past_cache_bytes == pytest.approx(115e9, rel=1e-3)
    session.wait(100 * 10**9)
    assert session.state.cached_bytes == pytest.approx(45e9 - 15e9, rel=1e-3)
    work = parse_access("sequential write 1MiB depth 8 for 1s").workload(1)
    session.run(replace(work, amount_bytes=15 * 10**9, time_ns=None), watch)
    # 100 GB past the cache, and 90 are where folding begins.
    assert session.run(work, watch).rate_bytes_s == pytest.approx(95e6, rel=0.05)
    session.wait(10**12)
    assert session.state.cached_bytes == session.state.past_cache_bytes == 0


@pytest.mark.parametrize(("percent", "squeeze"), [(0, 1.0), (50, 1 - 0.95 / 2), (100, 0.05)])
def test_compression_takes_away_what_compresses(percent: int, squeeze: float) -> None:
    behaviour = load_model("wicker").behaviour
    assert behaviour.squeeze(
        parse_access(f"sequential write 1MiB payload {percent}% compressible").workload(1)
    ) == pytest.approx(squeeze)
    assert (
        load_model("slate").behaviour.squeeze(
            parse_access("sequential write 1MiB payload 100% compressible").workload(1)
        )
        == 1
    )


def test_files_cost_what_making_one_costs() -> None:
    drive = still(load_model("slate"))
    session = ModelSession(drive)
    few, many = (
        session.copy(CopyJob(True, (size,) * count, seed=1), watch)
        for count, size in ((1, 10**8), (10_000, 10_000))
    )
    assert many.elapsed_ns - few.elapsed_ns == pytest.approx(
        10_000 * drive.behaviour.file_time, rel=0.2
    )
    for trace, count in ((few, 1), (many, 10_000)):
        assert (
            trace.written_bytes == 10**8
            and trace.ios == count
            and len(trace.slices) == -(-trace.elapsed_ns // 10**8)
        )
    back = session.copy(CopyJob(False, (10_000,) * 10_000, seed=1), watch)
    assert back.read_bytes == 10**8 and back.copy.laid_out_bytes == 0


def test_bad_places_are_met_where_they_are() -> None:
    drive = other(load_model("slate"), bad=[UnreadableRange(at="10GB", length="1MiB")])
    session = ModelSession(drive)
    work = parse_access("sequential read 1MiB over 1GB").workload(1)
    assert (
        session.run(replace(work, start_bytes=8 * 10**9 // 2**20 * 2**20), watch).first_fault
        is None
    )
    met = session.run(replace(work, start_bytes=95 * 10**8 // 2**20 * 2**20), watch)
    assert (
        met.first_fault is not None
        and met.first_fault.offset_bytes == 10**10 // 2**20 * 2**20
        and met.errors >= 1
    )
    counted = session.run(
        replace(work, start_bytes=95 * 10**8 // 2**20 * 2**20, stop_on_error=False), watch
    )
    assert (
        counted.first_fault is not None
        and len(counted.first_fault.places) == counted.errors == 2
        and counted.read_bytes == 10**9 // 2**20 * 2**20
    )
    write = parse_access("sequential write 1MiB over 20GB").workload(1)
    assert session.run(write, watch).errors == 0, "writing finds no bad place"


def test_luck_wanders_and_is_forgotten() -> None:
    behaviour = other(
        load_model("slate"), pass_spread=0.02, slice_spread=0.0, wander_time=2 * 10**9
    ).behaviour
    series = np.array(
        [
            [luck.next() for _ in range(200)]
            for luck in (RateNoise(behaviour, np.random.default_rng(n)) for n in range(300))
        ]
    )
    logs = np.log(series)
    assert logs.std() == pytest.approx(0.02, rel=0.05)
    alike = [np.corrcoef(logs[:, 0], logs[:, lag])[0, 1] for lag in (1, 20, 199)]
    assert (
        alike[0] == pytest.approx(np.exp(-0.05), abs=0.02)
        and alike[1] == pytest.approx(np.exp(-1), abs=0.12)
        and abs(alike[2]) < 0.15
    )


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ('rpm = "fast"', "rpm"),
        ("[behaviour.heat]\nidle = 300", "idle"),
        ('bad = [["1GB", "1MB"]]', "bad"),
        ("fold_after = 120", "fold_after"),
        (
            "[behaviour.heat]\nsensors = { drive = { frozen = 3 } }",
            "line 45: 'frozen' is not a key here",
        ),
    ],
)
def test_parameters_that_cannot_be_are_refused(tmp_path: Path, line: str, said: str) -> None:
    from importlib import resources

    text = (resources.files("jovik.simulator") / "catalogue" / "wicker.toml").read_text()
    mine = tmp_path / "mine.toml"
    mine.write_text(f"{text}\n{line}\n")
    with pytest.raises(UsageError) as caught:
        load_model(str(mine))
    assert said in caught.value.message + caught.value.hint and "line" in caught.value.message


def test_runs_differ_by_their_spread_and_passes_remember() -> None:
    """What a run has in common is one factor; what passes share is the correlation asked for."""
    quiet = {"pass_spread": 0.02, "slice_spread": 0.0, "wander_time": 1, "latency_spread": 0.0}

    def rates(seed: int, **more: float) -> list[float]:
        session = ModelSession(other(load_model("slate"), **quiet, **more))
        work = parse_access("random read 4KiB for 1s")
        return [
            math.log(session.run(work.workload(1000 * seed + n), watch).rate_bytes_s)
            for n in range(12)
        ]

    runs = np.array([rates(n, run_spread=0.1) for n in range(1, 61)])
    assert runs.mean(axis=1).std() == pytest.approx(0.1, rel=0.3)
    assert runs.std(axis=1).max() < 0.02
    still = [rates(n) for n in range(1, 61)]
    assert np.array(still).mean(axis=1).std() < 0.01
    passes = np.array([rates(n, pass_memory=0.6) for n in range(1, 61)])
    rest = passes - passes.mean()
    together = (rest[:, 1:] * rest[:, :-1]).mean() / (rest * rest).mean()
    assert together == pytest.approx(0.6, abs=0.12)


MODEL = """
[drive]
name = "{name}"
capacity = "{capacity}"

[behaviour]
read_latency = "52us"
write_latency = "14us"
sequential_latency = "18us"
read_rate = "7250MB/s"
write_rate = "6050MB/s"
read_iops = 640000
write_iops = 760000
direct_write_rate = "1750MB/s"
drain_rate = "900MB/s"
capacity = "{capacity}"
{serial}
"""


def test_two_model_files_are_two_drives(jovik: Program) -> None:
    def model(file: str, name: str, capacity: str = "1TB", serial: str = "") -> str:
        text = MODEL.format(name=name, capacity=capacity, serial=serial)
        (jovik.folder / file).write_text(text)
        return f"model:{file}"

    step = ["random read 4KiB for 100ms within 8MB", "--passes", "2"]
    for target in (model("a.toml", "Halden A"), model("b.toml", "Halden B")):
        jovik("measure", target, *step)
    jovik("measure", "model:a.toml", *step)
    runs = jovik("runs", "--format", "json").json["runs"]
    assert [r["drive"] for r in runs] == ["Halden A", "Halden B", "Halden A"]
    jovik("sheet", "rename", "Halden A", "Renamed")
    jovik("measure", "model:a.toml", *step)
    assert jovik("runs", "--format", "json").json["runs"][0]["drive"] == "Renamed"
    # Drives with the same serial are two drives by their names, and a name is of one capacity.
    serial = 'serial = "S1"'
    for file, name in (("c.toml", "Halden C"), ("d.toml", "Halden D")):
        jovik("measure", model(file, name, serial=serial), *step)
        assert jovik("runs", "--format", "json").json["runs"][0]["drive"] == name
    told = jovik("measure", model("e.toml", "Halden C", "2TB", serial), *step, status=2).err
    assert "the drive of that name on the shelf holds 1.00 TB" in told
    assert 'the same: --drive "Halden C"' in told


def test_a_serial_given_to_two_models_leaves_them_two_drives(jovik: Program) -> None:
    step = ["random read 4KiB for 100ms within 8MB", "--passes", "2"]
    for target in ("model:comet@serial=B2", "model:slate@serial=B2"):
        jovik("measure", target, *step)
    runs = jovik("runs", "--format", "json").json["runs"]
    assert [r["drive"] for r in runs] == ["Corvane Slate 1TB", "Veldhaar Comet 2TB"]
