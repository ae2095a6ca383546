"""Steady state: purge, precondition, rounds until steady; on model drives whose figure is known."""

from __future__ import annotations

import json
import random
import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.analysis.claims import Verdict, judge_claims
from jovik.analysis.comparability import settled
from jovik.analysis.demand import demand_points, enough_of
from jovik.analysis.recovery import recoveries
from jovik.analysis.steady_grid import grids
from jovik.analysis.steady_state import excursion, is_steady, slope
from jovik.analysis.step_result import Conditions, PassFigures, StepResult
from jovik.base.errors import PhraseError, TargetError
from jovik.base.findings import Findings, SteadyState
from jovik.base.io_session import Workload
from jovik.base.plain_data import plain
from jovik.base.trace import Trace
from jovik.hardware.ata import parse_security
from jovik.hardware.purge import FORMAT, IDENTIFY, SANITIZE, purge_device, purge_nvme
from jovik.queries.steady_state import minutes_of
from jovik.sheets.sheet import parse_claim
from jovik.shelf.run_records import read_findings
from jovik.simulator import load_model
from jovik.simulator.garbage_collection import greedy_amplification, lambert_w
from jovik.steps import load_plan, parse, plan_names
from jovik.tables.steady_answers import steady_answers
from jovik.tables.steady_state import steady_tables
from tests.conftest import Program
from tests.test_analysis_verdicts import made

WRITE = "random write 4KiB depth 32 until steady within 90% of free"
USED = ["purge", "precondition 2 times at random within 90% of free"]
PLANS = [
    "steady-iops",
    "steady-throughput",
    "steady-latency",
    "saturation",
    "idle-recovery",
    "cross-recovery",
    "demand",
]


def test_the_test_of_the_specification() -> None:
    assert is_steady([100, 101, 99, 100, 100])
    assert not is_steady([100, 121, 100, 100, 100]), "an excursion over 20 %"
    assert not is_steady([94, 97, 100, 103, 106.5]), "a slope over 10 %"
    assert is_steady([95.2, 97.6, 100, 102.4, 104.8])
    assert excursion([90, 100, 110]) == pytest.approx(0.2)
    assert slope([90, 100, 110]) == pytest.approx(0.2)
    assert not is_steady([0.0, 0.0, 0.0])


@pytest.mark.parametrize(
    "phrase",
    [
        "random write 4KiB until steady",
        "random write 4KiB until steady latency for at most 30min rounds of 30s",
        "random write 4KiB depth 32 for 24h over 4 spans within 80% of free",
        "random write 4KiB depth 32 for 5s after a pause of 10s",
        "precondition 2 times at random within 90% of free",
        "precondition 1 time",
        "purge",
    ],
)
def test_phrases_are_spelled_as_they_are_read(phrase: str) -> None:
    step = parse(phrase)
    assert step.canonical == phrase and parse(step.canonical) == step
    assert parse("precondition 2 times in order") == parse("precondition 2 times")
    one, two = parse("random write 4KiB until steady"), parse("random write 4KiB")
    assert one.kind != two.kind, "a steady figure is never compared with a fresh one"
    assert parse("random write 4KiB until steady for at most 30min rounds of 30s").kind == one.kind


@pytest.mark.parametrize(
    ("phrase", "why"),
    [
        ("random write 4KiB until steady for 5s", "either 'until steady' or another end"),
        ("random write 4KiB until steady over 4GB", "either 'until steady' or another end"),
        ("random write 4KiB rounds of 5s", "'until steady'"),
        ("precondition 0 times", "a number of times from 1 to 20"),
        ("precondition 2 times sideways", "'in order' or 'at random'"),
        ("purge now", "nothing more"),
    ],
)
def test_phrases_that_cannot_be(phrase: str, why: str) -> None:
    with pytest.raises(PhraseError) as refused:
        parse(phrase)
    assert why in refused.value.hint


# Garbage collection


@given(st.floats(-0.3678, -1e-6))
def test_lamberts_function(x: float) -> None:
    import math

    w = lambert_w(x)
    assert w >= -1 and w * math.exp(w) == pytest.approx(x, abs=1e-9)


