"""The write cache through a plan: what fills it, the rest before a write, and the mark without."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import jovik as package
from jovik.analysis.copy import copy_finding
from jovik.analysis.pass_ends import end_drop
from jovik.base.findings import CopyFinding
from jovik.base.trace import CopyRecord
from jovik.runs.write_cache import WriteCacheWatch
from tests.conftest import Program
from tests.test_shelf_records import trace

COMPRESSIBLE = "sequential write 512KiB depth 4 payload 0..100% compressible by 50 for 2s"
WRITE = "sequential write 512KiB depth 4 for 4s"


def model(folder: Path, cache: str = "24GB") -> str:
    """A model drive whose cache three short writes fill."""
    text = (Path(package.__file__).parent / "simulator" / "catalogue" / "comet.toml").read_text()
    path = folder / "small.toml"
    path.write_text(text.replace('cache_size = "180GB"', f'cache_size = "{cache}"'))
    return f"model:{path}"


@pytest.mark.parametrize(
    ("size", "written", "coming", "full"),
    [
        (None, 10**12, 10**12, False),
        (100, 0, 1000, False),
        (100, 50, 40, False),
        (100, 50, 60, True),
        (100, 5, 1000, False),
        (100, 20, 1000, True),
    ],
)
def test_a_write_meets_less_of_the_cache_than_alone(
    size: int | None, written: int, coming: int, full: bool
) -> None:
    assert WriteCacheWatch(size, None, written).too_full_for(coming) is full


def test_only_a_long_write_of_this_drive_makes_its_size_known() -> None:
    usual = WriteCacheWatch(None, 4_800_000_000, 10**10).note
    assert "a usual size for such drives is 4.80 GB" in usual and "its usual" not in usual
    known = WriteCacheWatch(6 * 10**10, 4_800_000_000, 10**11).note
    assert "a write of this drive fell after 60.0 GB" in known


def test_a_compressibility_ladder_is_about_compression_and_not_about_the_cache(
    jovik: Program,
) -> None:
    at = model(jovik.folder)
    words = ("measure", at, COMPRESSIBLE, "--passes", "3", "--seed", "1", "--format", "json")
    rested = jovik(*words).json["steps"]
    rates = [s["rate_bytes_s"]["median"] for s in rested]
    assert max(rates) < 1.1 * min(rates)
    assert any("rested before a pass: recovered" in n for s in rested for n in s["notes"])
    told = jovik("runs", "show", "last").out
    assert "compressible percentage makes no difference" in " ".join(told.split())

    marked = jovik(*words, "--no-rest").json["steps"]
    assert marked[2]["facts"]["write_cache_full"]
    assert marked[2]["rate_bytes_s"]["median"] < 0.6 * rates[2], "this is what the rest prevents"


def test_a_figure_of_a_full_cache_decides_nothing(jovik: Program) -> None:
    at = model(jovik.folder)
    jovik("measure", at, WRITE, "--passes", "5", "--seed", "1", "--no-rest")
    drive = "Veldhaar Comet 2TB"
    found = jovik("judge", drive, "--format", "json", status=None).json
    (claim,) = [
        c for c in found["claims"] if c["what"] == "sequential write" and not c["sustained"]
    ]
    assert claim["verdict"] == "untested"
    assert "began with the write cache partly full" in claim["why"]
    assert found["class"] is None
    # After a rest the same step decides.
    jovik("measure", at, WRITE, "--passes", "5", "--seed", "2")
    found = jovik("judge", drive, "--format", "json", status=None).json
    (claim,) = [
        c for c in found["claims"] if c["what"] == "sequential write" and not c["sustained"]
    ]
    assert claim["verdict"] != "untested" and claim["measured"]["median"] > 5.5e9


def test_a_cliff_inside_a_timed_write_is_on_its_line(jovik: Program) -> None:
    at = model(jovik.folder, "10GB")
    jovik("measure", at, "sequential write 512KiB depth 4 for 8s", "--passes", "1", "--seed", "1")
    told = " ".join(jovik("runs", "show", "last").out.split())
    assert re.search(r"depth 4: 6,\d{3} until (8|9)\.\d+ GB, then 1,7\d\d MB/s", told), told


def test_short_writes_that_end_behind_the_cache_have_no_figure(jovik: Program) -> None:
    at = model(jovik.folder, "11GB")
    words = ("measure", at, "sequential write 512KiB depth 4 for 2s", "--seed", "1")
    found = jovik(*words, "--passes", "3", "--format", "json").json["steps"][0]
    drop = found["facts"]["end_drop"]
    # The test file takes 0.8 GB of the cache, and the short write after the rest a little.
    assert 9.5e9 < drop["at_bytes"] < 11e9
    assert found["cliff"] == drop
    told = " ".join(jovik("judge", "Veldhaar Comet 2TB", status=None).out.split())
    assert "which ran across the cliff" in told, told


def slices(*passes: list[float]) -> list[np.ndarray]:
    """Passes of these rates, a slice each."""
    return [np.array([[0, 0, round(w), 1, 0] for w in each]) for each in passes]


def test_noise_and_a_pause_at_one_end_are_no_drop() -> None:
    rng = np.random.default_rng(1)
    for _ in range(300):
        assert end_drop(slices(*(rng.normal(1e6, 2e5, 20).tolist() for _ in range(5)))) is None
    assert end_drop(slices([100] * 10, [100] * 8 + [5, 5], [100] * 10)) is None
    assert end_drop(slices([100] * 8 + [5, 5])) is None, "a single pass has long_write's own rule"
    found = end_drop(slices([100] * 10, [100] * 5 + [50] * 5, [50] * 10))
    assert found is not None and found.at_bytes == 500 and found.after_bytes_s == 500


def copied(rates: list[float], seconds: list[float] | None = None) -> CopyFinding:
    """The finding of a copy with these passes, bytes a second, of 1 GB each."""
    traces = []
    for rate in rates:
        each = seconds or [rate]
        slices = np.array([[0, 0, round(b / 10), 1, 0] for b in each for _ in range(10)])
        lasts = 10**9 * len(each) if seconds else round(1e18 / rate)
        one = replace(trace(), elapsed_ns=lasts, copy=CopyRecord(1, 10**9, 0), slices=slices)
        traces.append(one)
    return copy_finding(traces, None)[0]


def test_the_first_cold_pass_of_a_copy_is_reported() -> None:
    found = copied([309e6, 250e6, 249e6, 250e6, 250e6])
    assert found.seconds == pytest.approx(1e9 / 309e6)
    assert copied([251e6, 250e6, 249e6]).seconds == pytest.approx(1e9 / 250e6)


def test_a_copy_that_crawls_most_of_the_time_is_slow_most_of_the_time() -> None:
    assert copied([1e8], [4e8] * 3 + [5e7] * 17).slow_share == pytest.approx(0.85)
    assert copied([1e8], [4e8] * 3 + [5e7] * 97).slow_share == pytest.approx(0.97)


def test_the_cliff_of_a_copy_has_a_table_and_a_chart(jovik: Program) -> None:
    at = model(jovik.folder, "10GB")
    words = ("measure", at, "copy in 4000 files of 5MB", "--passes", "2", "--seed", "1")
    (step,) = jovik(*words, "--format", "json").json["steps"]
    spread = step["spread"]
    assert spread["min"] > 0.9 * spread["max"], "the first pass's cliff says how long to rest"
    told = jovik("runs", "show", "last").out
    assert "step 1: copy in, 4000 files of 5 MB" in told and "level" in told
    jovik("report", "Veldhaar Comet 2TB", "--out", "page.html")
    assert "The long write: copy in, 4000 files of 5 MB" in (jovik.folder / "page.html").read_text()


def test_copies_rest_between_passes_and_show_their_cliff(jovik: Program) -> None:
    at = model(jovik.folder)
    words = ("measure", at, "copy in 1 file of 10GB", "--passes", "4", "--seed", "1")
    (step,) = jovik(*words, "--format", "json").json["steps"]
    rate = step["rate_bytes_s"]
    assert rate["high"] / rate["low"] < 1.2 and not step["facts"].get("write_cache_full")
    (step,) = jovik(*words, "--no-rest", "--format", "json").json["steps"]
    assert step["facts"]["write_cache_full"] and step["facts"]["copy"]["seconds"] < 2
    jovik("measure", at, "copy in 1 file of 60GB", "--passes", "1", "--seed", "1", "--no-rest")
    told = " ".join(jovik("runs", "show", "last").out.split())
    assert re.search(r"until 2\d\.\d GB, then", told), told
