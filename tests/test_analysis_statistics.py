"""Intervals, ratios, histograms, verdicts and places against known values and known truth."""

from __future__ import annotations

import dataclasses
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from jovik.analysis.claims import Verdict, judge_claims, verdict_of
from jovik.analysis.latency import summary_ns
from jovik.analysis.ranking import rank_drives
from jovik.analysis.running_median import Beyond, running_mean, running_median
from jovik.analysis.statistics import interval, interval_within, ratio, sign_test_bounds
from jovik.analysis.step_result import Conditions, PassFigures, StepResult
from jovik.analysis.student_t import distribution, quantile, quantiles
from jovik.base import histogram
from jovik.base.interval import Interval
from jovik.base.trace import Latencies
from jovik.sheets.sheet import parse_claim


def test_the_interval_is_students_on_logs() -> None:
    values = [100.0, 104.0, 98.0, 101.0, 103.0]
    logs = np.log(values)
    low, high = stats.t.interval(0.95, 4, logs.mean(), stats.sem(logs))
    found = interval(values)
    assert found.median == 101.0
    # As far to either side of the median as Student's reaches on the side that is farther.
    reach = max(high - math.log(101), math.log(101) - low)
    assert found.low == pytest.approx(101 * math.exp(-reach))
    assert found.high == pytest.approx(101 * math.exp(reach))


@pytest.mark.parametrize("count", [6, 9, 20, 101])
def test_the_interval_is_as_wide_as_the_sign_test_asks(count: int) -> None:
    """Of passes in two groups, one of them small: the median's place among them decides."""
    bounds = sign_test_bounds(count)
    assert bounds is not None
    k = bounds[0]
    assert stats.binom.cdf(k, count, 0.5) <= 0.025 < stats.binom.cdf(k + 1, count, 0.5)
    values = sorted(np.exp(np.random.default_rng(count).standard_cauchy(count) / 100))
    found = interval(values)
    assert found.low is not None and found.high is not None
    assert found.low <= values[k + 1] and found.high >= values[-2 - k]


def test_two_passes_give_no_interval_over_hours() -> None:
    assert not interval([33e-6, 6360.0]).known
    assert interval([100.0, 100.1]).known


def test_one_pass_and_a_dead_pass_have_no_interval() -> None:
    assert interval([5.0]) == Interval(5.0)
    assert not interval([5.0, 0.0, 6.0]).known


NOISE = {
    "even": lambda rng, n: rng.normal(0, 0.05, n),
    # What slows a pass: waiting for 4 things that come at random, and the worst of many.
    "skewed by 1.0": lambda rng, n: 0.02 * stats.gamma(4).median() - rng.gamma(4, 0.02, n),
    "skewed by 1.1": lambda rng, n: -0.02 * math.log(math.log(2)) - rng.gumbel(0, 0.02, n),
}


@pytest.mark.parametrize("noise", NOISE)
def test_intervals_hold_the_truth_as_often_as_they_say(noise: str) -> None:
    rates = {}
    for passes in range(3, 10):
        rng = np.random.default_rng(passes)
        found = [interval(list(1000 * np.exp(NOISE[noise](rng, passes)))) for _ in range(2000)]
        rates[passes] = (
            sum(f.low is not None and f.high is not None and f.low <= 1000 <= f.high for f in found)
            / 2000
        )
    print(
        f"noise {noise}, 3 to 9 passes: 95 % intervals hold the truth in "
        f"{', '.join(f'{100 * r:.1f} %' for r in rates.values())}"
    )
    assert all(0.94 <= r <= 0.995 for r in rates.values())


def test_the_ratio_is_of_the_figures_shown_and_welch_on_logs() -> None:
    # Symmetric on the log, so that mean and median agree.
    a = [110.0 * f for f in (0.98, 1.0, 1 / 0.98)]
    b = [100.0 * f for f in (0.9, 1.0, 1 / 0.9)]
    welch = stats.ttest_ind(np.log(a), np.log(b), equal_var=False).confidence_interval(0.95)
    found = ratio(a, b)
    assert found.low == pytest.approx(math.exp(welch.low))
    assert found.high == pytest.approx(math.exp(welch.high))
    skewed = ratio([115.0, 116.0, 80.0], [521.0, 520.0, 700.0])
    assert skewed.median == pytest.approx(115 / 521)


