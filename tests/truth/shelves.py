"""Simulated shelves: drives of known speed, ranked, judged and settled, run by run."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from jovik.analysis.claims import Verdict, judge_claims, settling_goal
from jovik.analysis.ranking import Ranking, rank_drives, rank_sentence
from jovik.analysis.run_effect import ratio_across
from jovik.analysis.settling import SettlingOutcome
from jovik.analysis.statistics import interval, ratio_interval
from jovik.analysis.step_result import Conditions, PassFigures, StepResult
from jovik.analysis.upgrade import compare
from jovik.queries.evidence import weigh
from jovik.runs.repetition import FEWEST_TO_STOP_EARLY, RepetitionPolicy
from jovik.sheets.sheet import Claim
from tests.truth.cases import Family, Outcome

KINDS = (
    "sequential read 1MiB depth 8",
    "sequential read 1MiB",
    "random read 4KiB",
    "random read 4KiB depth 32",
    "random write 4KiB",
    "random write 4KiB depth 32",
    "sequential write 1MiB",
    "sequential write 1MiB depth 8",
    "random read 128KiB depth 8",
    "random write 64KiB",
    "random read 16KiB depth 4",
    "sequential read 64KiB",
)
BLOCK = 4096


def result(
    drive: str, kind: str, rates: Sequence[float], run: str = "r", sample: str = "sample 1"
) -> StepResult:
    """A step's result with these rates."""
    passes = tuple(
        PassFigures(float(r), float(r), float(r) / BLOCK, int(r), 0, 10**9, 0, 0) for r in rates
    )
    conditions = Conditions("io_uring", True, 2**30, rig="bench", sample=sample, firmware="1")
    return StepResult(kind, kind, passes, {}, conditions, drive=drive, run=run, started=run)


def shelf_of(
    rng: np.random.Generator,
    speeds: Sequence[float],
    *,
    kinds: Sequence[str],
    run_spread: float,
    noise: float,
    passes: int = 5,
    shape: float = 0.0,
    runs: int = 1,
) -> list[StepResult]:
    """One or more runs of each drive, with what runs share and what drives differ by per step."""
    found = []
    for number, speed in enumerate(speeds):
        own = {k: math.exp(shape * rng.normal()) for k in kinds}
        for run in range(runs):
            luck = math.exp(run_spread * rng.normal())
            for k in kinds:
                rates = 1e9 * speed * own[k] * luck * np.exp(noise * rng.normal(size=passes))
                found.append(result(f"drive {number}", k, list(rates), f"{number}-{run}"))
    return found


def _surely(ranking: Ranking) -> int:
    """How many pairs are said to differ."""
    scale = ranking.rank_intervals
    return int(scale.ahead.sum()) if scale is not None else 0


def _equal(seed: int, *, drives: int, steps: int, run_spread: float = 0.005) -> Outcome:
    rng = np.random.default_rng([seed, 20])
    kinds = KINDS[:steps]
    found = shelf_of(rng, [1.0] * drives, kinds=kinds, run_spread=run_spread, noise=0.01)
    ranking = rank_drives(found)
    pairs = _surely(ranking)
    return Outcome(f"{drives} equal drives", f"{pairs} pairs differ", pairs == 0)


def _learnt(seed: int) -> Outcome:
    """With a run effect above the floor, which repeated runs tell."""
    rng = np.random.default_rng([seed, 21])
    made = shelf_of(rng, [1.0] * 8, kinds=KINDS[:6], run_spread=0.03, noise=0.01, runs=3)
    every = weigh(made)
    ranking = rank_drives(every.results, effect=every.effect)
    pairs = _surely(ranking)
    return Outcome("8 equal drives, runs differ by 3 %", f"{pairs} pairs differ", pairs == 0)


def _upgrade(seed: int, *, run_spread: float) -> Outcome:
    """The ratio of two drives from a run each."""
    rng = np.random.default_rng([seed, 22])
    true = rng.uniform(0.8, 1.3)
    found = shelf_of(rng, [1.0, true], kinds=KINDS[:8], run_spread=run_spread, noise=0.01)
    old, new = found[:8], found[8:]
    overall = compare("drive 0", "drive 1", old, new).overall
    assert overall is not None and overall.low is not None and overall.high is not None
    held = overall.low <= true <= overall.high
    return Outcome(f"{true:.3f} times", f"{overall.low:.3f} to {overall.high:.3f}", held)


def _ratio(seed: int, *, run_spread: float) -> Outcome:
    """The ratio of one step across two runs."""
    rng = np.random.default_rng([seed, 23])
    true = rng.uniform(0.8, 1.3)
    noise = rng.uniform(0.004, 0.03)
    one, two = shelf_of(rng, [true, 1.0], kinds=KINDS[:1], run_spread=run_spread, noise=noise)
    times = ratio_interval(ratio_across(one, two))
    assert times.low is not None and times.high is not None
    held = times.low <= true <= times.high
    return Outcome(f"{true:.3f} times", f"{times.low:.3f} to {times.high:.3f}", held)


