"""A stopped run leaves no file behind and loses nothing that was finished."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import time
from pathlib import Path

import pytest

from tests.conftest import Program


def start(jovik: Program) -> subprocess.Popen[str]:
    jovik("sheet", "new", "Own Disk")
    words = jovik.command(
        "measure",
        ".",
        "--drive",
        "Own Disk",
        "random read 4KiB for 100ms within 16MB",
        "random write 4KiB for 60s within 16MB",
        "--passes",
        "1",
        "--format",
        "json",
    )
    return subprocess.Popen(
        words,
        cwd=jovik.folder,
        env=jovik.env,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def finished(shelf: Path) -> list[tuple[str, str]]:
    with sqlite3.connect(shelf) as connection:
        return connection.execute(
            "select phrase, state from pass join step on step.id = step_id join run on "
            "run.id = run_id"
        ).fetchall()


def wait_for_the_long_step(shelf: Path, running: subprocess.Popen[str]) -> None:
    for _ in range(600):
        assert running.poll() is None, running.communicate()
        if finished(shelf):
            with sqlite3.connect(shelf) as connection:
                if connection.execute("select count(*) from step").fetchone() == (2,):
                    time.sleep(0.3)
                    return
        time.sleep(0.1)
    raise AssertionError("the first pass never came to the shelf")


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
def test_what_was_finished_is_kept_and_nothing_is_left(jovik: Program, how: signal.Signals) -> None:
    running = start(jovik)
    wait_for_the_long_step(jovik.shelf, running)
    assert os.listdir(jovik.folder) == []
    running.send_signal(how)
    out, err = running.communicate(timeout=20)
    assert os.listdir(jovik.folder) == []
    state = "running" if how == signal.SIGKILL else "interrupted"
    assert finished(jovik.shelf) == [("random read 4KiB for 100ms within 16MB", state)]
    if how == signal.SIGKILL:
        assert running.returncode == -9
    else:
        assert running.returncode == 130 and "1 finished pass is on the shelf" in err
        assert '"state": "interrupted"' in out
    assert jovik("rank", "--format", "json").json["drives"][0]["drive"] == "Own Disk"