def test_slices_of_one_pass_give_an_interval_around_their_mean() -> None:
    rates = np.random.default_rng(1).normal(100, 5, 100)
    found = interval_within(rates)
    assert found.low is not None and found.high is not None
    assert found.low < 100 < found.high and found.high - found.low < 5


@given(st.integers(0, 2**47))
def test_a_bucket_is_at_most_one_percent_off(value: int) -> None:
    bucket = int(histogram.bucket_of(value))
    assert histogram.LOW_NS[bucket] <= value < histogram.HIGH_NS[bucket]
    assert abs(histogram.MIDDLE_NS[bucket] - value) <= 0.01 * value


def test_percentiles_are_within_one_percent_of_the_exact_ones() -> None:
    drawn = np.random.default_rng(2).lognormal(11, 0.8, 20_000).astype(np.int64)
    latencies = Latencies(
        np.bincount(histogram.bucket_of(drawn), minlength=histogram.COUNT),
        int(drawn.min()),
        int(drawn.max()),
        int(drawn.sum()),
    )
    for share in (0.5, 0.95, 0.99, 0.999, 1.0):
        assert latencies.percentile_ns(share) == pytest.approx(
            np.quantile(drawn, share, method="inverted_cdf"), rel=0.01
        )
    assert summary_ns(latencies)["mean"] == pytest.approx(drawn.mean())


def result(drive: str, kind: str, rates: list[float], **conditions: object) -> StepResult:
    passes = tuple(PassFigures(r, r, r / 4096, 0, 0, 10**9, 0, 0) for r in rates)
    given_conditions = dataclasses.replace(Conditions("io_uring", True, 2**30), **conditions)  # type: ignore[arg-type]
    return StepResult(kind, kind, passes, {}, given_conditions, drive=drive, run="r")


READ = "random read 4KiB depth 32"


@pytest.mark.parametrize(
    ("low", "high", "verdict"),
    [
        (96, 99, Verdict.MET),
        (106, 110, Verdict.BEATEN),
        (104, 110, Verdict.MET),
        (80, 94, Verdict.SHORT),
        (94, 96, Verdict.CLOSE),
        (90, 120, Verdict.CLOSE),
    ],
)
def test_the_interval_is_held_against_the_margin(low: float, high: float, verdict: Verdict) -> None:
    claim = parse_claim("random read 4KiB", "100 IOPS")
    assert verdict_of(claim, Interval((low + high) / 2, low, high), 0.05)[0] is verdict


@pytest.mark.parametrize(
    ("low", "high", "verdict"),
    [
        (90, 104, Verdict.MET),
        (107, 120, Verdict.SHORT),
        (80, 90, Verdict.BEATEN),
        (100, 110, Verdict.CLOSE),
    ],
)
def test_for_an_access_time_lower_is_better(low: float, high: float, verdict: Verdict) -> None:
    claim = parse_claim("random read 4KiB", "100us")
    assert (
        verdict_of(claim, Interval((low + high) / 2 * 1000, low * 1000, high * 1000), 0.05)[0]
        is verdict
    )


def test_iops_and_bytes_meet_through_the_block() -> None:
    measured = [result("a", READ, [4096e5, 4097e5, 4095e5])]
    as_iops, as_rate = judge_claims(
        [
            parse_claim("random read 4KiB depth 32", "100,000 IOPS"),
            parse_claim("random read depth 32", "409.6 MB/s"),
        ],
        measured,
    )
    assert as_iops.share is not None and as_rate.share is not None
    assert as_iops.share.median == pytest.approx(as_rate.share.median) == pytest.approx(1.0)


def test_which_step_a_claim_is_held_against() -> None:
    results = [
        result("a", "sequential read 1MiB", [1e9] * 3),
        result("a", "sequential read 1MiB depth 8", [3e9, 3.01e9, 2.99e9]),
        result("a", "random read 4KiB depth 64", [1e9] * 3),
        result("a", "sequential write 1MiB at most 400MB/s", [4e8] * 3),
        result("a", "random write 4KiB", [1e8] * 3, direct=False),
    ]
    best, depth, paced, cached = judge_claims(
        [
            parse_claim(w, f)
            for w, f in (
                ("sequential read", "3GB/s"),
                ("random read 4KiB depth 32", "1 IOPS"),
                ("sequential write", "1MB/s"),
                ("random write 4KiB", "1 IOPS"),
            )
        ],
        results,
    )
    assert best.step is results[1] and best.verdict is Verdict.MET
    assert depth.verdict is Verdict.UNTESTED and "random read 4KiB depth 32" in depth.why
    assert paced.verdict is Verdict.UNTESTED
    assert cached.verdict is Verdict.UNTESTED and "cache" in cached.why