def _consistent(seed: int) -> Outcome:
    """Places, index, pairs and the sentence never contradict each other; steps may be missing."""
    rng = np.random.default_rng([seed, 24])
    count = int(rng.integers(3, 9))
    speeds = np.exp(rng.normal(0, rng.uniform(0.01, 0.2), count))
    found = shelf_of(
        rng, list(speeds), kinds=KINDS[:8], run_spread=0.005, noise=0.01, shape=rng.uniform(0, 0.3)
    )
    found = [r for r in found if rng.random() > 0.15]
    ranking = rank_drives(found)
    scale = ranking.rank_intervals
    if scale is None:
        return Outcome("", "", True)
    rows = [d for d in ranking.drives if d.drive in scale.drives and d.index is not None]
    wrong = []
    ahead = scale.ahead
    for i, a in enumerate(scale.drives):
        for j, b in enumerate(scale.drives):
            if not ahead[i, j]:
                continue
            at = [r.drive for r in rows]
            first, second = rows[at.index(a)], rows[at.index(b)]
            assert first.place is not None and second.place is not None
            if at.index(a) > at.index(b):
                wrong.append(f"{a} surely above {b} and below it by index")
            if first.place.first >= second.place.last:
                wrong.append(f"{a} surely above {b} and behind it by place")
            if b in first.level or f"level with {b}" in rank_sentence(ranking, a):
                wrong.append(f"{a} surely above {b} and level with it")
    for row in rows:
        against = scale.ratio(row.drive, ranking.yardstick)
        outside = against.low is not None and not (
            against.low <= 1 <= (against.high or against.low)
        )
        if outside == (ranking.yardstick in row.level) and row.drive != ranking.yardstick:
            wrong.append(f"the index of {row.drive} and its being level disagree")
    return Outcome("no contradiction", "; ".join(wrong) or "none", not wrong)


def _missing(seed: int) -> Outcome:
    """A drive that lacks the step it is weak in is not surely placed higher for it."""
    rng = np.random.default_rng([seed, 25])
    kinds = KINDS[:6]
    full = shelf_of(rng, [1.0, 1.0, 1.0], kinds=kinds, run_spread=0.005, noise=0.01, shape=0.25)
    mine = [r for r in full if r.drive == "drive 1"]
    scores = {}
    for drive in ("drive 0", "drive 1"):
        own = [r for r in full if r.drive == drive]
        scores[drive] = np.mean(
            [math.log(np.median([p.rate_bytes_s for p in r.passes])) for r in own]
        )
    weakest = min(mine, key=lambda r: r.passes[0].rate_bytes_s)
    ranking = rank_drives([r for r in full if r is not weakest])
    row = next(d for d in ranking.drives if d.drive == "drive 1")
    scale = ranking.rank_intervals
    assert scale is not None
    ahead = scale.ahead[scale.drives.index("drive 1"), scale.drives.index("drive 0")]
    behind = scores["drive 1"] < scores["drive 0"]
    said = "was not measured in" in rank_sentence(ranking, "drive 1")
    right = not (ahead and behind) and bool(row.missing) and said
    return Outcome("its weak step is missing", rank_sentence(ranking, "drive 1"), right)


def _verdict(seed: int, *, side: float, choice: int) -> Outcome:
    """A drive exactly on the margin is called short, or met, in 2.5 % of cases at most."""
    rng = np.random.default_rng([seed, 26])
    claim = Claim(True, 100, 1000.0, "IOPS", block_bytes=BLOCK, printed="")
    noise = rng.uniform(0.005, 0.05)
    true = 950.0 * BLOCK
    results = [
        result(
            "d", f"random read 4KiB depth {2**n}", list(true * np.exp(noise * rng.normal(size=5)))
        )
        for n in range(choice)
    ]
    verdict = judge_claims([claim], results)[0].verdict
    bad = verdict is Verdict.SHORT if side < 0 else verdict in (Verdict.MET, Verdict.BEATEN)
    return Outcome("on the margin", str(verdict), not bad)


def _settled(seed: int, *, side: float, times: int) -> Outcome:
    """The same where settling goes on for as long as somebody asks."""
    rng = np.random.default_rng([seed, 27])
    claim = Claim(True, 100, 1000.0, "IOPS", block_bytes=BLOCK, depth=1, printed="")
    noise = rng.uniform(0.005, 0.05)
    true = 950.0 * BLOCK
    made = [result("d", "random read 4KiB", list(true * np.exp(noise * rng.normal(size=5))), "0")]
    verdict = judge_claims([claim], weigh(made).results)[0]
    for number in range(times):
        if verdict.verdict is not Verdict.CLOSE or verdict.on_margin:
            break
        goal = settling_goal(verdict, 0.05)
        rates: list[float] = []
        outcome = None
        while outcome is None and len(rates) < 30:
            rates.append(float(true * math.exp(noise * rng.normal())))
            outcome = goal.outcome(rates)
        made.append(result("d", "random read 4KiB", rates, str(number + 1)))
        verdict = judge_claims([claim], weigh(made).results)[0]
        if outcome is SettlingOutcome.UNDECIDABLE:
            break
    found = verdict.verdict
    bad = found is Verdict.SHORT if side < 0 else found in (Verdict.MET, Verdict.BEATEN)
    return Outcome("on the margin", f"{found} after {len(verdict.passes)} passes", not bad)


