"""Passes of one step: skewed, in two groups, with outliers; and what is computed from them."""

from __future__ import annotations

import math
import statistics
from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from jovik.analysis.claims import Verdict, judge_claims
from jovik.analysis.ranking import rank_drives
from jovik.analysis.run_effect import PRIOR_ALONE, ratio_across
from jovik.analysis.statistics import interval, ratio_interval
from jovik.analysis.upgrade import compare
from jovik.sheets.sheet import Claim
from tests.truth.cases import Family, Outcome
from tests.truth.shelves import BLOCK, KINDS, result

Noise = Callable[[np.random.Generator, int], npt.NDArray[np.float64]]


def skewed(rng: np.random.Generator, count: int) -> npt.NDArray[np.float64]:
    """Something may slow a pass and nothing speeds one up."""
    shape = 3.0
    median = 2.674  # of a gamma distribution of this shape
    return -0.012 * (rng.gamma(shape, 1.0, count) - median)


def two_groups(rng: np.random.Generator, count: int) -> npt.NDArray[np.float64]:
    """Three of ten passes are a tenth slower."""
    slow = rng.random(count) < 0.3
    # Of the normal noise of the fast ones, the median of all lies at the 2/7 quantile.
    return 0.01 * (rng.normal(size=count) + 0.566) - 0.1 * slow


def outliers(rng: np.random.Generator, count: int) -> npt.NDArray[np.float64]:
    """One pass of ten takes twice as long."""
    hit = rng.random(count) < 0.1
    return 0.01 * (rng.normal(size=count) + 0.14) - math.log(2) * hit


def _holds(seed: int, noise: Noise) -> Outcome:
    """The interval of a figure holds the median that passes have in the long run."""
    rng = np.random.default_rng([seed, 40])
    found = interval(list(1e9 * np.exp(noise(rng, int(rng.integers(3, 13))))))
    assert found.low is not None and found.high is not None
    said = f"{found.low / 1e6:.0f} to {found.high / 1e6:.0f}"
    return Outcome("1000 MB/s", said, found.low <= 1e9 <= found.high)


def _ratio_holds(seed: int, noise: Noise) -> Outcome:
    """The interval of a ratio of two drives holds the ratio of their medians."""
    rng = np.random.default_rng([seed, 41])
    true = rng.uniform(0.5, 2)
    one, two = (
        result(d, KINDS[0], list(speed * 1e9 * np.exp(noise(rng, int(rng.integers(3, 13))))))
        for d, speed in (("a", true), ("b", 1.0))
    )
    found = ratio_interval(ratio_across(one, two))
    assert found.low is not None and found.high is not None
    said = f"{found.low:.3f} to {found.high:.3f}"
    return Outcome(f"{true:.3f} times", said, found.low <= true <= found.high)


def _follows(seed: int) -> Outcome:
    """Indices, leads, speed-ups and their mean follow from the figures that are shown."""
    rng = np.random.default_rng([seed, 42])
    noises = (skewed, two_groups, outliers)
    results = [
        result(
            drive,
            kind,
            list(
                1e9 * rng.uniform(0.3, 3) * np.exp(noises[seed % 3](rng, int(rng.integers(3, 8))))
            ),
        )
        for drive in ("a", "b", "c")
        for kind in KINDS[:4]
    ]
    shown = {(r.drive, r.kind): r.rate.median for r in results}
    ranking = rank_drives(results, "a")
    wrong = []
    for d in ranking.drives:
        ratios = [shown[d.drive, k] / shown["a", k] for k in KINDS[:4]]
        expected = 100 * math.exp(statistics.fmean(map(math.log, ratios)))
        if d.index is None or not math.isclose(d.index.median, expected, rel_tol=1e-6):
            wrong.append(f"index of {d.drive}: {d.index} and not {expected:.4f}")
        for s in d.steps:
            lead = ranking.lead(s.kind, d.drive, "a").median
            if not math.isclose(lead, shown[d.drive, s.kind] / shown["a", s.kind], rel_tol=1e-6):
                wrong.append(f"lead of {d.drive} in {s.kind}")
    upgrade = compare("a", "b", *([r for r in results if r.drive == d] for d in "ab"))
    for step in upgrade.steps:
        if not math.isclose(step.times.median, step.new.median / step.old.median, rel_tol=1e-6):
            wrong.append(f"speed-up in {step.kind}")
    return Outcome("figures shown are figures used", "; ".join(wrong) or "so they are", not wrong)


def _never_surer(seed: int) -> Outcome:
    """An overall figure is never more certain than the surest of its steps."""
    rng = np.random.default_rng([seed, 43])
    steps = [
        [
            result(d, k, list(1e9 * np.exp(rng.uniform(0.005, 0.5) * rng.normal(size=4))))
            for k in KINDS[:6]
        ]
        for d in ("a", "b")
    ]
    overall = compare("a", "b", *steps, effect=PRIOR_ALONE).overall
    ratios = [ratio_interval(ratio_across(new, old)) for old, new in zip(*steps, strict=True)]
    widths = [math.log(r.most / r.least) for r in ratios if r.known]
    assert overall is not None and overall.low is not None and overall.high is not None
    width = math.log(overall.high / overall.low)
    said = f"{width:.3f} and the surest step {min(widths):.3f}"
    return Outcome("no surer than its steps", said, width >= min(widths) - 1e-9)


def _few(seed: int, *, passes: int) -> Outcome:
    """One pass gives no verdict, and two give none that is wrong more often than others."""
    rng = np.random.default_rng([seed, 44])
    claim = Claim(True, 100, 1000.0, "IOPS", block_bytes=BLOCK, printed="")
    true = rng.uniform(0.3, 2.0) if passes == 1 else 0.95
    rates = 1000.0 * BLOCK * true * np.exp(0.05 * rng.normal(size=passes))
    verdict = judge_claims([claim], [result("d", "random read 4KiB", list(rates))])[0].verdict
    decided = verdict in (Verdict.SHORT, Verdict.MET, Verdict.BEATEN)
    return Outcome(f"{passes} passes", str(verdict), not decided)


FAMILIES = (
    Family("the interval of skewed passes", lambda s: _holds(s, skewed), 0.95, 4000, 200),
    Family(
        "the interval of passes in two groups", lambda s: _holds(s, two_groups), 0.95, 4000, 200
    ),
    Family("the interval of passes with outliers", lambda s: _holds(s, outliers), 0.95, 4000, 200),
    Family("a ratio of skewed passes", lambda s: _ratio_holds(s, skewed), 0.95, 2000, 100),
    Family(
        "a ratio of passes in two groups", lambda s: _ratio_holds(s, two_groups), 0.95, 2000, 100
    ),
    Family("a ratio of passes with outliers", lambda s: _ratio_holds(s, outliers), 0.95, 2000, 100),
    Family("the figures shown are the figures used", _follows, 1.0, 1000, 60),
    Family("an overall figure is no surer than its steps", _never_surer, 1.0, 1000, 60),
    Family("one pass gives no verdict", lambda s: _few(s, passes=1), 1.0, 500, 50),
    Family(
        "two passes at the margin give no verdict", lambda s: _few(s, passes=2), 0.95, 2000, 100
    ),
)
