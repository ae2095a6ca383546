"""Going on and failing.

Every window in which a run can be cut off, faults of fills and copies, and interrupts that come
twice.
"""

from __future__ import annotations

import errno
import json
import os
import signal
import sqlite3
import subprocess
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from jovik.base.errors import DriveError, TargetError
from jovik.base.io_session import CopyJob, ProgressCallback
from jovik.base.trace import IoFault, Trace
from jovik.runs.context import ResumedStep, RunConditions, RunContext, RunOptions
from jovik.runs.cost import cost_of, time_of
from jovik.runs.pass_store import PassStore
from jovik.runs.plan_loop import check_plan, run_plan
from jovik.runs.repetition import RepetitionPolicy
from jovik.runs.task import Task
from jovik.simulator import ModelSession, load_model
from jovik.steps import parse
from tests.conftest import Program
from tests.test_runs_passes import Diary

FAULT = IoFault(errno.EIO, "Input/output error", 4096, "write", 10**6)


def tasks(*phrases: str, passes: int = 3) -> list[Task]:
    return [
        Task(
            parse(p),
            RepetitionPolicy(passes, passes)
            if parse(p).measures and not parse(p).once
            else RepetitionPolicy(1, 1),
        )
        for p in phrases
    ]


def bench(session: Any, diary: Diary, **options: Any) -> RunContext:
    return RunContext(session, RunConditions(), RunOptions(**options), diary, diary)


class Remembering(Diary):
    """A diary that keeps the traces, as a shelf would."""

    def __init__(self) -> None:
        super().__init__()
        self.traces: dict[int, list[Trace]] = {}

    def pass_done(self, position: int, number: int, trace: Trace) -> None:
        super().pass_done(position, number, trace)
        self.traces.setdefault(position, []).append(trace)


PLAN = (
    "random read 4KiB for 1s",
    "copy in 100 files of 1MB",
    "fill to 40%",
    "rest 5s",
    "scan read in 20 zones within 4GB",
    "random write 4KiB for 1s",
    "empty",
    "random read 4KiB depth 8 for 1s",
)


@pytest.mark.parametrize("finished", range(len(PLAN) + 1))
@pytest.mark.parametrize("passes_of_next", [0, 1, 3])
def test_cut_off_anywhere_the_rest_is_made_and_nothing_twice(
    finished: int, passes_of_next: int
) -> None:
    """Between any two passes, and between the last pass of a step and its end."""
    first = Remembering()
    plan = tasks(*PLAN)
    run_plan(plan, bench(ModelSession(load_model("slate")), first, seed=3))
    done = {n: ResumedStep(PassStore(first.traces[n]), True) for n in range(finished)}
    made = 0
    if finished < len(PLAN) and passes_of_next:
        made = min(passes_of_next, len(first.traces[finished]))
        done[finished] = ResumedStep(PassStore(first.traces[finished][:made]), False)
    diary = Remembering()
    results = run_plan(plan, bench(ModelSession(load_model("slate")), diary, seed=3), done)
    assert [r.phrase for r in results] == [t.step.canonical for t in plan[finished:]]
    for position, task in enumerate(plan):
        wanted = task.repeat.most
        if position < finished:
            assert position not in diary.traces
        elif position == finished and (task.repeat.most > 1):
            assert (
                len(diary.traces.get(position, ())) == wanted - made
                and len(results[0].passes) == wanted
            )
        else:
            assert len(diary.traces[position]) == wanted
    level = 40 if 2 < finished <= 6 else None
    if results and finished not in (2, 6):
        assert results[0].conditions.filled_percent == level
    refilled = [
        t for t in diary.told if t.startswith("laid out") and int(t.split()[-1]) > 3 * 10**11
    ]
    assert bool(refilled) == (2 < finished <= 6), (
        "a fill that went with its process is brought back, and only where it is met"
    )


def test_a_run_that_was_killed_behind_its_last_step_writes_nothing_more() -> None:
    plan = tasks("fill to 40%", "random read 4KiB for 1s")
    first = Remembering()
    run_plan(plan, bench(ModelSession(load_model("slate")), first))
    diary = Remembering()
    session = ModelSession(load_model("slate"))
    assert (
        run_plan(
            plan,
            bench(session, diary),
            {n: ResumedStep(PassStore(t), True) for n, t in first.traces.items()},
        )
        == []
    )
    assert diary.told == [] and session.fill_percent() == 0


def test_the_shelf_takes_a_step_that_is_made_again(jovik: Program) -> None:
    """A scan and a rest whose pass is there while their end is not.

    The window between two transactions.
    """
    done = jovik(
        "measure",
        "model:gannet",
        "scan read in 20 zones",
        "rest 5s",
        "random read 4KiB for 1s",
        "--passes",
        "1",
        "--format",
        "json",
    ).json
    with sqlite3.connect(jovik.shelf) as shelf:
        shelf.execute(
            "update run set state = 'running', options = json_set(options, '$.process.pid', 1)"
        )
        shelf.execute("update step set finished = 0 where position > 0")
        shelf.execute("update step set finished = 0, facts = null, notes = '[]'")
    again = jovik("resume", "--format", "json").json
    assert again["run"] == done["run"] and again["state"] == "done"
    assert [s["phrase"] for s in again["steps"]] == [s["phrase"] for s in done["steps"]] and again[
        "steps"
    ][0]["facts"]["surface"]["zones"] == 20
    with sqlite3.connect(jovik.shelf) as shelf:
        assert shelf.execute("select count(*) from pass").fetchone() == (3,)


