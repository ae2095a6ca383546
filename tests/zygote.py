"""A process that has loaded the program and forks for each call.

Every call is a process of its own, and none waits for imports.

Run as ``python -m tests.zygote``; it reads one JSON request for each line (words, folder, env, out,
err, timeout) and answers with the exit status, or null when the time was over. Starting the program
hundreds of times took most of the tests' time.
"""

from __future__ import annotations

import json
import os
import signal
import sys
import time
from importlib import import_module

LOADED = (
    "alembic.command",
    "jinja2",
    "jovik.queries.suitability",
    "jovik.queries.ranking",
    "jovik.runs.plan_loop",
    "jovik.cli.settings_defaults",
    "jovik.cli.run_output",
    "jovik.simulator",
    "jovik.report.publishing",
    "jovik.runs",
    "jovik.shelf.archive",
    "jovik.shelf.store",
    "markdown_it",
    "numpy",
    "pydantic",
    "matplotlib.backends.backend_agg",
    "matplotlib.figure",
    "psycopg",
    "rich.console",
    "rich.table",
    "sqlalchemy.dialects.sqlite",
)
"""What commands load.

Nothing that starts a thread or opens a file, since a fork would not take it along.
"""


def serve() -> None:
    """Answer until standard input ends."""
    # What nearly every command loads; nothing that starts a thread, since a fork would not take it
    # along.
    for name in LOADED:
        import_module(name)

    for line in sys.stdin:
        request = json.loads(line)
        child = os.fork()
        if child == 0:
            _run(request)
        print(json.dumps(_wait(child, request["timeout"])), flush=True)


def _run(request: dict) -> None:
    """The program itself, as `python -m jovik` would run it."""
    os.setpgid(0, 0)
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
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            return None
        time.sleep(0.004)


if __name__ == "__main__":
    serve()
