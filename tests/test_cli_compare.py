"""What changed between two selections, and over time."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

import numpy as np
import pytest

from jovik.analysis.comparison import Direction, compare_results, history
from jovik.analysis.step_result import Conditions, PassFigures, StepResult
from tests.conftest import Program

PEBBLE = "Tarnmoor Pebble 1TB"
STEPS = ("sequential read 1MiB depth 8 for 1s", "random read 4KiB for 1s")


@pytest.fixture
def firmwares(jovik: Program) -> Program:
    """One sample with two firmware versions, on a good port and on a hub."""
    for firmware, rig, link in (
        ("2.1", "rear port", "USB 10 Gb/s"),
        ("2.1", "hub", "USB 480 Mb/s"),
        ("9.9", "rear port", "USB 10 Gb/s"),
    ):
        target = f"model:pebble@link={link}@firmware={firmware}"
        jovik("measure", target, *STEPS, "--passes", "5", "--rig", rig)
    return jovik


def test_a_slow_cable_is_told_by_its_conditions_first(firmwares: Program) -> None:
    jovik = firmwares
    words = (f"{PEBBLE}@rig=rear port@firmware=2.1", f"{PEBBLE}@rig=hub")
    told = jovik("compare", *words).out.splitlines()
    assert told[0] == "differs: rig rear port to hub; link USB 10 Gb/s to USB 480 Mb/s"
    assert told[1] == "of 2 steps: 1 slower, 1 within noise"
    found = jovik("compare", *words, "--format", "json").json
    stream = next(s for s in found["steps"] if s["kind"].startswith("sequential"))
    assert stream["direction"] == "slower" and stream["times"]["high"] < 0.1
    rows = jovik("compare", *words, "--format", "csv").out.splitlines()
    assert len(rows) == 3 and rows[0].startswith("kind,before_bytes_s")
    only = jovik("compare", *words, "--step", "random read 4KiB", "--format", "json").json
    assert [s["kind"] for s in only["steps"]] == ["random read 4KiB"]


def test_a_firmware_change_is_told_and_ranked(firmwares: Program) -> None:
    jovik = firmwares
    told = jovik("compare", f"{PEBBLE}@firmware=2.1@rig=rear port", f"{PEBBLE}@firmware=9.9").out
    assert told.startswith("differs: firmware 2.1 to 9.9\n")
    assert "2 within noise" in told
    ranked = jovik("rank", "--sample", "sample 1", "--by", "firmware", "--format", "json").json
    assert {d["drive"] for d in ranked["drives"]} == {"2.1", "9.9"}
    assert (
        "firmware versions whose difference"
        in jovik("rank", "--sample", "sample 1", "--by", "firmware").out
    )
    runs = jovik("runs", "--format", "json").json["runs"]
    by_run = jovik("compare", runs[2]["run"][-6:], "last", "--format", "json").json
    assert by_run["before"]["runs"] == [runs[2]["run"]]


def test_what_cannot_be_compared_says_why(firmwares: Program) -> None:
    jovik = firmwares
    for words, said in (
        ((PEBBLE, "Pebbel"), "neither a drive nor a run"),
        ((PEBBLE, f"{PEBBLE}@rig=desk"), "there is: rig: hub, rear port; sample: sample 1"),
        ((PEBBLE, f"{PEBBLE}@colour=red"), "write @rig=..."),
        ((PEBBLE, f"{PEBBLE}@since=soon"), "is not a date"),
        ((PEBBLE, f"{PEBBLE}@since=2999-01-01"), "selects no result"),
        ((PEBBLE, PEBBLE), "it is the same result on both sides"),
        ((PEBBLE,), "two selections are compared"),
        ((PEBBLE, PEBBLE, "--step", "random write 4KiB"), "has no 'random write 4KiB'"),
        ((PEBBLE, "20"), "may be"),
    ):
        assert said in jovik("compare", *words, status=2).err, words
    jovik("measure", "model:slate", "random read 8KiB for 1s", "--passes", "2")
    assert "have no step that can be compared" in jovik("compare", PEBBLE, "last", status=2).err


def test_a_sample_over_time_is_a_table_and_a_picture(firmwares: Program) -> None:
    jovik = firmwares
    runs = jovik("runs", "--format", "json").json["runs"]
    with sqlite3.connect(jovik.shelf) as shelf:
        for day, run in zip((1, 9, 20), reversed(runs), strict=True):
            moment = f"2026-11-{day:02}T10:00:00.000Z"
            for table, key in (("run", "id"), ("step", "run_id")):
                shelf.execute(
                    f"UPDATE {table} SET started = ? WHERE {key} = ?", (moment, run["run"])
                )
    words = (f"{PEBBLE}@rig=rear port", "--every", "7d")
    told = jovik("compare", *words, "--out", "ageing.png").out
    assert "0 steps faster, 0 slower, 2 within noise" in told
    assert "firmware 9.9 since 2026-11-20" in told
    assert (jovik.folder / "ageing.png").read_bytes().startswith(b"\x89PNG")
    points = jovik("compare", *words, "--format", "json").json["points"]
    assert [p["started"][:10] for p in points] == ["2026-11-01", "2026-11-20"] * 2
    # Taken together over a year there is one point, and nothing to compare it with.
    assert "in two such stretches" in jovik("compare", PEBBLE, "--every", "365d", status=2).err
    assert "is not a time" in jovik("compare", PEBBLE, "--every", "soon", status=2).err


def made(kind: str, run: str, rates: Sequence[float]) -> StepResult:
    passes = tuple(PassFigures(r, r, r / 4096, 0, 0, 10**9, 0, 0) for r in rates)
    return StepResult(kind, kind, passes, {}, Conditions("io_uring", True, 2**30), "D", run)


def test_of_twenty_steps_that_are_the_same_none_is_called_faster() -> None:
    """The intervals hold for all steps at once: chance alone is called a change in under 5 %."""
    rng = np.random.default_rng(17)
    kinds = [f"random read 4KiB depth {n}" for n in range(1, 21)]
    wrong = 0
    for _ in range(150):
        sides = []
        for run in ("a", "b"):
            # What is common to a run is within the floor that is assumed.
            common = rng.normal(0, 0.01)
            sides.append([made(k, run, 1e8 * np.exp(rng.normal(common, 0.03, 5))) for k in kinds])
        found = compare_results(*sides)
        wrong += bool(found.of(Direction.FASTER) or found.of(Direction.SLOWER))
    assert wrong <= 14  # 95 % of binomial(150, 0.05) is at most 12


def test_a_sample_that_does_not_change_is_seldom_said_to() -> None:
    """The intervals of a history hold for all of its points at once."""
    rng = np.random.default_rng(5)
    kinds = [f"random read 4KiB depth {n}" for n in range(1, 7)]
    wrong = 0
    for _ in range(100):
        results = []
        for month in range(6):
            common = rng.normal(0, 0.01)
            for kind in kinds:
                rates = 1e8 * np.exp(rng.normal(common, 0.03, 5))
                results.append((month * 30.0, made(kind, f"run {month}", rates)))
        points = [p for p in history(results, 10.0) if p.result.run != "run 0"]
        assert len(points) == 30
        wrong += any(p.times.low > 1 or p.times.high < 1 for p in points)
    assert wrong <= 10  # 97 % of binomial(100, 0.05) is at most 9