def test_a_fill_that_failed_is_a_failure_of_the_drive() -> None:
    class Failing(ModelSession):
        def fill(self, percent: int, seed: int, watch: ProgressCallback) -> Trace | None:
            trace = super().fill(percent, seed, watch)
            assert trace is not None
            return replace(trace, first_fault=FAULT)

    plan = tasks("fill to 40%", "random read 4KiB for 1s")
    diary = Diary()
    with pytest.raises(DriveError, match="a write at byte 4096"):
        run_plan(plan, bench(Failing(load_model("slate")), diary))
    assert "pass 0.1" in diary.told and "start 1.1" not in diary.told
    assert (
        len(run_plan(plan, bench(Failing(load_model("slate")), Diary(), stop_on_error=False))) == 2
    )


def test_a_copy_that_failed_stops_the_run_unless_errors_are_counted() -> None:
    class Failing(ModelSession):
        def copy(self, job: CopyJob, watch: ProgressCallback) -> Trace:
            return replace(super().copy(job, watch), first_fault=FAULT)

    plan = tasks("copy in 10 files of 1MB", "random read 4KiB for 1s")
    with pytest.raises(DriveError):
        run_plan(plan, bench(Failing(load_model("slate")), Diary()))
    found = run_plan(plan, bench(Failing(load_model("slate")), Diary(), stop_on_error=False))
    assert (
        len(found[0].passes) == 3
        and not found[0].conditions.direct
        and any("the first error" in n for n in found[0].notes)
    )


@pytest.mark.parametrize(
    ("phrase", "said"),
    [
        ('copy in "/no/such/place"', "there is no folder /no/such/place"),
        ("copy in 2000 files of 1GB", "no room for 2.00 TB"),
        ("sequential write 1MiB over 3TB", "holds"),
        ("scan read in 100 zones within 50MiB", "smaller than a block"),
    ],
)
def test_what_cannot_be_done_is_refused_before_anything_is_written(phrase: str, said: str) -> None:
    diary = Diary()
    session = ModelSession(load_model("slate"))
    with pytest.raises(TargetError, match=said):
        run_plan(tasks("sequential write 1MiB for 1s", phrase), bench(session, diary))
    assert diary.told == [] and session.now_ns() == 0


def test_a_folders_files_are_part_of_the_cost(tmp_path: Path) -> None:
    for n in range(5):
        (tmp_path / f"{n}").write_bytes(bytes(10_000_000))
    session = ModelSession(load_model("slate"))
    plan = tasks(f'copy in "{tmp_path}"')
    check_plan(plan, session)
    cost = cost_of(plan, session, 100e6)
    assert cost.certain_bytes == 3 * 50_000_000 and cost.space_bytes == 50_000_000
    assert time_of(plan[0], session, 100e6) == pytest.approx(3 * (0.5e9 + 5 * 100_000))


def test_a_raw_device_takes_no_files(tmp_path: Path) -> None:
    from jovik.engine.block_device import RawDevice
    from jovik.engine.io_session import FileSession

    plain = tmp_path / "device"
    plain.write_bytes(bytes(2**22))
    raw = RawDevice(plain, capacity_bytes=2**22, logical_block_bytes=512)
    with FileSession(raw) as session:
        assert session.capacity_bytes() == 2**22 and session.empty().freed_bytes == 0
        for refused in (
            lambda: session.copy_size(CopyJob(True, (1,))),
            lambda: session.to_fill_bytes(50),
        ):
            with pytest.raises(TargetError):
                refused()


def test_two_passes_that_a_person_ends_take_two_interrupts(jovik: Program) -> None:
    """The second ends the second pass, and not the program: only two in a row are impatience."""
    jovik("sheet", "new", "Own Disk")
    phrase = "random {} 4KiB within 1MiB until stopped"
    words = jovik.command(
        "measure",
        ".",
        "--drive",
        "Own Disk",
        phrase.format("read"),
        phrase.format("write"),
        *("--yes", "--format", "json", "--progress", "json"),
    )
    running = subprocess.Popen(
        words,
        cwd=jovik.folder,
        env=jovik.env,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    assert running.stderr is not None
    for step in (1, 2):
        # A pass that is told to be in progress is one that an interrupt ends.
        for line in running.stderr:
            event = json.loads(line)
            if event["event"] == "progress" and event["position"] == step:
                break
        running.send_signal(signal.SIGINT)
    out, err = running.communicate(timeout=30)
    assert running.returncode == 0, err
    assert (
        [s["passes"] for s in json.loads(out)["steps"]] == [1, 1]
        and '"state": "done"' in out
        and os.listdir(jovik.folder) == []
    )
