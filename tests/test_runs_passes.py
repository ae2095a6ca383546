"""The bench over a session that does no I/O: order, seeds, repetitions, faults, limits, cost."""

from __future__ import annotations

import errno
import json
import os
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from jovik.analysis.step_result import Conditions, StepResult
from jovik.base import histogram
from jovik.base.errors import DriveError, TargetError
from jovik.base.findings import Disconnection, LostData
from jovik.base.io_session import Progress, ProgressCallback, Workload
from jovik.base.plain_data import plain
from jovik.base.trace import IoFault, Latencies, StampFaults, Trace
from jovik.runs.context import RunConditions, RunContext, RunOptions
from jovik.runs.cost import cost_of
from jovik.runs.pass_store import AS_THEY_ARE, PassStore
from jovik.runs.plan_loop import run_plan
from jovik.runs.repetition import RepetitionPolicy
from jovik.runs.task import Task
from jovik.shelf.run_records import read_findings
from jovik.steps import Step, parse, parse_access
from jovik.steps.io_step import DEFAULT_SPAN_BYTES
from jovik.steps.seed import pass_seed

READ, WRITE, LONG = (
    "random read 4KiB for 1s",
    "random write 4KiB for 1s",
    "sequential write 1MiB over 2GB",
)


@dataclass
class Scripted:
    """A session that answers each pass with the next of its rates, in I/Os a second."""

    rates: list[float]
    faults: dict[int, IoFault] = field(default_factory=dict)
    stamps: dict[int, StampFaults] = field(default_factory=dict)
    ceiling: float | None = None
    refuses: str = ""
    engine: str = "scripted"
    direct: bool = True
    notes: tuple[str, ...] = ()
    laid_out: int = 0
    ran: list[Workload] = field(default_factory=list)
    clock_ns: int = 0

    def engine_for(self, work: Workload) -> str:
        return self.engine

    def warm_up(self) -> None: ...

    def capacity_bytes(self) -> int | None:
        return None

    def free_bytes(self) -> int | None:
        return None

    def check(self, work: Workload) -> None:
        if self.refuses and work.random == (self.refuses == "random"):
            raise TargetError("too much")

    def to_lay_out_bytes(self, work: Workload) -> int:
        return 0 if work.fresh else max(work.span_bytes - self.laid_out, 0)

    def prepare(self, work: Workload, watch: ProgressCallback) -> int:
        missing = self.to_lay_out_bytes(work)
        self.laid_out = 0 if work.fresh else max(self.laid_out, work.span_bytes)
        return missing

    def run(self, work: Workload, watch: ProgressCallback) -> Trace:
        number = len(self.ran)
        self.ran.append(work)
        watch(Progress(1, 1, 1.0))
        self.clock_ns += 10**9
        ios = round(self.rates[number % len(self.rates)])
        slices = np.zeros((1, 5), np.int64)
        slices[0] = (
            [0, 0, ios * work.block_bytes, ios, 0]
            if work.writes
            else [ios * work.block_bytes, ios, 0, 0, 0]
        )
        if number in self.faults:
            slices[0, 4] = 1
        return Trace(
            self.engine,
            self.direct,
            work.seed,
            10**9,
            0,
            10**8,
            slices,
            {},
            first_fault=self.faults.get(number),
            stamps=self.stamps.get(number),
        )

    def ceiling_iops(self, work: Workload) -> float | None:
        return self.ceiling

    def threads(self, work: Workload) -> int:
        return work.workers

    def fill_percent(self) -> float | None:
        return 12.5

    def now_ns(self) -> int:
        return self.clock_ns

    def temperatures_c(self) -> dict[str, float]:
        return {}

    def close(self) -> None: ...

    def __enter__(self) -> Scripted:
        return self

    def __exit__(self, *exc: object) -> None: ...