def cleaned_page_by_page(spare: float, pages: int, blocks: int, seed: int) -> float:
    """The write amplification of a drive that cleans the block with the fewest valid pages."""
    rng = random.Random(seed)
    whole = blocks * pages
    count = int(whole / spare)
    place, owner = [-1] * count, [-1] * whole
    valid, closed = [0] * blocks, [False] * blocks
    sets: list[set[int]] = [set() for _ in range(pages + 1)]
    free = list(range(blocks))
    current, at, written = free.pop(), 0, 0

    def write(page: int) -> None:
        nonlocal current, at, written
        old = place[page]
        if old >= 0:
            block = old // pages
            owner[old] = -1
            if closed[block]:
                sets[valid[block]].discard(block)
                sets[valid[block] - 1].add(block)
            valid[block] -= 1
        if at == pages:
            closed[current] = True
            sets[valid[current]].add(current)
            current, at = free.pop(), 0
        here = current * pages + at
        owner[here], place[page] = page, here
        valid[current] += 1
        at, written = at + 1, written + 1

    def clean() -> None:
        while len(free) < 2:
            block = next(s for s in sets if s).pop()
            closed[block] = False
            live = [p for p in owner[block * pages : (block + 1) * pages] if p >= 0]
            owner[block * pages : (block + 1) * pages] = [-1] * pages
            valid[block] = 0
            for page in live:
                place[page] = -1
            free.append(block)
            for page in live:
                write(page)

    for page in range(count):
        clean()
        write(page)
    for _ in range(2 * count):
        clean()
        write(rng.randrange(count))
    begun = written
    for _ in range(2 * count):
        clean()
        write(rng.randrange(count))
    return (written - begun) / (2 * count)


@pytest.mark.parametrize("spare", [1.10, 1.28])
def test_the_textbook_formula_is_what_cleaning_page_by_page_comes_to(spare: float) -> None:
    """Two blocks of the simulated drive are always free, so that so much less is spare."""
    pages, blocks = 32, 256
    found = cleaned_page_by_page(spare, pages, blocks, 1)
    known = greedy_amplification(spare * (blocks - 2) / blocks, 1.0, pages)
    assert found == pytest.approx(known, rel=0.03)


def test_what_is_not_in_use_takes_no_more_flash_than_it_is_long() -> None:
    assert greedy_amplification(1.0, 0.0, 256) == 1.0 == greedy_amplification(1.0, 1.0, 256)
    steps = [greedy_amplification(s, 1.0, 256) for s in (1.05, 1.1, 1.2, 1.5, 2.0)]
    assert steps == sorted(steps, reverse=True) and steps[-1] > 1


# Truth


def known_iops(name: str, read_percent: int = 0) -> float:
    behaviour = load_model(name).behaviour
    span = round(behaviour.capacity * 0.99) * 90 // 100
    work = Workload(True, read_percent, 4096, 32, span, 1)
    return behaviour.steady_iops(work, span)


@pytest.mark.parametrize("name", ["basalt", "tundra", "quarry"])
def test_the_steady_figure_is_the_known_one(jovik: Program, name: str) -> None:
    found = jovik("measure", f"model:{name}", *USED, WRITE, "--seed", "3", "--format", "json").json
    step = found["steps"][-1]
    assert (
        step["facts"]["steady"]["steady"]
        and step["facts"]["steady"]["count"] == 5 == step["passes"]
    )
    iops = step["iops"]
    assert iops["median"] == pytest.approx(known_iops(name), rel=0.02)
    assert iops["low"] < iops["median"] < iops["high"]


def test_a_fresh_drive_shows_another_figure(jovik: Program) -> None:
    fresh = "random write 4KiB depth 32 for 5s within 90% of free"
    jovik("measure", "model:tundra", "purge", fresh, "--seed", "1")
    was = jovik("runs", "show", "last", "--format", "json").json["steps"][-1]["iops"]["median"]
    assert was > 1.8 * known_iops("tundra")
    jovik("measure", "model:tundra", *USED, WRITE, "--seed", "1")
    # The two are never one figure: a ranking is of the one or of the other.
    for words, phrase in ((["rank"], parse(fresh).kind), (["rank", "--steady"], parse(WRITE).kind)):
        ranking_report = jovik(*words, "--format", "json").json
        assert [s["kind"] for d in ranking_report["drives"] for s in d["steps"]] == [phrase]
    assert "steady state" in jovik("rank", "--steady").out


