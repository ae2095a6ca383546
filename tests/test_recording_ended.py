"""What ends a recording, and that the kernel's tracing is switched off whatever does."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import psutil
import pytest

from jovik.base.errors import TargetError
from jovik.hardware import block_trace, tracefs
from jovik.hardware.block_trace import YOUNG_S, left_on
from jovik.hardware.tracefs import trace_events
from tests.conftest import Program

MS = 1_000_000
WITH_SIGNALS = """
import os, signal, sys
for number in (signal.SIGINT, signal.SIGHUP, signal.SIGQUIT):
    signal.signal(number, signal.SIG_DFL)
os.execv(sys.argv[1], sys.argv[1:])
"""
"""Tests that were started in the background ignore signals, and so would what they start."""


def traced() -> bool:
    with contextlib.suppress(TargetError), trace_events():
        return os.geteuid() == 0
    return False


def instance_of(process: int) -> str:
    """The instance of the kernel's tracing that a process has open."""
    folder = Path(f"/proc/{process}/fd")
    leads_to = [os.readlink(fd) for fd in folder.iterdir() if fd.exists()]
    (found,) = {Path(x).name for x in leads_to if Path(x).parent.name == "instances"}
    return found


def instances() -> list[str]:
    """Jovik's instances of the kernel's tracing, by a look of our own."""
    with trace_events() as place:
        return sorted(p.name for p in (place / "instances").glob("jovik-*"))


@dataclass
class Running:
    """A recording of a command that never ends, and its instance of the kernel's tracing."""

    jovik: Program
    process: subprocess.Popen[str]
    instance: str

    def children(self) -> list[psutil.Process]:
        return psutil.Process(self.process.pid).children(recursive=True)


@pytest.fixture
def running(jovik: Program) -> Iterator[Running]:
    if not traced():
        pytest.skip("needs root and the kernel's trace events")
    began = jovik.folder / "began"
    code = f"import time; open({str(began)!r}, 'w').close(); time.sleep(600)"
    words = ["record", "--out", "a.jrec", "--format", "json", "--", sys.executable, "-c", code]
    process = subprocess.Popen(
        [sys.executable, "-c", WITH_SIGNALS, *jovik.command(*words)],
        cwd=jovik.folder,
        env=jovik.env,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    limit = time.monotonic() + 60
    while not began.exists() and process.poll() is None and time.monotonic() < limit:
        time.sleep(0.05)
    if process.poll() is not None:
        _, err = process.communicate()
        assert "no drive can be identified" in err, err
        pytest.skip("no block device lies under this folder")
    try:
        # Other tests may record at the same time: this one's is the folder that it has open.
        yield Running(jovik, process, instance_of(process.pid))
    finally:
        with contextlib.suppress(psutil.NoSuchProcess):
            for child in psutil.Process(process.pid).children(recursive=True):
                child.kill()
        process.kill()
        process.communicate()


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_signal_ends_a_recording_with_its_file(running: Running, number: int) -> None:
    jovik, process, command = running.jovik, running.process, running.children()
    assert command
    time.sleep(0.3)
    process.send_signal(number)
    process.send_signal(number)
    out, err = process.communicate(timeout=30)
    assert process.returncode == 130, err
    assert json.loads(out)["elapsed_ns"] > 250 * MS and (jovik.folder / "a.jrec").exists()
    assert not any(p.is_running() and p.status() != "zombie" for p in command)
    assert running.instance not in instances()


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGQUIT])
def test_what_a_killed_recording_left_on_is_reported_and_switched_off(
    running: Running, number: int
) -> None:
    jovik, process, left = running.jovik, running.process, running.instance
    with trace_events() as place:
        events = place / "instances" / left / "events" / "block" / "block_rq_issue" / "enable"
        assert events.read_text().strip() == "1", "the kernel traces for it"
    jovik("record", "--out", "other.jrec", "--", "true")
    assert left in instances(), "another start leaves a living recording alone"
    for child in running.children():
        child.kill()
    process.send_signal(number)
    process.wait(30)
    time.sleep(YOUNG_S)
    # A recording of another test, on the same kernel, may have removed it at any moment.
    told = jovik("scout").out
    assert "kernel tracing is still on" in told or left not in instances()
    jovik("record", "--out", "b.jrec", "--", "true")
    assert left not in instances()


def test_a_living_recording_is_told_from_a_dead_one_by_its_lock(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Folders that stand for instances: what tells them apart needs no kernel."""
    monkeypatch.setattr(tracefs, "TRACE_FOLDERS", (tmp_path,))
    (tmp_path / "events" / "block").mkdir(parents=True)
    for name in ("jovik-dead", "jovik-living", "somebody-elses"):
        (tmp_path / "instances" / name).mkdir(parents=True)
    assert left_on() == 0, "one that was made a moment ago may not be locked yet"
    monkeypatch.setattr(block_trace, "YOUNG_S", 0.0)
    held = os.open(tmp_path / "instances" / "jovik-living", os.O_RDONLY)
    fcntl.flock(held, fcntl.LOCK_EX)
    assert left_on() == 1
    os.close(held)
    assert left_on() == 2


CLOSED = """
import os, sys
from pathlib import Path
from jovik.hardware import block_trace, tracefs
tracefs.TRACE_FOLDERS = (Path(sys.argv[1]) / "tracing",)
os.seteuid(65534)
print(block_trace.left_on())
"""


@pytest.mark.skipif(os.geteuid() != 0, reason="needs root to become another user")
def test_who_may_not_look_at_the_kernels_tracing_is_told_of_none(tmp_path: Path) -> None:
    """Scout asks for it, and is not for root only."""
    closed = tmp_path / "closed"
    (closed / "tracing" / "events" / "block").mkdir(parents=True)
    closed.chmod(0o700)
    words = [sys.executable, "-c", CLOSED, str(closed)]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.stdout == "0\n", done.stderr
