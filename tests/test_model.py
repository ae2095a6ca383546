"""Model drives: their parameters are the truth, and what is measured on them must find it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from jovik.analysis.statistics import interval
from jovik.bench.work import workload
from jovik.errors import Misuse, TargetRefused, UnknownName
from jovik.model import ModelDrive, ModelSession, load_model, model_names
from jovik.phrase import parse_access
from jovik.protocol import Live, Workload
from jovik.results import Trace


def watch(_: Live) -> None:
    return None


def one_pass(drive: ModelDrive, phrase: str, seed: int = 5) -> Trace:
    work = workload(parse_access(phrase), seed)
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
    truth = drive.behaviour.iops(workload(parse_access(phrase), 0))
    assert one_pass(still(drive), f"{phrase} for 3s").iops == pytest.approx(truth, rel=0.001)
    measured = [one_pass(drive, f"{phrase} for 3s", seed).iops for seed in range(30)]
    found = interval(measured)
    assert found.low is not None and found.high is not None
    assert found.low * 0.99 < truth < found.high * 1.01
    assert np.std(np.log(measured)) == pytest.approx(drive.behaviour.pass_spread, rel=0.6)


def test_rates_rise_with_depth_and_fall_with_block() -> None:
    behaviour = load_model("comet").behaviour
    by_depth = [behaviour.iops(workload(parse_access(f"random read 4KiB depth {d}"), 0)) for d in (1, 2, 4, 8, 16, 32, 64)]
    assert by_depth == sorted(by_depth)
    by_block = [behaviour.iops(workload(parse_access(f"random read {b}KiB"), 0)) for b in (4, 16, 64, 256)]
    assert by_block == sorted(by_block, reverse=True)


def test_the_write_cache_ends_where_it_says() -> None:
    drive = still(load_model("drift"), cache_size=20 * 10**9)
    trace = one_pass(drive, "sequential write 1MiB depth 8 over 40GB")
    assert trace.written_bytes == pytest.approx(40e9, rel=1e-4)
    written = np.cumsum(trace.slices[:, 2])
    rates = trace.slices[:, 2] / 0.1
    fast, slow = rates[written < 19e9], rates[written > 21e9][:-1]
    behaviour = drive.behaviour
    work = workload(parse_access("sequential write 1MiB depth 8 over 40GB"), 0)
    assert fast.mean() == pytest.approx(behaviour.iops(work) * 2**20, rel=0.002)
    assert slow.mean() == pytest.approx(behaviour.iops(work, cached=False) * 2**20, rel=0.002)


def test_a_full_cache_starves_the_next_test_until_it_has_drained() -> None:
    drive = still(load_model("drift"))
    session = ModelSession(drive)
    session.run(workload(parse_access("sequential write 1MiB depth 8 over 45GB"), 1), watch)
    write = workload(parse_access("sequential write 1MiB depth 8 for 1s"), 1)
    starved = session.run(write, watch).rate_bytes_s
    session.run(workload(parse_access("sequential read 1MiB for 5min"), 1), watch)
    assert session.run(write, watch).rate_bytes_s > 5 * starved


def test_a_pass_counts_whole_and_latencies_obey_littles_law() -> None:
    trace = one_pass(load_model("comet"), "random mixed 70% read 4KiB depth 16 for 2s")
    assert sum(x.total for x in trace.latencies.values()) == trace.ios
    assert trace.read_bytes + trace.written_bytes == trace.ios * 4096
    mean_ns = sum(x.sum_ns for x in trace.latencies.values()) / trace.ios
    assert mean_ns * trace.iops / 1e9 == pytest.approx(16, rel=0.03)


def test_the_same_seed_gives_the_same_pass() -> None:
    one, two, other = (one_pass(load_model("slate"), "random read 4KiB depth 8 for 1s", seed) for seed in (3, 3, 4))
    assert (one.slices == two.slices).all() and one.elapsed_ns == two.elapsed_ns
    assert (one.slices != other.slices).any()


def test_a_paced_pass_keeps_its_pace() -> None:
    assert one_pass(load_model("comet"), "sequential write 64KiB at most 100MB/s for 5s").rate_bytes_s == pytest.approx(100e6, rel=0.005)


def test_more_than_the_drive_holds_is_refused() -> None:
    work: Workload = workload(parse_access("sequential write 1MiB over 3TB"), 0)
    with pytest.raises(TargetRefused, match=r"holds 2\.00 TB"):
        ModelSession(load_model("comet")).check(work)


def test_a_model_of_ones_own_and_its_faults(tmp_path: Path) -> None:
    from importlib import resources

    text = (resources.files("jovik.model") / "catalogue" / "slate.toml").read_text()
    mine = tmp_path / "mine.toml"
    mine.write_text(text.replace('"556MB/s"', '"300MB/s"'))
    assert load_model(str(mine)).behaviour.read_rate == 300e6
    mine.write_text(text.replace("read_iops = 98000", "read_iops = -1"))
    with pytest.raises(Misuse, match=r"line \d+: read_iops"):
        load_model(str(mine))
    with pytest.raises(UnknownName, match="slat") as caught:
        load_model("slat")
    assert "slate" in caught.value.hint