def restless(folder: Path) -> Path:
    """A drive that tidies up for a third of every few minutes."""
    text = (Path(__file__).parents[1] / "src/jovik/simulator/catalogue/tundra.toml").read_text()
    pauses = 'purge_time = "7s"\nhiccup_every = "150s"\nhiccup_time = "52s"'
    text = text.replace('purge_time = "7s"', pauses)
    path = folder / "restless.toml"
    path.write_text(text)
    return path


def test_a_drive_that_is_never_steady_is_called_so(jovik: Program) -> None:
    path = restless(jovik.folder)
    phrase = WRITE.replace("until steady", "until steady for at most 15min")
    claim = ["sheet", "claim", "Ilmaris Tundra 2TB", "random write 4KiB depth 32", "90,000 IOPS"]
    jovik("measure", f"model:{path.name}", *USED, phrase, "--seed", "2")
    found = jovik("runs", "show", "last", "--format", "json").json["steps"][-1]
    steady = found["facts"]["steady"]
    assert not steady["steady"] and steady["rounds"] == 15
    assert any("not steady after 15 rounds" in n for n in found["notes"])
    jovik(*claim, "--steady", "--printed", "data sheet")
    claims_report = jovik("judge", "Ilmaris Tundra 2TB", "--format", "json").json["claims"]
    mine = next(j for j in claims_report if j.get("steady"))
    assert mine["verdict"] == "untested" and "not steady" in mine["why"]


def test_a_steady_claim_is_judged_by_the_steady_state_and_by_nothing_else() -> None:
    claim = parse_claim("random write 4KiB depth 32", "100,000 IOPS", steady=True)
    plain = replace(claim, steady=False)
    fresh = made([410e6] * 5, "random write 4KiB depth 32")
    window = SteadyState("rate", 6, 2, 5, True, 0.02, 0.01, (WRITE,))
    steady = made([820e6] * 5, WRITE, findings=Findings(steady=window))
    assert judge_claims([claim], [fresh])[0].verdict is Verdict.UNTESTED
    assert judge_claims([plain], [steady])[0].verdict is Verdict.UNTESTED
    assert judge_claims([claim], [fresh, steady])[0].step is steady
    assert judge_claims([plain], [fresh, steady])[0].step is fresh
    unsure = replace(steady, findings=Findings(steady=replace(window, steady=False)))
    assert not settled(unsure) and not settled(replace(steady, findings=Findings()))
    assert judge_claims([claim], [unsure])[0].verdict is Verdict.UNTESTED


def test_findings_of_rounds_come_back_from_their_json() -> None:
    found = Findings(steady=SteadyState("latency", 9, 5, 5, True, 0.1, -0.02, ("purge",)))
    assert read_findings(json.loads(json.dumps(plain(found)))) == found


# Rounds


ROUNDS = """
title = "Three in turn"
steps = [
    "purge",
    { until = "steady", at_most = 12, track = ["random write 4KiB for 5s"], steps = [
        "random write 4KiB for 5s", "random read 4KiB for 5s",
    ] },
]
"""


def test_rounds_take_turns_until_the_tracked_step_is_steady(jovik: Program) -> None:
    (jovik.folder / "turns.toml").write_text(ROUNDS)
    found = jovik("measure", "model:basalt", "--plan", "turns.toml", "--format", "json").json
    write, read = found["steps"][1:]
    one, two = write["facts"]["steady"], read["facts"]["steady"]
    assert one["rounds"] == two["rounds"] >= 5
    assert one["tracked"] == two["tracked"] == [write["phrase"]]
    assert "until steady rounds of 5s" in read["phrase"]
    said = jovik("runs", "show", "last").out
    assert "* tracked" in said and "random write *" in said


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (("random read 4KiB for 5s", "purge"), "cannot be part of a round"),
        (('track = ["random write', 'track = ["random read'), ""),
        (("at_most = 12", "at_most = 0"), "at_most"),
        (('until = "steady"', 'until = "bored"'), "until"),
        (('track = ["random write 4KiB', 'track = ["random write 8KiB'), "not among the steps"),
        (
            ("random read 4KiB for 5s", "sequential write 1MiB over 4GB"),
            "cannot be part of a round",
        ),
        (('until = "steady"', "rounds = 3"), "go with 'until"),
        (('until = "steady"', 'rounds = 3, until = "steady"'), "either a number of 'rounds'"),
    ],
)
def test_rounds_that_cannot_be(jovik: Program, change: tuple[str, str], why: str) -> None:
    (jovik.folder / "turns.toml").write_text(ROUNDS.replace(*change, 1))
    answer = jovik("plan", "show", "turns.toml", status=None)
    if not why:
        assert answer.status == 0
        return
    assert answer.status == 2 and why in answer.err and "turns.toml" in answer.err