@dataclass
class Diary:
    """Sink and observer in one: what was told, in order."""

    told: list[str] = field(default_factory=list)
    conditions: list[Conditions] = field(default_factory=list)
    results: list[StepResult] = field(default_factory=list)

    def step_begun(self, position: int, step: Step, conditions: Conditions) -> None:
        self.told.append(f"begin {position}")
        self.conditions.append(conditions)

    def pass_done(self, position: int, number: int, trace: Trace) -> None:
        self.told.append(f"pass {position}.{number}")

    def step_done(self, position: int, result: StepResult) -> None:
        self.told.append(f"done {position}")
        self.results.append(result)

    def laid_out(self, written_bytes: int) -> None:
        self.told.append(f"laid out {written_bytes}")

    def preparing(self, position: int, step: Step, size_bytes: int) -> Callable[[Progress], None]:
        return self.look

    def passing(self, position: int, step: Step, number: int) -> Callable[[Progress], None]:
        self.told.append(f"start {position}.{number}")
        return self.look

    def finished(self, position: int, result: StepResult) -> None:
        self.told.append(f"shown {position}")

    def look(self, live: Progress) -> None:
        self.told.append("look")


def go(session: Scripted, *phrases: str, **options: Any) -> Diary:
    diary = Diary()
    repeat = options.pop("repeat", RepetitionPolicy(2, 2))
    bench = RunContext(
        session, RunConditions(rig="bench", sample="u"), RunOptions(**options), diary, diary
    )
    run_plan([Task(parse(p), repeat) for p in phrases], bench)
    return diary


def test_each_pass_is_handed_over_before_the_next_begins() -> None:
    diary = go(Scripted([100]), READ, WRITE)
    told = [t for t in diary.told if t != "look"]
    assert told == [
        "begin 0",
        "laid out 805306368",
        "start 0.1",
        "pass 0.1",
        "start 0.2",
        "pass 0.2",
        "done 0",
        "shown 0",
        "begin 1",
        "start 1.1",
        "pass 1.1",
        "start 1.2",
        "pass 1.2",
        "done 1",
        "shown 1",
    ]
    assert diary.conditions[0] == Conditions(
        "scripted", True, DEFAULT_SPAN_BYTES, 12.5, rig="bench", sample="u"
    )


def test_seeds_differ_by_run_step_and_pass_and_are_the_same_again() -> None:
    one, two = Scripted([100]), Scripted([100])
    go(one, READ, WRITE, seed=5)
    go(two, READ, WRITE, seed=5)
    assert [w.seed for w in one.ran] == [w.seed for w in two.ran]
    assert len({pass_seed(r, s, p) for r in range(9) for s in range(9) for p in range(9)}) == 729


def test_nothing_begins_when_a_later_step_is_refused() -> None:
    session = Scripted([100], refuses="sequential")
    with pytest.raises(TargetError):
        go(session, READ, LONG)
    assert session.ran == [] and session.laid_out == 0


FAULT = IoFault(5, "Input/output error", 8192, "read", 10**8)


def test_a_fault_ends_the_run_and_is_kept() -> None:
    diary = Diary()
    session = Scripted([100], faults={1: FAULT})
    with pytest.raises(
        DriveError, match=r"a read at byte 8192, 0\.10 s into the pass: Input/output error"
    ) as caught:
        run_plan(
            [Task(parse(p), RepetitionPolicy(3, 3)) for p in (READ, WRITE)],
            RunContext(session, RunConditions(), RunOptions(), diary, diary),
        )
    assert caught.value.exit_status == 4 and len(session.ran) == 2
    assert "pass 0.2" in diary.told and diary.results[0].errors == 1
    assert any("Input/output error at byte 8192" in n for n in diary.results[0].notes)


def test_faults_can_be_counted_instead() -> None:
    session = Scripted([100], faults={0: FAULT, 2: FAULT})
    diary = go(session, READ, WRITE, stop_on_error=False)
    assert len(session.ran) == 4 and [r.errors for r in diary.results] == [1, 1]
    assert all(not w.stop_on_error for w in session.ran)


def test_a_drive_that_stopped_answering_ends_the_run_all_the_same() -> None:
    class Silent(Scripted):
        def run(self, work: Workload, watch: ProgressCallback) -> Trace:
            return replace(super().run(work, watch), stopped=True)

    session = Silent([100], faults={0: FAULT})
    with pytest.raises(DriveError):
        go(session, READ, stop_on_error=False)