def _passes(seed: int, *, memory: float) -> Outcome:
    """The interval of passes holds the truth, whether they remember or not."""
    rng = np.random.default_rng([seed, 28])
    count = int(rng.integers(15, 41)) if memory else int(rng.integers(3, 12))
    at, values = rng.normal(), []
    for _ in range(count):
        at = memory * at + math.sqrt(1 - memory * memory) * rng.normal()
        values.append(1e9 * math.exp(0.02 * at))
    found = interval(values)
    assert found.low is not None and found.high is not None
    return Outcome(
        "1000 MB/s",
        f"{found.low / 1e6:.1f} to {found.high / 1e6:.1f}",
        found.low <= 1e9 <= found.high,
    )


def _narrow(seed: int) -> Outcome:
    """The interval of passes that were stopped once it was narrow enough."""
    rng = np.random.default_rng([seed, 29])
    policy = RepetitionPolicy(FEWEST_TO_STOP_EARLY, 30, 0.02)
    noise = rng.uniform(0.01, 0.03)
    rates: list[float] = []
    while not rates or policy.verdict(rates, 0, None) is None:
        rates.append(1e9 * math.exp(noise * rng.normal()))
    found = interval(rates)
    assert found.low is not None and found.high is not None
    return Outcome(
        "1000 MB/s",
        f"{found.low / 1e6:.1f} to {found.high / 1e6:.1f}, {len(rates)} passes",
        found.low <= 1e9 <= found.high,
    )


FAMILIES = (
    Family(
        "20 equal drives, 5 steps: no pair differs",
        lambda s: _equal(s, drives=20, steps=5),
        0.95,
        1000,
        15,
    ),
    Family(
        "20 equal drives, 12 steps: no pair differs",
        lambda s: _equal(s, drives=20, steps=12),
        0.95,
        1000,
        8,
    ),
    Family(
        "2 equal drives: they do not differ",
        lambda s: _equal(s, drives=2, steps=12),
        0.95,
        1000,
        60,
    ),
    Family("equal drives, the spread between runs learnt", _learnt, 0.95, 1000, 40),
    Family(
        "31 equal drives, a run each, runs differ by 2 %",
        lambda s: _equal(s, drives=31, steps=6, run_spread=0.02),
        0.95,
        500,
        12,
    ),
    Family(
        "31 equal drives, a run each, runs differ by 3 %",
        lambda s: _equal(s, drives=31, steps=6, run_spread=0.03),
        0.95,
        500,
        12,
    ),
    Family(
        "2 equal drives, a run each, runs differ by 3 %",
        lambda s: _equal(s, drives=2, steps=12, run_spread=0.03),
        0.95,
        1000,
        60,
    ),
    Family(
        "an upgrade's interval, runs differ by 1 %",
        lambda s: _upgrade(s, run_spread=0.01),
        0.95,
        2000,
        100,
    ),
    Family(
        "an upgrade's interval, runs differ by 3 %",
        lambda s: _upgrade(s, run_spread=0.03),
        0.93,
        2000,
        100,
        most=0.985,
    ),
    Family(
        "a ratio across runs, runs differ by 3 %",
        lambda s: _ratio(s, run_spread=0.03),
        0.93,
        2000,
        100,
        most=0.985,
    ),
    Family("no contradiction in a ranking", _consistent, 1.0, 1000, 60),
    Family("a missing weak step lifts nobody surely", _missing, 0.95, 500, 40),
    Family(
        "false 'short' at the margin", lambda s: _verdict(s, side=-1, choice=1), 0.975, 4000, 150
    ),
    Family("false 'met' at the margin", lambda s: _verdict(s, side=1, choice=1), 0.975, 4000, 150),
    Family(
        "false 'met', the best of 10 steps",
        lambda s: _verdict(s, side=1, choice=10),
        0.975,
        2000,
        60,
    ),
    Family("false 'short', settled once", lambda s: _settled(s, side=-1, times=1), 0.975, 3000, 60),
    Family("false 'met', settled once", lambda s: _settled(s, side=1, times=1), 0.975, 3000, 60),
    Family(
        "false 'short', settled ten times",
        lambda s: _settled(s, side=-1, times=10),
        0.975,
        2000,
        40,
    ),
    Family(
        "false 'met', settled ten times", lambda s: _settled(s, side=1, times=10), 0.975, 2000, 40
    ),
    Family("the interval of passes", lambda s: _passes(s, memory=0.0), 0.95, 4000, 200, most=0.99),
    Family(
        "the interval of passes that remember", lambda s: _passes(s, memory=0.6), 0.90, 2000, 100
    ),
    Family(
        "the interval where passes stop once it is narrow", _narrow, 0.93, 4000, 150, most=0.985
    ),
)