def test_a_run_that_was_killed_in_its_rounds_goes_on(jovik: Program) -> None:
    """What prepared the drive is done again, and no round of before is in the window."""
    import os
    import signal
    import subprocess
    import time

    plan = ROUNDS.replace("for 5s", "for 300ms within 8MB").replace("at_most = 12", "at_most = 24")
    (jovik.folder / "turns.toml").write_text(
        plan.replace('"purge",', '"precondition 1 time within 8MB",')
    )
    jovik("sheet", "new", "Own 1TB")
    words = ["measure", ".", "--drive", "Own 1TB", "--plan", "turns.toml", "--seed", "1"]
    with subprocess.Popen(
        jovik.command(*words), cwd=jovik.folder, env=jovik.env, start_new_session=True
    ) as running:
        end = time.monotonic() + 60
        while time.monotonic() < end:
            seen = jovik("runs", "list", "--format", "json", status=None)
            if seen.status == 0 and seen.json["runs"] and seen.json["runs"][0]["passes"] >= 5:
                break
            time.sleep(0.2)
        os.killpg(running.pid, signal.SIGKILL)
    before = jovik("runs", "list", "--format", "json").json["runs"][0]
    assert before["state"] == "running" and before["passes"] >= 5
    jovik("resume", timeout=200)
    found = jovik("runs", "show", "last", "--format", "json").json
    steady = found["steps"][-1]["facts"]["steady"]
    rounds_before = (before["passes"] - 1) // 2
    assert found["state"] == "done"
    assert steady["first"] > rounds_before or not steady["steady"]


# What it costs


