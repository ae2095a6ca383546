"""Requests to end a run that arrive at the worst moment."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import weakref
from collections.abc import Iterator
from pathlib import Path

import pytest

from jovik.base.interruption import (
    EndRequested,
    check,
    held_back,
    interruptible,
    take_notice,
)
from tests.conftest import Program

ENDING = [signal.SIGINT, signal.SIGTERM, signal.SIGHUP]


@pytest.fixture(autouse=True)
def _signals_are_heard() -> Iterator[None]:
    """Undo what a shell does to programs in its background, which others inherit."""
    before = {number: signal.getsignal(number) for number in ENDING}
    signal.signal(signal.SIGHUP, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    yield
    for number, handler in before.items():
        signal.signal(number, handler)


def ask(number: signal.Signals) -> None:
    os.kill(os.getpid(), number)


@pytest.mark.parametrize("number", ENDING)
def test_a_request_is_held_back_until_the_work_is_whole(number: signal.Signals) -> None:
    done = []
    with interruptible(), pytest.raises(KeyboardInterrupt):
        with held_back(), held_back():
            ask(number)
            done.append("whole")
        done.append("more")
    assert done == ["whole"]


@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
def test_a_request_that_python_swallowed_is_heard_at_the_next_check() -> None:
    class Thing:
        pass

    def swallowed(_: object) -> None:
        ask(signal.SIGTERM)

    with interruptible():
        thing = Thing()
        kept = weakref.ref(thing, swallowed)
        del thing
        assert kept() is None
        with pytest.raises(KeyboardInterrupt):
            check()
        take_notice()
        check()


ENDS = """
import os, signal, sys
from jovik.base.interruption import interruptible
try:
    with interruptible():
        exec("os.kill(os.getpid(), signal.SIGTERM)")
except KeyboardInterrupt:
    sys.exit(130)
"""


def test_a_request_that_arrives_in_generated_code_leaves_the_exit_status_alone(
    tmp_path: Path,
) -> None:
    (tmp_path / "ends.py").write_text(ENDS)
    done = subprocess.run([sys.executable, "-m", "ends"], cwd=tmp_path, check=False)
    assert done.returncode == 130


def test_later_requests_are_ignored_where_the_system_has_to_be_put_back() -> None:
    with interruptible(later="ignore"):
        with pytest.raises(EndRequested):
            ask(signal.SIGTERM)
        take_notice()
        for number in ENDING:
            ask(number)
        check()


def test_the_handlers_of_before_come_back() -> None:
    before = {number: signal.getsignal(number) for number in ENDING}
    with interruptible(later="exit"):
        assert signal.getsignal(signal.SIGTERM) != before[signal.SIGTERM]
    assert {number: signal.getsignal(number) for number in ENDING} == before


@pytest.mark.parametrize("number", ENDING)
@pytest.mark.parametrize("delay_s", [0.0, 0.1, 0.2, 0.3])
def test_a_run_whose_passes_are_short_ends_whenever_it_is_asked(
    jovik: Program, number: signal.Signals, delay_s: float
) -> None:
    """Most of the time goes into storing passes here, so that most requests arrive meanwhile."""
    jovik("sheet", "new", "Test")
    words = ["random read 4KiB depth 2 for 100ms within 8MB", "--passes", "1000", "--drive", "Test"]
    running = subprocess.Popen(
        jovik.command("measure", "model:comet", *words),
        cwd=jovik.folder,
        env=jovik.env | {"JOVIK_SHELF_PATIENCE_S": "5"},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    assert running.stderr is not None
    for line in running.stderr:
        if line.startswith("[1/1]"):
            break
    time.sleep(delay_s)
    running.send_signal(number)
    _, err = running.communicate(timeout=60)
    assert running.returncode == 130 and "jovik resume" in err, (running.returncode, err)
    assert "Exception ignored" not in err
    assert jovik("shelf", "check").out.startswith("whole")
