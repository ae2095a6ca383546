"""Rounds until steady on model drives whose steady figure is known in closed form."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jovik.analysis.comparability import settled
from jovik.analysis.decay import decay
from jovik.analysis.statistics import interval
from jovik.analysis.step_result import StepResult
from jovik.base.io_session import Workload
from jovik.runs.context import RunConditions, RunContext, RunOptions
from jovik.runs.plan_loop import run_plan
from jovik.runs.task import tasks_of
from jovik.simulator import ModelSession, load_model
from jovik.simulator.catalogue import ModelDrive
from jovik.steps import Plan
from tests.test_runs_passes import Diary
from tests.truth.cases import Family, Outcome

SMALLER = 1 / 40
"""Of a model's capacity, so that it is soon written through; the figure stays the same."""
PHRASES = (
    "purge",
    "precondition 5 times at random within 90% of free",
    "random write 4KiB depth 32 until steady within 90% of free",
)


def smaller(name: str, **more: float) -> ModelDrive:
    """A model drive with less of everything but speed."""
    drive = load_model(name)
    whole = drive.behaviour
    size = {n: round(getattr(whole, n) * SMALLER) for n in ("capacity", "flash_size")}
    return replace(drive, behaviour=whole.model_copy(update=size | more))


def measured(drive: ModelDrive, seed: int) -> StepResult:
    """The result of the rounds."""
    diary = Diary()
    session = ModelSession(drive)
    bench = RunContext(session, RunConditions(), RunOptions(seed=seed), diary, diary)
    return run_plan(tasks_of(Plan.of(PHRASES)), bench)[-1]


def _known(seed: int, name: str) -> Outcome:
    """The interval holds the known figure, which is never further away than 2 %."""
    drive = smaller(name)
    session = ModelSession(drive)
    room = session.room_bytes()
    assert room is not None
    span = room * 90 // 100
    work = Workload(True, 0, 4096, 32, span, 1)
    known = drive.behaviour.steady_iops(work, span)
    found = measured(drive, seed)
    iops = interval([p.iops for p in found.passes])
    assert iops.low is not None and iops.high is not None
    near = abs(iops.median / known - 1) <= 0.02
    return Outcome(
        f"{known:.0f} IOPS",
        f"{iops.low:.0f} to {iops.high:.0f}",
        settled(found) and near and iops.low <= known <= iops.high,
    )


def _never(seed: int) -> Outcome:
    """A drive that tidies up for half a minute or more every so often is never steady."""
    rng = np.random.default_rng([seed, 31])
    every = float(rng.uniform(130, 170))
    pause = {"hiccup_every": round(every * 1e9), "hiccup_time": round(0.35 * every * 1e9)}
    found = measured(smaller("tundra", **pause), seed)
    assert found.findings.steady is not None
    return Outcome("never steady", f"{found.findings.steady}", not settled(found))


def _decays(seed: int, *, flat: bool) -> Outcome:
    """Rounds that are steady by the rule: flat ones say nothing, falling ones name their level."""
    rng = np.random.default_rng([seed, 32])
    count = int(rng.integers(8, 25))
    noise = rng.uniform(0.001, 0.004)
    time = rng.uniform(0.25, 0.6) * count
    height = 0.0 if flat else rng.uniform(0.08, 0.15)
    at = np.arange(count)
    rounds = 1e9 * (1 + height * np.exp(-at / time)) * np.exp(noise * rng.normal(size=count))
    found = decay(list(rounds))
    if flat:
        return Outcome("flat", str(found), found is None)
    near = found is not None and (found.level is None or abs(found.level / 1e9 - 1) < 0.08)
    return Outcome(f"falls by {100 * height:.0f} % to 1000 MB/s", str(found), near)


FAMILIES = (
    Family(
        "steady figure of a data centre drive", lambda s: _known(s, "basalt"), 0.93, 300, 12, 0.975
    ),
    Family(
        "steady figure of a person's drive", lambda s: _known(s, "tundra"), 0.93, 300, 12, 0.975
    ),
    Family(
        "steady figure with a coarse mapping", lambda s: _known(s, "quarry"), 0.93, 300, 12, 0.975
    ),
    Family("never steady", _never, 0.99, 300, 12),
    Family("flat rounds do not fall", lambda s: _decays(s, flat=True), 0.98, 2000, 100),
    Family(
        "steady rounds that still fall say so", lambda s: _decays(s, flat=False), 0.97, 2000, 100
    ),
)