def test_the_drives_own_counters_tell_the_write_amplification_of_each_phase(jovik: Program) -> None:
    in_order = "precondition 1 time within 90% of free"
    jovik("measure", "model:basalt", "purge", in_order, *USED[1:], WRITE, "--seed", "1")
    steps = jovik("runs", "show", "last", "--format", "json").json["steps"]
    worn = [s["facts"].get("wear") for s in steps]
    taken = [w["medium_bytes"] / w["host_bytes"] for w in worn if w and w["host_bytes"]]
    behaviour = load_model("basalt").behaviour
    known = behaviour.amplification(round(behaviour.capacity * 0.99) * 90 // 100)
    assert taken[0] == pytest.approx(1, rel=0.001)
    assert taken[0] < taken[1] < taken[2] == pytest.approx(known, rel=0.02)
    assert "Cost to the drive" in jovik("runs", "show", "last").out


def test_a_budget_shortens_the_range_and_never_the_rounds(jovik: Program) -> None:
    words = ["plan", "show", "steady-throughput", "--target", "model:tundra"]
    whole = jovik(*words, "--format", "json").json["cost"]
    short = jovik(*words, "--budget", "40min", "--format", "json").json["cost"]
    assert whole["least_time_ns"] > 40 * 60e9 >= short["least_time_ns"]
    assert "of the free space instead of 90 %" in short["trimmed"][0]
    assert "figures are higher" in short["trimmed"][0]
    refused = jovik(*words, "--budget", "10min", status=2)
    assert "5 rounds alone take" in refused.err
    done = jovik("measure", "model:tundra", "--plan", "steady-throughput", "--budget", "40min")
    assert done.out.count("steady") >= 4 and "1-5 of 5" in done.out


# Purge


class Controller:
    """An NVMe controller that answers as it is told; every command is kept."""

    def __init__(self, **says: int) -> None:
        self.says = {"oacs": 2, "fna": 0, "sanicap": 0, "flbas": 0, "namespaces": 1} | says
        self.refuses: tuple[int, ...] = ()
        self.commands: list[tuple[int, int, int]] = []

    def __call__(self, opcode: int, namespace: int, size: int, word10: int) -> bytes:
        self.commands.append((opcode, namespace, word10))
        if opcode in (FORMAT, SANITIZE):
            if word10 >> 9 & 7 in self.refuses and opcode == FORMAT:
                raise TargetError("the drive refused command 0x80 with status 0x2")
            return b""
        data = bytearray(size)
        if opcode == IDENTIFY and word10 == 1:
            data[256:258] = self.says["oacs"].to_bytes(2, "little")
            data[328:332] = self.says["sanicap"].to_bytes(4, "little")
            data[524] = self.says["fna"]
        elif opcode == IDENTIFY and word10 == 0:
            data[26] = self.says["flbas"]
        elif opcode == IDENTIFY:
            for n in range(self.says["namespaces"]):
                data[4 * n : 4 * n + 4] = (n + 1).to_bytes(4, "little")
        else:
            data[2:4] = (1).to_bytes(2, "little")
        return bytes(data)

    @property
    def erasing(self) -> list[tuple[int, int, int]]:
        return [c for c in self.commands if c[0] in (FORMAT, SANITIZE)]


def test_a_purge_keeps_the_format_and_reaches_one_namespace() -> None:
    drive = Controller(flbas=0x13)
    done = purge_nvme(drive, 1, [])
    assert done is not None and done.method == "Format NVM, user data erase"
    assert drive.erasing == [(FORMAT, 1, 0x13 | 1 << 9)]


def test_a_purge_by_throwing_the_key_away_where_nothing_else_is_taken() -> None:
    drive = Controller(fna=4)
    drive.refuses = (1,)
    done = purge_nvme(drive, 1, [])
    assert done is not None and "cryptographic erase" in done.method and "refused" in done.answer


def test_a_purge_that_would_reach_other_namespaces_is_not_made() -> None:
    reasons: list[str] = []
    drive = Controller(fna=3, sanicap=2, namespaces=2)
    assert purge_nvme(drive, 1, reasons) is None and not drive.erasing
    assert len(reasons) == 2 and all("other namespaces" in r for r in reasons)
    alone = Controller(fna=0, namespaces=2)
    assert purge_nvme(alone, 2, []) is not None, "its format reaches one namespace only"


def test_a_drive_that_takes_no_format_is_sanitized() -> None:
    drive = Controller(oacs=0, sanicap=3)
    done = purge_nvme(drive, 1, [])
    assert done is not None and done.method == "Sanitize, block erase"
    assert drive.erasing == [(SANITIZE, 0, 2)]


@pytest.mark.parametrize(
    ("status", "said"),
    [
        (0b0000, ""),
        (0b0001, "not frozen"),
        (0b1001, "frozen until it is powered anew"),
        (0b0111, "locked by a password"),
        (0b1011, "with a password set"),
    ],
)
def test_whether_an_ata_drive_is_frozen_is_told(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, status: int, said: str
) -> None:
    identity = bytearray(512)
    identity[256] = status
    assert parse_security(bytes(identity)) == said
    monkeypatch.setattr("jovik.hardware.purge.security_state", lambda _: said)
    with (tmp_path / "file").open("w+b") as opened:
        done = purge_device(opened.fileno(), 2**20, lambda: "")
    assert (f"ATA Security Erase ({said})" in done.answer) == bool(said)


# Plans


ANSWERS = {
    "steady-throughput": r"sequential write, 1 MiB, depth 32: [\d,]+ \([\d,]+ to [\d,]+\) MB/s",
    "steady-latency": r"random read, 4 KiB: [\d.]+ µs \([\d.]+ µs to [\d.]+ µs\)",
    "saturation": r"random write, 4 KiB, depth 32: [\d,]+ .* IOPS new, [\d,]+ .* used "
    r"\([\d.]+ %\), from [\d.]+ TB written on",
    "idle-recovery": r"random write, 4 KiB, depth 32: a pause of up to 100 s restores nothing",
    "cross-recovery": r"sequential write, 1 MiB, depth 32, after random write, 8 KiB, depth 32: "
    r"[\d.]+ % \([\d.]+ to [\d.]+ %\) of its former value",
}
"""What a plan was made to find is the first that a run of it says."""


@pytest.mark.parametrize("name", PLANS)
def test_plans_of_the_steady_state_run_on_a_model_drive(jovik: Program, name: str) -> None:
    assert name in plan_names()
    plan = load_plan(name)
    assert plan.about and all(line.why for line in plan.lines)
    if name in ("steady-iops", "demand"):
        return  # the screenshots' and the truth's
    done = jovik("measure", "model:basalt", "--plan", name, "--seed", "1")
    assert "purged by" in done.err + done.out
    assert re.match(ANSWERS[name], done.out.replace("\n", " ")), done.out[:300]
    if name == "cross-recovery":
        cost = done.out.split("Cost to the drive")[1]
        assert [n for n in "345" if re.search(rf"^ {n} ", cost, re.M)] == list("345"), (
            "the same load before and after another one is two phases"
        )


def of_loads(*loads: tuple[int, int, float]) -> list[StepResult]:
    """Steady steps of one run: workers, depth, and I/Os a second in every round."""
    found = []
    for workers, depth, iops in loads:
        phrase = f"random write 4KiB depth {depth} workers {workers} until steady"
        phrase = parse(phrase).canonical
        rates = [iops * (1 + 0.001 * (n % 3 - 1)) for n in range(5)]
        passes = tuple(PassFigures(x * 4096, x * 4096, x, 0, 1, 10**9, 0, 1) for x in rates)
        steady = SteadyState("iops", 5, 1, 5, True, 0.01, 0.0, (phrase,))
        found.append(
            StepResult(
                phrase,
                parse(phrase).kind,
                passes,
                {},
                Conditions("model", True, 2**30),
                findings=Findings(steady=steady),
            )
        )
    return found


def test_more_load_only_buys_waiting_from_the_first_that_is_nearly_the_most() -> None:
    loads = of_loads((1, 1, 10e3), (1, 4, 39e3), (1, 16, 96e3), (1, 64, 100e3), (2, 64, 99e3))
    points = demand_points(loads)
    assert [p.in_flight for p in points] == [1, 4, 16, 64, 128]
    assert enough_of(points).in_flight == 16
    (said,) = steady_answers(loads)
    assert said == (
        "random write, 4 KiB: 96,000 IOPS at 16 in flight; more load adds less than 5 %"
    )
    (rising,) = steady_answers(
        of_loads((1, 1, 10e3), (1, 2, 20e3), (1, 4, 39e3), (1, 8, 70e3), (1, 16, 96e3))
    )
    assert "not asked for" in rising


def test_a_figure_lies_within_its_interval_as_it_is_printed() -> None:
    (one,) = of_loads((1, 32, 173_620.0))
    (row,) = steady_tables([one])[-1].rows
    figure, (low, high) = row[2], row[3].split(" to ")
    assert (
        float(low.replace(",", ""))
        <= float(figure.replace(",", ""))
        <= float(high.replace(",", ""))
    )
    assert figure == "173,600"


def test_a_load_is_held_against_itself_before_another_one() -> None:
    large, small, again = of_loads((1, 32, 2000.0), (1, 1, 500.0), (1, 32, 1500.0))
    (found,) = recoveries([large, small, again])
    assert found.before is large and found.between is small
    assert found.ratio.median == pytest.approx(0.75, rel=0.001)
    assert recoveries([large, small]) == [] == recoveries([large, again])
    (same,) = steady_answers([large, small, large])
    assert "no measurable change" in same


def test_the_largest_plan_has_seven_mixes_of_eight_blocks() -> None:
    steps = [s for line in load_plan("steady-iops").lines for s in line.steps]
    assert len({s for s in steps if s.measures}) == 56


def test_a_surface_is_of_one_run() -> None:
    """A cell that was measured again after something else is no part of the surface before."""

    def cell(run: str, mix: int, block: str, iops: float) -> StepResult:
        (one,) = of_loads((1, 32, iops))
        order = {100: "read", 0: "write"}.get(mix, f"mixed {mix}% read")
        phrase = parse(f"random {order} {block} depth 32 until steady").canonical
        return replace(one, run=run, phrase=phrase, kind=parse(phrase).kind)

    whole = [cell("a", m, b, 1000.0) for m in (100, 65, 0) for b in ("4KiB", "8KiB")]
    (grid,) = grids([*whole, cell("b", 0, "8KiB", 2000.0)])
    assert {r.run for r in grid.cells.values()} == {"a"} and len(grid.cells) == 6


def test_what_is_left_of_a_minute_is_no_fall() -> None:
    """Two minutes and a last slice that ended halfway."""
    slices = np.zeros((1201, 5), np.int64)
    slices[:, 2], slices[:, 3] = 4096 * 100, 100
    slices[-1] //= 2
    trace = Trace("model", True, 1, 120_050_000_000, 0, 0, slices, {})
    at, iops = minutes_of(trace, 4096 * 100 * 1200)
    assert iops == (1000.0, 1000.0) and at == pytest.approx((0.25, 0.75))
