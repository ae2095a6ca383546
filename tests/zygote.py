"""A process that has loaded the program and forks for each call.

Every call is a process of its own, and none waits for imports.

Run as ``python -m tests.zygote SYSTEM``, where SYSTEM is empty for this one. It reads one JSON
request for each line (words, folder, env, out, err, timeout) and answers with the exit status, or
null when the time was over. Starting the program hundreds of times took most of the tests' time.
"""

from __future__ import annotations

import gc
import json
import os
import sys
import time
from importlib import import_module
from os import fork, setpgid
from pkgutil import walk_packages
from signal import SIGKILL

LOADED = (
    *("PIL.PngImagePlugin", "alembic.command", "click.shell_completion", "jinja2", "markdown_it"),
    *("matplotlib.backends.backend_agg", "matplotlib.figure", "matplotlib.style", "numpy.random"),
    *("platformdirs", "psycopg", "pydantic.dataclasses", "rich.live", "rich.table"),
    *("sqlalchemy.dialects.sqlite", "jovik.report.publishing", "jovik.simulator"),
)
"""Modules that commands load. None of them starts a thread, which a fork would not take along."""
PACKAGES = (
    "jovik.answers",
    "jovik.charts",
    "jovik.cli",
    "jovik.queries",
    "jovik.runs",
    "jovik.shelf",
)
"""Packages that are loaded whole, but for the migrations."""


def load() -> None:
    """Load the program."""
    for name in LOADED:
        import_module(name)
    for package in PACKAGES:
        for found in walk_packages(import_module(package).__path__, f"{package}."):
            if ".migrations" not in found.name:
                import_module(found.name)
    # What is loaded is no garbage, and looking through it would copy its pages into each child.
    gc.collect()
    gc.freeze()


def serve() -> None:
    """Answer until standard input ends."""
    if sys.argv[1]:
        from tests.other_system import hide

        hide(sys.argv[1])
    load()
    for line in sys.stdin:
        request = json.loads(line)
        child = fork()
        if child == 0:
            _run(request)
        print(json.dumps(_wait(child, request["timeout"])), flush=True)


def _run(request: dict) -> None:
    """The program itself, as `python -m jovik` would run it."""
    setpgid(0, 0)
    for name, fd in (("/dev/null", 0), (request["out"], 1), (request["err"], 2)):
        opened = os.open(
            name, os.O_RDONLY if fd == 0 else os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600
        )
        os.dup2(opened, fd)
        os.close(opened)
    os.environ.clear()
    os.environ.update(request["env"])
    os.chdir(request["folder"])
    sys.argv = ["jovik", *request["words"]]
    from jovik.cli import main

    status = 0
    try:
        main()
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else 1 if end.code else 0
    except BaseException:
        import traceback

        traceback.print_exc()
        status = 1
    for stream in (sys.stdout, sys.stderr):
        stream.flush()
    os._exit(status)


def _wait(child: int, timeout: float) -> int | None:
    end = time.monotonic() + timeout
    while True:
        done, status = os.waitpid(child, os.WNOHANG)
        if done:
            return os.waitstatus_to_exitcode(status)
        if time.monotonic() > end:
            os.kill(child, SIGKILL)
            os.waitpid(child, 0)
            return None
        time.sleep(0.004)


if __name__ == "__main__":
    serve()