def test_blocks_that_came_back_wrong_are_a_failure_of_the_drive() -> None:
    session = Scripted([100], stamps={0: StampFaults(1000, 2, 1, 0, (4096, 8192, 65536))})
    with pytest.raises(
        DriveError,
        match="of 1,000 blocks of 4 KiB 2 came back with other data and 1 with older, 0 could not "
        "be read; the first at byte 4,096",
    ):
        go(session, WRITE)
    again = Scripted([100], stamps={0: StampFaults(1000, 2, 1, 0, (4096, 8192, 65536))})
    (result,) = go_on(again, WRITE).results
    assert result.findings.lost == LostData(1000 * 4096, 3 * 4096, None)
    fine = go(Scripted([100], stamps={0: StampFaults(1000, 0, 0, 0)}), WRITE)
    assert "every stamp came back as it was written" in fine.results[0].notes


def go_on(session: Scripted, *phrases: str) -> Diary:
    """A run that a failing drive ends; what was recorded of it."""
    diary = Diary()
    context = RunContext(session, RunConditions(), RunOptions(), diary, diary)
    with pytest.raises(DriveError):
        run_plan([Task(parse(p), RepetitionPolicy(2, 2)) for p in phrases], context)
    return diary


@pytest.mark.parametrize(
    ("number", "confirmed", "said"),
    [
        (errno.ENODEV, 8192, "disappeared 0.10 s into the pass: the last write that it confirmed"),
        (errno.ENXIO, None, "it had confirmed no write in this pass"),
        (errno.EIO, 8192, "the last write that it confirmed ended at byte 8,192"),
    ],
)
def test_a_drive_that_disappears_is_a_finding_with_its_last_confirmed_byte(
    number: int, confirmed: int | None, said: str
) -> None:
    fault = IoFault(number, os.strerror(number), 12288, "write", 10**8, confirmed)
    session = Scripted([100], faults={0: fault})
    with pytest.raises(DriveError, match=said):
        go(session, WRITE)
    (result,) = go_on(Scripted([100], faults={0: fault}), WRITE).results
    gone = Disconnection(0.1, confirmed) if number != errno.EIO else None
    assert result.findings.disconnected == gone
    assert read_findings(json.loads(json.dumps(plain(result.findings)))) == result.findings
    assert any("disappeared" in n for n in result.notes) == (gone is not None)


@pytest.mark.parametrize(
    ("repeat", "budget_ns", "rates", "passes", "said"),
    [
        (RepetitionPolicy(4, 4), None, [100, 101], 4, ""),
        (RepetitionPolicy(3, 20, precision=0.02), None, [1000, 1001, 1002], 3, "within 2 %"),
        (
            RepetitionPolicy(3, 6, precision=0.0001),
            None,
            [1000, 1100, 900],
            6,
            "without reaching the wanted precision of 0.01 %",
        ),
        (RepetitionPolicy(50, 50), 5 * 10**9, [100, 101], 5, "the time budget was spent"),
        (RepetitionPolicy(1, 1), None, [100], 1, ""),
    ],
)
def test_when_repeating_ends(
    repeat: RepetitionPolicy, budget_ns: int | None, rates: list[float], passes: int, said: str
) -> None:
    result = go(Scripted(rates), READ, repeat=repeat, budget_ns=budget_ns).results[0]
    assert len(result.passes) == passes
    assert (
        any(said in n for n in result.notes)
        if said
        else not any("stopped" in n for n in result.notes)
    )


def test_a_budget_is_shared_by_the_steps() -> None:
    diary = go(
        Scripted([100]), READ, WRITE, READ, repeat=RepetitionPolicy(100, 100), budget_ns=12 * 10**9
    )
    assert [len(r.passes) for r in diary.results] == [4, 4, 4]


def test_what_limits_and_what_differs_is_said() -> None:
    diary = go(Scripted([1000.0], ceiling=1200.0), READ)
    assert [x.what for x in diary.results[0].limits] == ["tester"] and diary.results[0].limits[
        0
    ].rate_bytes_s == 1200 * 4096
    assert go(Scripted([1000.0], ceiling=9000.0), READ).results[0].limits == ()
    differing = go(Scripted([1000.0, 250.0]), READ).results[0]
    assert any("passes differ by a factor of 4.0" in n for n in differing.notes)