def test_one_pass_settles_nothing() -> None:
    assert (
        judge_claims(
            [parse_claim("random read 4KiB depth 32", "1 IOPS")], [result("a", READ, [1e9])]
        )[0].verdict
        is Verdict.ONE_PASS
    )


def test_drives_that_cannot_be_told_apart_share_a_place() -> None:
    results = [
        result("slow", READ, [50.0, 51.0, 49.0]),
        result("a", READ, [100.0, 102.0, 98.0]),
        result("b", READ, [101.0, 99.0, 103.0]),
        result("once", READ, [75.0]),
    ]
    ranking = rank_drives(results)
    rank_intervals = {d.drive: str(d.place) for d in ranking.drives}
    assert ranking.yardstick == "slow"
    assert rank_intervals == {"a": "1-3", "b": "1-3", "slow": "3-4", "once": "1-4"}


def test_the_index_is_the_geometric_mean_over_common_steps() -> None:
    other = "sequential read 1MiB"
    results = [
        result("y", READ, [100.0] * 3),
        result("y", other, [100.0] * 3),
        result("x", READ, [400.0] * 3),
        result("x", other, [25.0] * 3),
        result("x", "random write 4KiB", [9e9] * 3),
    ]
    index = next(d.index for d in rank_drives(results, "y").drives if d.drive == "x")
    assert index is not None and index.median == pytest.approx(100.0)


def test_only_like_is_compared_with_like() -> None:
    results = [
        result("a", READ, [1.0] * 3),
        result("b", READ, [2.0] * 3),
        result("c", READ, [9.0] * 3, direct=False),
        result("d", READ, [9.0] * 3, engine="model"),
    ]
    ranking = rank_drives(results)
    assert {x.drive: x.why for x in ranking.left_out} == {
        "c": "one was buffered (page cache)",
        "d": "one is simulated",
    }
    assert [d.drive for d in ranking.drives if d.index] == ["b", "a"]


@given(
    st.lists(st.tuples(st.floats(10, 1000), st.floats(0.001, 0.2)), min_size=2, max_size=7),
    st.integers(0, 2**32),
)
def test_places_are_consistent(drives: list[tuple[float, float]], seed: int) -> None:
    rng = np.random.default_rng(seed)
    results = [
        result(f"d{i}", READ, list(rate * np.exp(rng.normal(0, spread, 4))))
        for i, (rate, spread) in enumerate(drives)
    ]
    ranking = rank_drives(results)
    for d in ranking.drives:
        assert d.place is not None and 1 <= d.place.first <= d.place.last <= len(drives)
    # Whoever is surely first is placed before whoever is surely last.
    assert min(d.place.first for d in ranking.drives if d.place) == 1
    assert max(d.place.last for d in ranking.drives if d.place) == len(drives)


@given(st.floats(0.5, 1e6), st.floats(0.6, 1 - 1e-9))
def test_the_quantiles_of_student_are_those_of_another_implementation(
    freedom: float, share: float
) -> None:
    assert quantile(freedom, share) == pytest.approx(stats.t.ppf(share, freedom), rel=1e-8)
    t = quantile(freedom, share)
    assert distribution(freedom, t) == pytest.approx(share, abs=1e-9)
    assert distribution(freedom, -t) == pytest.approx(1 - share, abs=1e-9)


def test_the_quantiles_of_many_are_near_those_of_each() -> None:
    freedom = np.geomspace(0.5, 1e9, 3000)
    found = quantiles(freedom, 0.9999)
    assert np.allclose(found, stats.t.ppf(0.9999, freedom), rtol=1e-3)
    assert np.allclose(quantiles(freedom[:200], 0.975), stats.t.ppf(0.975, freedom[:200]))


@pytest.mark.parametrize("beyond", ["symmetric", "edge"])
def test_running_medians_and_means_are_those_of_each_window(beyond: Beyond) -> None:
    series = np.random.default_rng(3).random(400)
    whole = np.pad(series, 7, mode=beyond)
    windows = [whole[i : i + 15] for i in range(400)]
    assert np.allclose(running_median(series, 15, beyond), np.median(windows, axis=1))
    assert np.allclose(running_mean(series, 15, beyond), np.mean(windows, axis=1))
