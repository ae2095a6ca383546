"""Runs that nobody watches: silence, events as JSON, and a command that is told the end."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

import pytest

from jovik.cli.run_clock import RunClock
from tests.conftest import Program

PHRASES = ("sequential read 1MiB depth 8 for 4s", "random read 4KiB for 2s")
SLATE = ("measure", "model:slate", *PHRASES, "--passes", "2", "--seed", "1")


def test_quiet_prints_the_answer_alone(jovik: Program) -> None:
    loud = jovik(*SLATE)
    quiet = jovik(*SLATE, "--quiet")
    assert quiet.err == "" and loud.err
    lines = quiet.out.splitlines()
    assert lines and "step" not in quiet.out
    # Runs of the same seed have the same answer, which the first lines of the other have.
    assert " ".join(" ".join(lines).split()) in " ".join(loud.out.split())
    run = jovik(*SLATE, "--quiet", "--format", "json").json
    assert len(run["steps"]) == 2, "who asks for JSON gets all of it"
    assert jovik("repeat", "--quiet").out == quiet.out


def test_every_event_is_a_line_of_json(jovik: Program) -> None:
    done = jovik(*SLATE, "--progress", "json", "--format", "json")
    events = [json.loads(line) for line in done.err.splitlines()]
    assert {e["event"] for e in events} >= {"message", "preparing", "pass", "finished"}
    steps = [e for e in events if "share" in e]
    shares, left = ([e[k] for e in steps] for k in ("share", "remaining_s"))
    assert shares == sorted(shares) and shares[-1] == 1
    assert left == sorted(left, reverse=True) and left[-1] == 0
    finished = {e["step"]: e["rate_bytes_s"] for e in events if e["event"] == "finished"}
    told = {s["phrase"]: s["rate_bytes_s"]["median"] for s in done.json["steps"]}
    assert finished == told
    assert [e["number"] for e in events if e["event"] == "pass"] == [1, 2, 1, 2]


def test_a_pass_in_progress_tells_its_rate_once_a_second(jovik: Program) -> None:
    """A real drive: what a model measures takes no time."""
    words = ("sequential read 1MiB depth 2 within 64MB for 3s", "--passes", "1")
    done = jovik("measure", ".", *words, "--progress", "json", "--format", "json")
    events = [json.loads(line) for line in done.err.splitlines()]
    progress = [e for e in events if e["event"] == "progress"]
    assert 2 <= len(progress) <= 4
    bytes_done = [e["done_bytes"] for e in progress]
    assert bytes_done == sorted(bytes_done) and bytes_done[0] > 0
    (step,) = done.json["steps"]
    assert bytes_done[-1] <= step["read_bytes"]
    assert all(e["errors"] == 0 and e["rate_bytes_s"] > 0 for e in progress)


@pytest.mark.parametrize(
    ("target", "phrase", "status", "state"),
    [
        ("model:slate", "random read 4KiB for 1s", 0, "done"),
        ("model:hollow", "sequential write 1MiB over 100GB verify", 4, "failed"),
    ],
)
def test_a_command_is_told_how_a_run_ended(
    jovik: Program, target: str, phrase: str, status: int, state: str
) -> None:
    verdict = told(jovik, "measure", target, phrase, "--seed", "1", status=status)
    assert (verdict["exit_status"], verdict["state"]) == (status, state)
    run = jovik("runs", "show", "last", "--format", "json").json
    assert verdict["run"] == run["run"] and verdict["drive"] == run["drive"]
    shown = " ".join(jovik("runs", "show", "last").out.split())
    assert verdict["answer"] and all(" ".join(x.split()) in shown for x in verdict["answer"])
    assert (verdict["failure"] is None) == (status == 0)


def told(jovik: Program, *words: str, status: int) -> Any:
    place = Path(jovik.folder / "verdict.json")
    jovik(*words, "--on-end", f"cat > '{place}'", status=status)
    return json.loads(place.read_text(encoding="utf-8"))


def test_a_command_at_the_end_that_fails_changes_nothing(jovik: Program) -> None:
    done = jovik(*SLATE, "--quiet", "--on-end", "exit 3")
    assert done.err == "the command at the end failed with status 3: exit 3\n" and done.out
    # Nothing ended where nothing began.
    jovik(*SLATE, "--dry-run", "--on-end", "touch ended")
    jovik("measure", "model:slate", "nonsense", "--on-end", "touch ended", status=3)
    assert not (jovik.folder / "ended").exists()
    wrong = jovik("measure", "model:slate", "model:drift", *PHRASES, "--quiet", status=2)
    assert "of one target" in wrong.err


def test_a_clock_of_a_run_never_goes_back() -> None:
    clock = RunClock([2 * 10**9, 6 * 10**9], 7 * 10**9)
    now = time.monotonic()
    assert clock.share(now) < 0.01 and 6.9 < clock.remaining_s(now) <= 7
    assert clock.share(now + 60) == pytest.approx(0.25)
    clock.finished(0)
    now = time.monotonic()
    assert clock.share(now) == pytest.approx(0.25, abs=0.01)
    clock.at(1)
    assert clock.share(time.monotonic() + 3) == pytest.approx(0.625, abs=0.01)
    clock.finished(1)
    now = time.monotonic()
    assert (clock.share(now), clock.remaining_s(now)) == (1, 0)