def test_the_cost_is_known_beforehand() -> None:
    session = Scripted([1])
    phrases = (READ, WRITE, LONG, "random mixed 75% read 4KiB for 4s within 16MiB")
    cost = cost_of(
        [Task(parse(p), RepetitionPolicy(3, 3)) for p in phrases], session, rate_bytes_s=1e9
    )
    # 1 GiB laid out for the first, three times 2 GB asked for, and 16 MiB laid out after the fresh
    # file took its place.
    assert cost.certain_bytes == DEFAULT_SPAN_BYTES + 3 * 2_000_000_000 + 2**24
    assert cost.writing_ns == 3 * 10**9 + 3 * 10**9
    # Timed passes, and at the assumed gigabyte a second what goes by amount.
    assert cost.time_ns == 3 * (1 + 1 + 4) * 10**9 + (DEFAULT_SPAN_BYTES + 2**24) + 3 * 2 * 10**9
    assert cost.space_bytes == parse_access(LONG).span


def test_a_step_becomes_a_workload() -> None:
    work = parse_access(
        "random mixed 70% read 8KiB depth 4 workers 2 at most 1000IOPS within 1GB "
        "payload 50% compressible"
    ).workload(
        3,
    )
    assert (work.read_percent, work.depth, work.workers, work.compressible_percent, work.seed) == (
        70,
        4,
        2,
        50,
        3,
    )
    assert work.rate_limit_bytes_s == 1000 * 8192 and work.reads and work.writes and not work.fresh
    assert work.span_bytes == 10**9 // 16384 * 16384 and work.time_ns == 10**10


def test_passes_come_back_from_their_store_as_they_were() -> None:
    rng = np.random.default_rng(1)
    made = []
    for n in range(3 * AS_THEY_ARE):
        counts = np.zeros(histogram.COUNT, np.int64)
        counts[rng.integers(0, histogram.COUNT, 20)] = rng.integers(1, 2**40, 20)
        slices = rng.integers(0, 2**30, (1 + n % 7, 5))
        latencies = {"read": Latencies(counts, 1, 2, 3)} if n % 3 else {}
        made.append(Trace("x", True, n, 10**9, 0, 0, slices, latencies, notes=(str(n),)))
    store = PassStore(made)
    assert len(store) == len(made) and list(store.rates_bytes_s) == [t.rate_bytes_s for t in made]
    back, wanted = [*store[:70], *store[70:][10:], store[-1]], [*made[:70], *made[80:], made[-1]]
    for found, given in zip(back, wanted, strict=True):
        assert found.notes == given.notes and (found.slices == given.slices).all()
        assert found.latencies.keys() == given.latencies.keys()
        for direction, one in found.latencies.items():
            assert (one.counts == given.latencies[direction].counts).all() and one.maximum_ns == 2
    with pytest.raises(IndexError):
        store[len(made)]


FLAT = """
import jovik, sys
from jovik.shelf.writer import RunWriter
taken, kept = [], RunWriter.pass_done
def pass_done(self, position, number, trace):
    kept(self, position, number, trace)
    taken.append(int(open("/proc/self/statm").read().split()[1]) * 4096)
RunWriter.pass_done = pass_done
with jovik.open_shelf(sys.argv[1]) as shelf:
    jovik.measure(shelf, "model:comet", plan=sys.argv[2], seed=1)
lines = dict(x.split(":", 1) for x in open("/proc/self/status").read().splitlines())
peak = int(lines["VmHWM"].split()[0]) * 1024
print(len(taken), (peak - taken[len(taken) // 3]) / len(taken))
"""


@pytest.mark.skipif(not Path("/proc/self/statm").exists(), reason="needs /proc of Linux")
def test_memory_stays_flat_over_many_rounds(tmp_path: Path) -> None:
    """At 26 kB a pass, as it once was, these would take 12 MB more."""
    plan = tmp_path / "rounds.toml"
    steps = '["random read 4KiB for 200ms", "random write 4KiB for 200ms"]'
    plan.write_text(f'title = "x"\nsteps = [{{ rounds = 350, steps = {steps} }}]\n')
    words = [sys.executable, "-c", FLAT, str(tmp_path / "s.db"), str(plan)]
    done = subprocess.run(words, capture_output=True, text=True, check=False, timeout=300)
    assert done.returncode == 0, done.stderr
    count, each = done.stdout.split()
    assert int(count) == 700 and float(each) < 10_000, done.stdout
