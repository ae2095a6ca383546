"""What is found in runs and said of them: causes, lost data, caches, firmware, disturbances."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from jovik.analysis.claims import Verdict, judge_claims
from jovik.analysis.cliff_agreement import cliff_agreement, cliff_agreement_note
from jovik.analysis.evidence import Drawback, choose
from jovik.analysis.firmware_change import firmware_changes
from jovik.analysis.latency import summary_ns
from jovik.analysis.long_write_notes import fall_notes, long_write_notes
from jovik.analysis.lost_data import lost_data, lost_words
from jovik.analysis.ranking import rank_drives
from jovik.analysis.samples import side_by_side, suspects
from jovik.analysis.statistics import interval, trend
from jovik.analysis.steady_state import steady_from
from jovik.analysis.step_result import Limit, LimitSource
from jovik.analysis.upgrade import compare
from jovik.base import histogram
from jovik.base.findings import Disturbance, DisturbanceAmount, Findings, Shape
from jovik.base.plain_data import plain
from jovik.base.quantities import digits_for
from jovik.base.trace import Latencies, StampFaults
from jovik.queries.evidence import weigh
from jovik.sheets.sheet import Claim
from jovik.shelf.run_records import read_findings
from jovik.tables.conditions import conditions_words
from jovik.tables.steps import disturbance_lines
from jovik.tables.table import figure_words
from tests.conftest import Program
from tests.test_analysis_series import written
from tests.test_analysis_verdicts import made
from tests.truth.series import seen

# Series


@pytest.mark.parametrize("seed", range(6))
def test_a_pause_is_never_the_cliff_of_a_drive_that_pauses(seed: int) -> None:
    found = written("pebble", "110GB", seed)
    assert found.cliff is not None and found.cliff.at_bytes == pytest.approx(60e9, rel=0.02)
    assert len(found.falls) == 1 and not any("recovers" in n for n in long_write_notes(found))
    lows = [p.rate_bytes_s.low for p in found.parts]
    assert all(low is not None and low >= 0 for low in lows)


@pytest.mark.parametrize("cut_s", [0, 5, 14, 20, 27])
def test_a_saw_tooth_is_judged_by_its_mean_wherever_the_write_ends(cut_s: int) -> None:
    high, low = np.full(140, 2e9), np.full(140, 1e9)
    rates = np.concatenate([*[high, low] * 8, high, low])[: 16 * 140 + 10 * cut_s]
    found = seen(rates * np.exp(np.random.default_rng(cut_s).normal(0, 0.02, len(rates))))
    assert found.cliff is None and found.parts[-1].shape is Shape.ALTERNATING
    sustained = found.sustained
    assert sustained == found.steady_bytes
    assert found.steady_bytes is not None
    assert found.steady_bytes.median == pytest.approx(1.5e9, rel=0.02)
    assert any("every 28" in n and "mean 1,5" in n for n in fall_notes(found))


def test_what_begins_to_alternate_has_no_cliff_there() -> None:
    """Heat makes it throttle on and off after a while; the cool rate is reached again each time."""
    head, low, high = np.full(400, 2e9), np.full(100, 1e9), np.full(60, 2e9)
    rates = np.concatenate([head, *[low, high] * 8])
    found = seen(rates * np.exp(np.random.default_rng(2).normal(0, 0.02, len(rates))))
    assert found.cliff is None and found.parts[-1].shape is Shape.ALTERNATING
    fallen = np.concatenate([2 * head, *[low, high] * 8])
    found = seen(fallen * np.exp(np.random.default_rng(2).normal(0, 0.02, len(rates))))
    assert found.cliff is not None and found.cliff.at_s == pytest.approx(40, abs=0.5)


def test_steady_means_that_all_rounds_from_then_on_are_within_the_bounds() -> None:
    creeping = [100.0 - n for n in range(20)]
    first = steady_from(creeping)
    # Each five of them in a row would have passed, from the first on.
    assert first is not None and first > 5
    assert max(creeping[first:]) - min(creeping[first:]) <= 0.1 * 85
    assert steady_from([18.7, *[16.1] * 4, 12.0]) is None


def test_more_than_three_falls_are_summed_up() -> None:
    rates = np.concatenate([np.full(200, 2e9 * 0.7**n) for n in range(7)])
    said = fall_notes(seen(rates * np.exp(np.random.default_rng(1).normal(0, 0.01, len(rates)))))
    assert len(said) == 4 and said[-1].startswith("3 more falls, the last after")


def test_long_writes_made_twice_tell_whether_their_cliffs_agree() -> None:
    one, two = written("drift", "70GB", 1), written("drift", "70GB", 2)
    agreed = cliff_agreement([one, two])
    assert agreed is not None and agreed.agree and agreed.place_bytes is not None
    assert "they agree" in cliff_agreement_note(agreed)
    other = written("drift", "70GB", 3, cache_size=15 * 10**9)
    apart = cliff_agreement([one, other])
    assert apart is not None and not apart.agree
    assert "do not agree" in cliff_agreement_note(apart) and cliff_agreement([one]) is None


def test_a_series_with_cuts_at_one_place_warns_nobody(recwarn: pytest.WarningsRecorder) -> None:
    """Where the fine beginning and the coarse rest of a long series find the same cut."""
    rng = np.random.default_rng(3)
    for at in range(1780, 2060, 20):
        rates = 1e9 * np.exp(rng.normal(0, 0.01, 5000))
        rates[at:] *= 0.3
        rates[at + 12 :] *= 1.8
        seen(rates)
    assert not [w for w in recwarn if issubclass(w.category, RuntimeWarning)]


# Passes


def test_passes_that_drift_are_told_and_settle_nothing() -> None:
    drifting = [1e9 * 0.98**n for n in range(9)]
    found = trend(drifting)
    assert found is not None and found.per_pass == pytest.approx(-0.02, abs=1e-3)
    assert trend([1.0, 1.1, 0.9, 1.05, 0.95]) is None
    claim = Claim(True, 100, 400e6, "bytes/s")
    verdict = judge_claims([claim], [made(drifting)])[0]
    assert verdict.verdict is Verdict.UNTESTED and "2.0 % slower" in verdict.why


def test_the_best_of_ten_steps_pays_for_the_choice() -> None:
    claim = Claim(True, 100, 1000e6, "bytes/s", block_bytes=4096)
    rates = [985e6, 1000e6, 1015e6, 990e6, 1010e6]
    of_depth = [made(rates, f"random read 4KiB depth {n}") for n in range(1, 11)]
    margin = 0.02
    one, ten = (judge_claims([claim], rs, margin)[0] for rs in (of_depth[:1], of_depth))
    assert one.verdict is Verdict.MET and ten.choice == 10
    assert ten.verdict is Verdict.CLOSE, "its interval is wider"
    assert one.measured == ten.measured, "one figure has one interval"


def test_no_percentile_of_too_few_ios() -> None:
    def of(count: int) -> dict[str, float | None]:
        counts = np.zeros(histogram.COUNT, np.int64)
        counts[100] = count
        return summary_ns(Latencies(counts, 1, 2, 2 * count))

    assert of(250)["p99_9"] is None and of(250)["p95"] is not None and of(250)["p99"] is None
    assert of(10_000)["p99_9"] is not None and of(19)["p50"] is None


def test_digits_follow_the_width_of_the_interval() -> None:
    found = interval([1.0116, 1.0120, 1.0110, 1.0118])
    assert figure_words(found).startswith("1.01") and "(1.01 to 1.01)" not in figure_words(found)
    assert digits_for(0.95, 1.05) == 3 and digits_for(189.9, 190.3) == 4


# Who is to blame


def test_another_firmware_is_no_fault_of_the_rig() -> None:
    def on(rig: str, firmware: str, rate: float, started: str) -> object:
        one = made([rate, 1.01 * rate, 0.99 * rate])
        conditions = replace(one.conditions, rig=rig, firmware=firmware)
        return replace(one, conditions=conditions, run=started, started=started)

    before, after = on("bench", "2.1", 1e9, "2026-11-01"), on("desk", "9.9", 4e8, "2026-11-20")
    (choice,) = choose([before, after])  # type: ignore[list-item]
    assert choice.result is after and choice.unused[0].drawbacks == (Drawback.FIRMWARE,)
    (change,) = firmware_changes([after], [before, after])  # type: ignore[list-item]
    assert (change.before, change.now, change.until) == ("2.1", "9.9", "2026-11-01")
    same = on("desk", "2.1", 4e8, "2026-11-20")
    slow = weigh([before, same]).passed_over().slowed()  # type: ignore[list-item]
    assert [s.better_rig for s in slow] == ["bench"]
    said = " ".join(conditions_words([before, after]))  # type: ignore[list-item]
    assert "not all on one rig" in said and "firmware 2.1 and 9.9 together" in said


def test_a_claim_is_decided_on_the_rig_where_the_sample_did_most() -> None:
    """The deep result of the good rig counts, though a shallow one is the best of the newest."""

    def on(rig: str, depth: int, rate: float) -> object:
        one = made([rate, 1.001 * rate, 0.999 * rate], f"random read 4KiB depth {depth}")
        conditions = replace(one.conditions, rig=rig)
        return replace(one, conditions=conditions, run=f"{rig}{depth}", started=rig)

    claim = Claim(True, 100, 1000e6, "bytes/s", block_bytes=4096)
    shallow, deep, poor = on("a", 1, 4e8), on("a", 32, 1e9), on("b", 32, 3e8)
    assert judge_claims([claim], [shallow, poor])[0].verdict is Verdict.SHORT  # type: ignore[list-item]
    every = weigh([shallow, deep, poor])  # type: ignore[list-item]
    over = every.passed_over().newer
    (found,) = judge_claims([claim], every.results, passed_over=over)
    assert found.verdict is Verdict.MET and "on rig 'a'" in found.why


def test_what_heat_or_a_full_cache_explains_makes_no_sample_suspect() -> None:
    good = made([4e9, 4.01e9, 4.02e9], sample="sample 1")
    slow = made([1e9, 1.01e9, 1.02e9], sample="sample 2")
    (found,) = suspects(side_by_side([good, slow]))
    assert found.sample == "sample 2" and found.kinds == (slow.kind,)
    hot = replace(slow, limits=(Limit(LimitSource.HEAT, 1e9, "at 70 °C"),))
    full = replace(slow, findings=Findings(write_cache_full=True))
    assert suspects(side_by_side([good, hot])) == suspects(side_by_side([good, full])) == []


def test_a_claim_that_every_sample_misses_is_no_samples_fault() -> None:
    other = "sequential read 1MiB"
    results = [
        made([4e9, 4.01e9, 4.02e9], sample="sample 1"),
        made([1e9, 1.01e9, 1.02e9], sample="sample 2"),
        made([5e8, 5.1e8, 5.2e8], other, sample="sample 1"),
        made([5e8, 5.1e8, 5.2e8], other, sample="sample 2"),
    ]
    (found,) = suspects(side_by_side(results), [("sample 1", other), ("sample 2", other)])
    assert not any("short of its claim" in e for e in found.evidence) and other not in found.kinds


def test_a_noisy_machine_is_one_line_for_the_run_and_a_mark_in_a_ranking() -> None:
    def disturbed(worst: float) -> Findings:
        amounts = (DisturbanceAmount(Disturbance.OTHER_PROGRAMS, worst, 2),)
        return Findings(disturbances=(Disturbance.OTHER_PROGRAMS,), disturbed=amounts)

    results = [made([1e9] * 3, findings=disturbed(0.6 + n / 100)) for n in range(5)]
    (line,) = disturbance_lines(results)
    assert "up to 64 %" in line and "repeat when it is" in line
    assert len(disturbance_lines(results, each=True)) == 5
    assert read_findings(json.loads(json.dumps(plain(results[0].findings)))) == (
        results[0].findings
    )
    assert any("badly disturbed" in w for w in conditions_words(results))


# Lost data


def test_a_drive_that_holds_less_than_it_says_is_told_with_what_it_holds() -> None:
    found = lost_data(StampFaults(24_413_952, 8_788_952, 0, 0, (0,)))
    assert found is not None and found.holds_bytes == pytest.approx(64e9, rel=0.001)
    assert lost_words(found, 2 * 10**12).startswith("holds about 64.0 GB, not 2.00 TB")
    few = lost_data(StampFaults(10_000, 2, 0, 1, (4096,)))
    assert few is not None and few.holds_bytes is None and "12.3 kB" in lost_words(few, None)
    assert lost_data(StampFaults(10_000, 0, 0, 0, ())) is None
    new = made([1e9] * 3, findings=Findings(lost=found), drive="new")
    told = compare("old", "new", [made([5e8] * 3, drive="old")], [new])
    assert "worth it for no use" in told.conclusion


@pytest.mark.parametrize("on_error", ["stop", "continue"])
def test_lost_data_leads_every_answer_and_nothing_praises_the_drive(
    jovik: Program, on_error: str
) -> None:
    """Also of a run that the first wrong block ended, which is what a drive like this gets."""
    words = ["sequential write 1MiB depth 8 over 100GB verify", "--on-error", on_error, "--yes"]
    told = jovik("measure", "model:hollow", *words, status=4).out
    name, holds = "Oberon Hollow 2TB", "holds about 64.0 GB"
    assert f"{holds}, not 2.00 TB" in told.splitlines()[0]
    assert f"{holds}, not 2.00 TB" in jovik("judge", name, status=1).out.splitlines()[0]
    jovik("measure", "model:slate", "random read 4KiB for 1s")
    ranking_report = jovik("rank").out
    assert ranking_report.startswith(f"{name} {holds}")
    assert holds in jovik("fit", name).out.splitlines()[0]
    jovik("report", name, "--out", "page.md")
    page = (jovik.folder / "page.md").read_text()
    assert page.index(holds) < page.index("claim") and "Best for" not in page


def test_a_drive_that_disappeared_says_so_first(jovik: Program) -> None:
    """No model drive disappears: the shelf of one is told that it did."""
    jovik("measure", "model:slate", "sequential write 1MiB over 2GB", "--passes", "2")
    gone = json.dumps({"disconnected": {"after_s": 1.25, "confirmed_bytes": 4096}})
    with sqlite3.connect(jovik.shelf) as shelf:
        shelf.execute("update step set facts = ?", (gone,))
    said = "disappeared 1.25 s into the pass: the last write that it confirmed ended at byte 4,096"
    assert said in jovik("runs", "show", "last").out.replace("\n", " ")
    step = jovik("runs", "show", "last", "--format", "json").json["steps"][0]
    assert step["facts"]["disconnected"] == {"after_s": 1.25, "confirmed_bytes": 4096}
    jovik("report", "Corvane Slate 1TB", "--out", "page.md")
    assert f"Avoid: in a test, it {said}." in (jovik.folder / "page.md").read_text()
    assert jovik("shelf", "check").out.startswith("whole")


# What goes with a run


def test_a_step_after_much_writing_says_that_the_cache_was_probably_full(jovik: Program) -> None:
    steps = ["sequential write 1MiB depth 8 over 60GB", "random write 4KiB for 1s"]
    words = ["measure", "model:drift", *steps, "--format", "json", "--no-rest"]
    found = jovik(*words).json["steps"]
    assert found[1]["facts"]["write_cache_full"] is True
    assert any("and a write of this drive fell after" in n for n in found[1]["notes"])
    rested = [steps[0], "rest until recovered", steps[1]]
    again = jovik("measure", "model:drift", *rested, "--format", "json").json["steps"]
    assert "write_cache_full" not in again[2]["facts"]


def test_empty_against_full_compares_the_caches(jovik: Program) -> None:
    told = jovik(
        "measure",
        "model:drift",
        "sequential write 1MiB depth 8 over 60GB",
        "empty",
        "fill to 90%",
        "rest until recovered",
        "sequential write 1MiB depth 8 over 90% of free",
    ).out
    # The model's cache does not depend on how full it is, and each write finds it empty.
    assert "Write cache, empty against full" in told
    assert "the cache ends at the same place" in told


def test_the_share_of_sequential_is_of_the_runs_own_step_or_the_shelfs(jovik: Program) -> None:
    jovik.env["COLUMNS"] = "120"
    copy = "copy in 1 file of 8GB"
    alone = jovik("measure", "model:slate", copy, "--format", "json").json["steps"][0]
    assert alone["facts"]["copy"]["of_sequential"] is None
    jovik("measure", "model:slate", "sequential write 1MiB depth 8 for 1s")
    then = jovik("measure", "model:slate", copy, "--format", "json").json["steps"][0]["facts"]
    assert then["copy"]["sequential"] == "sequential write 1MiB depth 8 for 1s"
    assert (
        "sequential: sequential write, 1 MiB, depth 8" in jovik("measure", "model:slate", copy).out
    )


def test_a_pace_that_was_asked_for_is_no_slowness(jovik: Program) -> None:
    paced = "sequential write 1MiB depth 8 at most 100MB/s over 30GB"
    jovik("measure", "model:slate", "sequential write 1MiB depth 8 for 1s", paced, "--passes", "3")
    assert "inconsistent" not in jovik("judge", "Corvane Slate 1TB", status=None).out


def test_steps_in_rounds_take_turns_and_what_cannot_repeat_is_refused(jovik: Program) -> None:
    plan = jovik.folder / "turns.toml"
    plan.write_text(
        "steps = [{ rounds = 3, steps = "
        '["random read 4KiB for 1s", "sequential read 1MiB for 1s"] }]'
    )
    told = jovik("measure", "model:slate", "--plan", "turns.toml", "--format", "json").json
    assert [s["passes"] for s in told["steps"]] == [3, 3]
    with sqlite3.connect(jovik.shelf) as c:
        order = c.execute(
            "select position, number from pass join step on step.id = step_id order by pass.id"
        ).fetchall()
    assert order == [(0, 1), (1, 1), (0, 2), (1, 2), (0, 3), (1, 3)]
    for bad in ("rest 5s", "sequential write 1MiB over 10GB", "fill to 50%"):
        plan.write_text(f'steps = [{{ rounds = 3, steps = ["{bad}"] }}]')
        assert (
            "cannot be repeated round by round"
            in jovik("plan", "check", "turns.toml", status=2).err
        )


def test_readings_taken_again_are_a_median_with_an_interval(jovik: Program) -> None:
    jovik("measure", "model:slate", "random read 4KiB for 1s")
    name = "Corvane Slate 1TB"
    for value in ("8.1s", "8.3s", "7.9s"):
        jovik("note", name, "--reading", f"boot time={value}", "--method", "stopwatch")
    found = jovik("note", name, "--format", "json").json["readings"]
    assert len(found) == 3 and {r["count"] for r in found} == {3}
    assert found[0]["median"] == pytest.approx(8.1) and found[0]["low"] < 8.1 < found[0]["high"]
    jovik.env["COLUMNS"] = "120"
    shown = jovik("note", name).out
    assert "8.10 s" in shown and shown.count("boot time") == 1


def test_a_scan_has_an_interval_and_is_ranked_across_sizes(jovik: Program) -> None:
    for model in ("gannet", "slate"):
        found = jovik("measure", f"model:{model}", "scan read in 100 zones", "--format", "json")
        surface = found.json["steps"][0]["facts"]["surface"]
        assert surface["mean_low_bytes_s"] < surface["mean_bytes_s"] < surface["mean_high_bytes_s"]
        assert surface["access_low_ns"] <= surface["access_ns"] <= surface["access_high_ns"]
    drives = jovik("rank", "--format", "json").json
    assert not drives["left_out"] and [d["place"] for d in drives["drives"]] == ["1", "2"]


def test_until_stopped_is_announced_as_what_it_is(jovik: Program, tmp_path: Path) -> None:
    jovik("sheet", "new", "Mine")
    told = jovik(
        "measure",
        tmp_path,
        "--drive",
        "Mine",
        "random write 4KiB within 16MiB until stopped",
        "--dry-run",
        status=None,
    )
    assert "until you stop it" in told.err


def test_an_upgrade_says_what_it_does_not_know_and_reckons_no_absurd_price() -> None:
    def drive(name: str, rate: float) -> list[object]:
        rates = [rate, 1.001 * rate, 0.999 * rate]
        return [made(rates, "sequential write 1MiB depth 8", name), made(rates, drive=name)]

    much = compare("old", "new", drive("old", 5e8), drive("new", 2e9))  # type: ignore[arg-type]
    assert "as far as the write cache reaches" in much.conclusion
    little = compare("old", "new", drive("old", 5e8), drive("new", 5.02e8), new_price=90.0)  # type: ignore[arg-type]
    assert little.price_for_halving is None


def test_the_index_is_of_the_same_steps_however_it_is_asked(jovik: Program) -> None:
    for model in ("slate", "comet"):
        jovik(
            "measure",
            f"model:{model}",
            "random read 4KiB for 1s",
            "random read 4KiB depth 1..8 for 1s",
            "--passes",
            "3",
        )
    plain = jovik("rank", "--format", "json").json
    by = jovik("rank", "--by", "random read 4KiB depth 4", "--format", "json").json
    assert plain["counted"] == by["counted"] and len(by["counted"]) == 4
    one = {d["drive"]: d["index"]["median"] for d in plain["drives"]}
    assert one.keys() == {d["drive"] for d in by["drives"]}


def test_runs_that_differ_make_a_ranking_less_sure() -> None:
    results = [
        replace(made([1e9, 1.001e9, 0.999e9, 1e9, 1e9], drive=d), run=d) for d in ("a", "b", "c")
    ]
    results[1] = replace(made([1.008e9, 1.009e9, 1.007e9, 1.008e9, 1.008e9], drive="b"), run="b")
    ranking = rank_drives(results)
    assert {str(d.place) for d in ranking.drives} == {"1-3"}
    assert ranking.drives[0].level == ("a", "c")
