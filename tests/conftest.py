"""What tests share: the real program on a shelf of its own."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

# The machines that tests run on are shared and noisy: how long an example takes says nothing about
# the code.
settings.register_profile("shared", deadline=None)
settings.load_profile("shared")

# Where this is set, every process that a test starts would compile the whole program again, which
# nobody waits for who has installed it.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
sys.dont_write_bytecode = False

LONGEST = (
    "test_engine_real_drives.py",
    "test_docs.py",
    "test_hardware_safety.py",
    "test_hostile_files.py",
    "test_report_browser.py",
    "test_analysis_truth.py",
    "test_analysis_twins.py",
    "test_shelf_hard_times.py",
    "test_foreign_input.py",
    "test_runs_environment.py",
    "test_engine.py",
    "test_shelf_server.py",
    "test_steady_state.py",
    "test_report.py",
    "test_cli_commands.py",
    "test_report_words.py",
)
"""Files whose tests take longest together, or wait for a device or a clock: they come first, since
a file belongs to one worker, and the last of them would have everybody wait."""


QUICK_FILES = {
    *("test_analysis_evidence.py", "test_base_errors.py", "test_base_quantities.py"),
    *("test_cli_compare.py", "test_drive_class.py", "test_hardware.py", "test_house.py"),
    *("test_sheets.py", "test_statements.py", "test_steps.py"),
}
"""Files for daily work (`make quick`): the core, the program on models, and the house rules."""
NEEDS = ("browser", "server")
"""Fixtures that need a program, and the marks of the tests that take them."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Longest first; the order within a file stays. Marks follow from fixtures and reasons."""
    places = {name: n for n, name in enumerate(LONGEST)}
    items.sort(key=lambda item: places.get(item.path.name, len(places)))
    for item in items:
        for name in NEEDS:
            if name in getattr(item, "fixturenames", ()):
                item.add_marker(name)
        if any("root" in m.kwargs.get("reason", "") for m in item.iter_markers("skipif")):
            item.add_marker("root")
        if item.path.name in QUICK_FILES:
            item.add_marker("quick")


QUICK = ["random read 4KiB depth 4 for 200ms within 8MB", "sequential write 64KiB depth 2 over 8MB"]
"""Steps that a test on a real folder can afford."""


@dataclass
class Answer:
    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


SYSTEM = "JOVIK_TESTS_HIDE"
"""Names another operating system in the environment; the program then runs as on that one."""
_servers: dict[str, subprocess.Popen[str]] = {}


def call(words: list[str], folder: Path, env: dict[str, str], timeout: float) -> Answer:
    """Run the program in a process forked from one that has it loaded (tests/zygote.py)."""
    system = env.get(SYSTEM, "")
    server = _servers.get(system)
    if server is None or server.poll() is not None:
        server = _servers[system] = subprocess.Popen(
            [sys.executable, "-m", "tests.zygote", system],
            cwd=Path(__file__).parents[1],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
    assert server.stdin is not None and server.stdout is not None
    with tempfile.TemporaryDirectory() as scratch:
        out, err = Path(scratch) / "out", Path(scratch) / "err"
        request = {
            "words": words,
            "folder": str(folder),
            "env": env,
            "out": str(out),
            "err": str(err),
            "timeout": timeout,
        }
        server.stdin.write(json.dumps(request) + "\n")
        server.stdin.flush()
        status = json.loads(server.stdout.readline())
        if status is None:
            raise subprocess.TimeoutExpired(["jovik", *words], timeout)
        answer = Answer(status, out.read_text(encoding="utf-8"), err.read_text(encoding="utf-8"))
    if answer.out.startswith('{\n  "schema": '):
        check_schema(answer.out)
    return answer


SCHEMAS = Path(__file__).parents[1] / "docs" / "schemas"


@cache
def schema_named(name: str) -> Any:
    import jsonschema

    found = json.loads((SCHEMAS / f"{name}.json").read_text(encoding="utf-8"))
    jsonschema.Draft202012Validator.check_schema(found)
    return jsonschema.Draft202012Validator(found)


def check_schema(text: str) -> None:
    """Every document that any test has the program print is as its schema says."""
    with suppress(json.JSONDecodeError):  # a reader may have gone away in the middle
        document = json.loads(text)
        wrong = next(schema_named(document["schema"].split()[1]).iter_errors(document), None)
        assert wrong is None, f"{document['schema']}: {wrong.json_path}: {wrong.message}"


@dataclass
class Program:
    """The built program in a folder and with a shelf of its own."""

    folder: Path
    env: dict[str, str]

    def __call__(self, *words: str | Path, status: int | None = 0, timeout: float = 120) -> Answer:
        answer = call(list(map(str, words)), self.folder, self.env, timeout)
        assert "Traceback" not in answer.err, answer.err
        if status is not None:
            assert answer.status == status, (answer.status, answer.out, answer.err)
        return answer

    def command(self, *words: str | Path) -> list[str]:
        return [sys.executable, "-m", "jovik", *map(str, words)]

    def on_shelf(self, name: str) -> Program:
        """The same folder on another shelf beside this one."""
        return Program(self.folder, self.env | {"JOVIK_SHELF": str(self.shelf.with_name(name))})

    @property
    def shelf(self) -> Path:
        return Path(self.env["JOVIK_SHELF"])


MEMORY = Path("/dev/shm") if os.access("/dev/shm", os.W_OK) else None
"""Where shelves lie in tests.

Each pass is synced to its medium, and the disks of shared machines make that wait for long.
"""


@pytest.fixture
def jovik(tmp_path: Path) -> Iterator[Program]:
    env = {k: v for k, v in os.environ.items() if k not in ("COLUMNS", "JOVIK_SHELF")}
    folder = tmp_path / "here"
    folder.mkdir()
    with tempfile.TemporaryDirectory(dir=MEMORY, prefix="jovik-test-") as shelves:
        # Tests read every note; tests/test_cli_answers.py reads what a person gets.
        config = tmp_path / "config.toml"
        config.write_text('notes = "shown"\n')
        mine = {"JOVIK_SHELF": f"{shelves}/shelf.db", "JOVIK_CONFIG": str(config)}
        yield Program(folder, env | mine | {"NO_COLOR": "1"})


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """The demo's folder and its output, made once for all workers."""
    own = tmp_path_factory.getbasetemp()
    # Each worker has a folder in that of the whole session.
    shared = (own.parent if "PYTEST_XDIST_WORKER" in os.environ else own) / "demo-of-all"
    shared.mkdir(exist_ok=True)
    folder, said = shared / "demo", shared / "output"
    with (shared / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not said.exists():
            with tempfile.TemporaryDirectory(dir=MEMORY, prefix="jovik-test-") as parent:
                made = Path(parent) / "demo"
                done = call(["demo", "--out", str(made)], made.parent, dict(os.environ), 120)
                assert done.status == 0, done.err
                shutil.copytree(made, folder)
                said.write_text(done.out.replace(str(made), str(folder)))
    return folder, said.read_text()


@pytest.fixture
def shown(jovik: Program, demo: tuple[Path, str]) -> Program:
    """The program on a copy of the demo's shelf, in a folder of its own."""
    shutil.copy(demo[0] / "shelf.db", jovik.shelf)
    return jovik
