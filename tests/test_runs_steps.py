"""Every sort of step on model drives, through the bench.

Order and rest, filling, scanning, copying, budgets, resuming.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest

from jovik.analysis.comparability import is_plain
from jovik.analysis.fullness import empty_against_full
from jovik.analysis.ladder import ladders_in
from jovik.analysis.step_result import StepResult
from jovik.base.errors import DriveError, PhraseError, TargetError
from jovik.base.quantities import significant
from jovik.runs.budget import fit_to_budget
from jovik.runs.claim_steps import claim_tasks
from jovik.runs.context import ResumedStep, RunConditions, RunContext, RunOptions
from jovik.runs.cost import cost_of, time_of
from jovik.runs.pass_store import PassStore
from jovik.runs.plan_loop import run_plan
from jovik.runs.repetition import RepetitionPolicy
from jovik.runs.task import Task, tasks_of
from jovik.simulator import ModelSession, load_model
from jovik.simulator.parameters import UnreadableRange
from jovik.steps import CopyStep, Plan, ScanStep, load_plan, parse, parse_all, plan_names
from tests.conftest import Program
from tests.test_runs_passes import Diary
from tests.test_simulator import other


def measured(
    name: str,
    *phrases: str,
    passes: int = 3,
    diary: Diary | None = None,
    budget_ns: int | None = None,
    **changes: Any,
) -> list[StepResult]:
    diary = diary or Diary()
    session = ModelSession(other(load_model(name), **changes))
    bench = RunContext(session, RunConditions(), RunOptions(budget_ns=budget_ns), diary, diary)
    return run_plan(tasks_of(Plan.of(phrases), (passes, passes) if passes != 3 else None), bench)


# Ladders


@pytest.mark.parametrize(
    ("phrase", "rungs"),
    [
        (
            "random read 4KiB depth 1,4,32",
            ["random read 4KiB", "random read 4KiB depth 4", "random read 4KiB depth 32"],
        ),
        (
            "random read 4KiB depth 1..48",
            [f"random read 4KiB depth {d}" for d in (1, 2, 4, 8, 16, 32, 48)],
        ),
        ("random read 4,16KiB for 1s", ["random read 4KiB for 1s", "random read 16KiB for 1s"]),
        (
            "sequential read 512KiB..2MiB",
            [f"sequential read {b}" for b in ("512KiB", "1MiB", "2MiB")],
        ),
        ("fill to 50,90%", ["fill to 50%", "fill to 90%"]),
        (
            "random mixed 0..100% read 4KiB by 50",
            ["random write 4KiB", "random mixed 50% read 4KiB", "random read 4KiB"],
        ),
        (
            "random write 4KiB at most 1,2MB/s",
            ["random write 4KiB at most 1MB/s", "random write 4KiB at most 2MB/s"],
        ),
    ],
)
def test_a_list_or_a_range_is_a_ladder(phrase: str, rungs: list[str]) -> None:
    assert [s.canonical for s in parse_all(phrase)] == [parse(r).canonical for r in rungs]


def test_several_lists_make_every_combination() -> None:
    assert len(parse_all("random mixed 20..80% read 4KiB,8KiB depth 1,2,4 by 20")) == 4 * 2 * 3
    compressible = parse_all("sequential write 1MiB payload 0..100% compressible by 10")
    assert [s.compressible_percent for s in compressible] == list(range(0, 101, 10))  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("phrase", "expected"),
    [
        ("random read 4KiB depth 8..1", "smaller to the larger"),
        ("random read 4KiB depth 0..8", "by N"),
        ("random read 4KiB depth 1..8 by x", "how far apart"),
        ("random read 512B..64MiB depth 1..1024 workers 1..64", "at most 256 steps"),
        ("random read 4KiB depth 512,2048", "from 1 to 1024"),
        ("fill to 90", "a fill level"),
        ("rest until 45", "a temperature"),
        ("scan read 1MiB within 1GB", "in N zones"),
        ("copy in somewhere", "a folder in quotes"),
        ("copy in 4000 files of", "a size"),
        ("empty now", "nothing more"),
        ("sequential write 1MiB over 120% of free", "from 1 to 95"),
        ("random write 4KiB until stopped for 5s", "either 'until stopped'"),
    ],
)
def test_what_is_no_ladder_and_no_step_is_refused_with_the_reason(
    phrase: str, expected: str
) -> None:
    with pytest.raises(PhraseError) as caught:
        parse_all(phrase)
    assert expected in caught.value.hint


def test_a_curve_has_its_knee_and_its_best_where_the_parameters_put_them() -> None:
    found = ladders_in(
        measured(
            "slate",
            "random read 4KiB depth 1..64 for 2s",
            "sequential read 4KiB..1MiB for 2s",
            pass_spread=0.0,
        )
    )
    by_axis = {c.axis: c for c in found}
    depth = by_axis["depth"]
    assert [r.value for r in depth.rungs] == [1, 2, 4, 8, 16, 32, 64]
    # 98,000 IOPS at most and 85 µs alone: about ten in flight are enough.
    assert depth.knee == 16 or 16 in depth.best
    assert set(depth.best) <= {16, 32, 64} and not {1, 2, 4, 8} & {depth.knee}
    rates = [r.rate_bytes_s.median for r in by_axis["block_bytes"].rungs]
    assert rates == sorted(rates) and by_axis["block_bytes"].label == "sequential read, over block"


@pytest.mark.parametrize(
    ("phrase", "axis", "values"),
    [
        ("random read 4KiB depth 1,2 for 1s", "depth", [1, 2]),
        ("random read 4KiB for 1s within 1GB,2GB,4GB", "span_bytes", [10**9, 2 * 10**9, 4 * 10**9]),
        ("random write 4KiB over 1GB,2GB within 4GB", "amount_bytes", [10**9, 2 * 10**9]),
        ("sequential write 1MiB over 5GB,10GB", "amount_bytes", [5 * 10**9, 10**10]),
    ],
)
def test_two_rungs_are_a_curve_and_span_and_amount_are_axes(
    phrase: str, axis: str, values: list[int]
) -> None:
    (found,) = ladders_in(measured("slate", phrase))
    assert found.axis == axis
    assert [r.value for r in found.rungs] == values
    assert found.words()


def test_a_span_that_is_no_multiple_of_each_block_leaves_one_curve_a_depth() -> None:
    found = ladders_in(measured("gannet", "random read 4KiB..1MiB depth 1,32 for 1s within 12TB"))
    over_block = [c for c in found if c.axis == "block_bytes"]
    assert [len(c.rungs) for c in over_block] == [9, 9] and len(found) == 2 + 9


def test_best_is_a_set_where_the_passes_cannot_tell() -> None:
    (found,) = ladders_in(measured("slate", "random read 4KiB depth 32,64,128 for 1s"))
    assert len(found.best) > 1 and "no difference" in found.words() and found.knee is None


def test_a_payload_that_makes_no_difference_is_said_to_make_none() -> None:
    (found,) = ladders_in(
        measured(
            "slate",
            "random read 4KiB for 1s",
            "sequential write 1MiB payload 0..100% compressible by 50 for 1s",
        )
    )
    assert re.search(r"makes no difference: within \d+ %", found.words())


# Order, rest and fullness


@pytest.mark.parametrize(
    ("phrase", "labels"),
    [
        ("random read 4KiB depth 1,32 for 1s", ["depth 32"]),
        ("sequential read 1MiB for 1s within 1GB,2GB", ["1 GB", "2 GB"]),
        ("sequential write 1MiB over 1GB,2GB", ["1 GB", "2 GB"]),
        ("random read 4KiB..16KiB depth 1,32 for 1s within 12TB", ["4 KiB", "16 KiB"]),
    ],
)
def test_no_step_that_was_measured_disappears(
    jovik: Program, phrase: str, labels: list[str]
) -> None:
    jovik.env["COLUMNS"] = "120"
    model = "gannet" if "12TB" in phrase else "slate"
    out = jovik("measure", f"model:{model}", phrase, "--passes", "2", "--seed", "1").out
    steps = jovik("repeat", "--format", "json").json["steps"]
    for label in labels:
        assert label in out, out
    for step in steps:
        # Each with its figure, whatever table it stands in.
        assert significant(step["rate_bytes_s"]["median"] / 1e6) in out, (step["phrase"], out)


def test_a_rest_until_recovered_lets_the_next_step_meet_an_empty_cache() -> None:
    long, write = "sequential write 1MiB depth 8 over 60GB", "sequential write 1MiB depth 8 for 1s"
    starved = measured("drift", long, write)[-1]
    first, _, rested, after = measured("drift", write, long, "rest until recovered", write)
    rate = [r.passes[0].rate_bytes_s for r in (first, after)]
    assert starved.passes[0].rate_bytes_s < 0.1 * rate[0] and rate[1] == pytest.approx(
        rate[0], rel=0.05
    )
    assert (
        rested.notes[0].startswith("recovered after ")
        and after.conditions.after == parse(long).canonical
    )
    told = " ".join(after.notes)
    assert ("which wrote 60" in told or "rested before a pass" in told) and (
        after.conditions.idle_ns or 0
    ) > 10**9
    never = measured("drift", write, long, "rest until recovered for at most 8s")[-1]
    assert "not recovered within 8.00 s" in never.notes[0]


def test_resting_until_cool_takes_as_long_as_the_heat_does() -> None:
    hot, rest = measured(
        "ember", "sequential read 1MiB depth 8 for 80s", "rest until 60C", passes=1
    )
    assert hot.findings.temperature.peak_c > 80 and rest.notes[0].startswith("down to 60 °C after")
    assert any("is ignored" in n for n in hot.notes), "the stuck sensor is not believed"
    assert "no sensor" in measured("thimble", "rest until 40C")[0].notes[0]


def test_throttling_is_named_as_what_limited_a_step() -> None:
    diary = Diary()
    session = ModelSession(load_model("ember"))
    bench = RunContext(session, RunConditions(heat_limit_c=84.0), RunOptions(), diary, diary)
    result = run_plan(tasks_of(Plan.of(["sequential read 1MiB depth 8 for 3min"]), (1, 1)), bench)[
        0
    ]
    assert any(x.what == "heat" for x in result.limits)


def test_empty_is_held_against_full() -> None:
    write, read = "sequential write 1MiB depth 8 for 1s", "random read 4KiB for 1s"
    results = measured(
        "drift",
        write,
        read,
        "fill to 90%",
        "rest until recovered",
        write,
        read,
        "empty",
        cache_size=0,
        fold_after=0,
        pass_spread=0.001,
    )
    pairs = {p.kind: p for p in empty_against_full(results)}
    # full_from 70, full_share 0.35: at 90 % two thirds of the loss are there.
    assert pairs[parse(write).kind].share.median == pytest.approx(1 - 0.65 * 20 / 30, rel=0.02)
    assert (
        pairs[parse(write).kind].verdict == "slower"
        and pairs[parse(read).kind].verdict == "no difference that matters"
    )
    fill = next(r for r in results if r.phrase == "fill to 90%")
    assert fill.passes[0].written_bytes == pytest.approx(0.9e12, rel=0.01)
    assert all(r.conditions.filled_percent == 90 for r in results[4:6]) and results[-1].notes[
        0
    ].startswith("discarded 900 GB")


# Surface and copies


def test_a_scan_finds_the_shape_of_a_disk_and_its_bad_places() -> None:
    result = measured("gannet", "scan read in 100 zones")[0]
    seen = result.findings.scan
    assert seen.ratio == pytest.approx(262 / 124, rel=0.06) and seen.unreadable == ()
    assert seen.access_ns == pytest.approx(
        load_model("gannet").behaviour.platter.access_ns(1.0), rel=0.05
    )  # type: ignore[union-attr]
    assert any(n.startswith("read 1.68 GB of 12.0 TB") for n in result.notes)
    diary = Diary()
    zone = 12 * 10**12 // 100 // 2**20 * 2**20
    with pytest.raises(DriveError, match=f"a read at byte {50 * zone}") as caught:
        measured(
            "gannet",
            "scan read in 100 zones",
            diary=diary,
            bad=[UnreadableRange(at=f"{50 * zone}B", length="1MiB")],
        )
    assert caught.value.exit_status == 4 and diary.results[0].findings.scan.unreadable == (50,)


def test_an_amount_of_what_is_free_is_that_much() -> None:
    result = measured("wicker", "sequential write 1MiB depth 8 over 10% of free")[0]
    assert result.passes[0].written_bytes == pytest.approx(
        0.1 * 0.99 * 500e9, rel=0.001
    ) and result.kind.endswith("over 10% of free")
    assert len(result.passes) == 1


def test_copies_count_files_seconds_and_the_share_of_the_sequential_rate(tmp_path: Path) -> None:
    stream, many, one, out = measured(
        "comet",
        "sequential write 1MiB depth 8 for 1s",
        "copy in 20000 files of 16kB",
        "copy in 1 file of 8GB",
        "copy out 1 file of 8GB",
    )
    assert many.findings.copy.files == 20000 and many.findings.copy.of_sequential < 0.2
    assert one.findings.copy.of_sequential > 0.8
    assert many.passes[0].iops == pytest.approx(20000 / (many.passes[0].elapsed_ns / 1e9), rel=1e-6)
    assert many.passes[0].written_bytes == 20000 * 16_000 and out.passes[0].read_bytes == 8 * 10**9
    assert stream.findings.copy is None
    (tmp_path / "deep").mkdir()
    for n in range(3):
        (tmp_path / "deep" / f"{n}").write_bytes(bytes(1000 * (n + 1)))
    assert measured("comet", f'copy in "{tmp_path}"')[0].passes[0].written_bytes == 6000
    with pytest.raises(TargetError, match="there is no folder"):
        measured("comet", 'copy in "/no/such/place"')
    step = parse("copy in 4000 files of 2.5MB")
    assert (
        isinstance(step, CopyStep)
        and step.canonical == "copy in 4000 files of 2.5MB"
        and isinstance(parse("scan read in 9 zones"), ScanStep)
    )


# Model drives


def test_a_drive_that_lies_about_its_capacity_is_caught_by_verify() -> None:
    with pytest.raises(DriveError, match="did not return the written data"):
        measured("hollow", "sequential write 1MiB depth 8 over 80GB verify")
    fine = measured("hollow", "sequential write 1MiB depth 8 over 20GB verify")[0]
    assert "every stamp came back as it was written" in fine.notes


def test_a_compressing_controller_shows() -> None:
    plain, half, all_zero = (
        r.passes[0].rate_bytes_s
        for r in measured(
            "wicker", "sequential write 1MiB depth 8 payload 0,50,100% compressible for 1s"
        )
    )
    assert half > 1.5 * plain and all_zero > half
    plain, packed = (
        r.passes[0].rate_bytes_s
        for r in measured(
            "slate", "sequential write 1MiB depth 8 payload 0,100% compressible for 1s"
        )
    )
    assert packed == pytest.approx(plain, rel=0.1)


def test_pauses_of_the_firmware_are_counted_as_drop_outs() -> None:
    result = measured(
        "thimble",
        "sequential write 64KiB at most 10MB/s for 60s",
        passes=1,
        hiccup_every=10**10,
        hiccup_time=10**9,
    )[0]
    assert result.findings.drop_outs.count in (
        6,
        7,
    ) and result.findings.drop_outs.longest_s == pytest.approx(1.0, abs=0.11)
    assert any("below half of its rate" in n for n in result.notes)


def test_a_link_is_a_wall() -> None:
    fast = measured("comet", "sequential read 1MiB depth 8 for 1s")[0].passes[0].rate_bytes_s
    held = (
        measured(
            "comet",
            "sequential read 1MiB depth 8 for 1s",
            link_rate=1e9,
            pass_spread=0.0,
            slice_spread=0.0,
        )[0]
        .passes[0]
        .rate_bytes_s
    )
    assert fast > 7e9 and held == pytest.approx(1e9, rel=0.002)


# Plans, costs and budgets


@pytest.mark.parametrize("name", plan_names())
def test_every_plan_runs_on_a_model_drive_within_its_cost(name: str) -> None:
    diary = Diary()
    session = ModelSession(load_model("gannet" if name == "spinning" else "comet"))
    tasks = claim_tasks(tasks_of(load_plan(name)), load_model("comet").sheet.claims)
    cost = cost_of(tasks, session, 3e9)
    results = run_plan(tasks, RunContext(session, RunConditions(), RunOptions(), diary, diary))
    assert len(results) == len(tasks)
    written = sum(p.written_bytes for r in results for p in r.passes)
    assert cost.certain_bytes <= 1.2 * written + 2**31
    assert all(r.notes for r in results if not parse(r.phrase).measures)


def test_a_budget_takes_away_in_the_order_it_states() -> None:
    tasks = tasks_of(load_plan("full-review"))
    session = ModelSession(load_model("comet"))

    def expected(task: Task) -> int:
        return time_of(task, session, 3e9)

    whole, nothing = fit_to_budget(tasks, 10**15, expected)
    assert whole == tasks and nothing == []
    before = len(tasks)
    needed = sum(map(expected, tasks))
    for share in (0.9, 0.6, 0.4, 0.2, 0.05):
        left, said = fit_to_budget(tasks, round(share * needed), expected)
        gone = [t.drop_order for t in tasks if t not in left]
        assert len(left) <= before and said
        before = len(left)
        kept = [t.drop_order for t in left if t.drop_order]
        assert not gone or not kept or min(gone) > max(kept), (
            "what goes is more spare than what stays"
        )
        assert all(t in left for t in tasks if t.drop_order == 0)


def test_a_budget_ends_a_long_write_with_its_share() -> None:
    minute = 60 * 10**9
    results = measured(
        "drift",
        "sequential write 1MiB depth 8 over 900GB",
        "random read 4KiB for 1s",
        budget_ns=minute,
    )
    assert results[0].passes[0].elapsed_ns <= minute < 900e9 / 190e6 * 1e9
    assert results[0].kind == "sequential write 1MiB depth 8 over 900GB"


def test_a_run_goes_on_after_its_last_finished_pass_and_brings_the_fill_back() -> None:
    phrases = (
        "random read 4KiB for 1s",
        "fill to 50%",
        "random write 4KiB for 1s",
        "random read 4KiB depth 4 for 1s",
    )
    tasks = [
        Task(parse(p), RepetitionPolicy(3, 3) if parse(p).measures else RepetitionPolicy(1, 1))
        for p in phrases
    ]
    traces: dict[int, list[Any]] = {}

    class Keeping(Diary):
        def pass_done(self, position: int, number: int, trace: Any) -> None:
            super().pass_done(position, number, trace)
            traces.setdefault(position, []).append(trace)

    first = Keeping()
    whole = run_plan(
        tasks,
        RunContext(
            ModelSession(load_model("slate")), RunConditions(), RunOptions(seed=7), first, first
        ),
    )
    done = {
        0: ResumedStep(PassStore(traces[0]), True),
        1: ResumedStep(PassStore(traces[1]), True),
        2: ResumedStep(PassStore(traces[2][:1]), False),
    }
    diary = Diary()
    session = ModelSession(load_model("slate"))
    rest = run_plan(
        tasks, RunContext(session, RunConditions(), RunOptions(seed=7), diary, diary), done
    )
    started = [t for t in diary.told if t.startswith("start")]
    assert started == ["start 2.2", "start 2.3", "start 3.1", "start 3.2", "start 3.3"]
    assert [len(r.passes) for r in rest] == [3, 3] and all(
        r.conditions.filled_percent == 50 for r in rest
    )
    assert rest[0].passes[0] == whole[2].passes[0], (
        "the pass that was there is counted, not made again"
    )
    assert session.fill_percent() == pytest.approx(50, abs=1)


def test_a_copy_does_not_speak_for_the_other_steps_conditions(jovik: Program) -> None:
    found = jovik(
        "measure",
        "model:slate",
        "copy in 10 files of 1MB",
        "random read 4KiB for 1s",
        "--passes",
        "1",
        "--format",
        "json",
    ).json
    assert found["conditions"]["direct"] is True and [
        s["conditions"]["direct"] for s in found["steps"]
    ] == [False, True]
    assert ", direct; rig" in jovik("repeat").out


def test_a_timed_write_tells_of_a_fall_in_its_first_pass_and_calls_it_no_long_write(
    jovik: Program,
) -> None:
    answer = jovik(
        "measure",
        "model:drift",
        "sequential write 1MiB depth 8 for 20s",
        "--passes",
        "3",
        "--seed",
        "2",
    )
    assert (
        "in its first pass: the cliff: after 4" in answer.out
        and "the interval is of the mean within this one pass" not in answer.out
    )
    assert "until 4" in answer.out and ", then " in answer.out
    step = jovik("repeat", "--format", "json").json["steps"][0]
    assert step["cliff"]["at_bytes"] > 40e9
    calm = jovik("measure", "model:slate", "random write 4KiB for 10s", "--passes", "2")
    assert "no cliff" not in calm.out


# Bursts


def test_a_burst_is_measured_and_is_no_figure_of_the_drive() -> None:
    burst, plain = measured("comet", "burst read 64KiB for 1s", "random read 4KiB for 1s")
    assert burst.kind == "burst read 64KiB" and burst.conditions.span_bytes == 8 * 65536
    assert len(burst.passes) == 5 and burst.latencies["read"].total > 0
    assert not is_plain(burst) and is_plain(plain)
    assert not parse("burst write 4KiB").ranked


@pytest.mark.parametrize(
    ("phrase", "fault"),
    [
        ("burst", "'read' or 'write'"),
        ("burst read", "a block such as 64KiB"),
        ("burst read 1000B", "a multiple of 512"),
        ("burst read 4KiB for", "a time such as 2s"),
        ("burst read 4KiB depth 8", "'for TIME', once, or nothing more"),
    ],
)
def test_a_burst_that_is_none_says_what_was_expected(phrase: str, fault: str) -> None:
    with pytest.raises(PhraseError) as caught:
        parse(phrase)
    assert fault in caught.value.expected
