"""A real PostgreSQL server for the tests, stopped and started at will."""

from __future__ import annotations

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from pathlib import Path

import psutil
import pytest

from tests.programs import need


class Server:
    """A cluster in a folder of its own, on a port of its own."""

    def __init__(self, folder: Path, programs: Path) -> None:
        self.folder, self._programs, self._names = folder, programs, 0
        # The server refuses to run as root.
        self._as = (
            ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"]
            if os.geteuid() == 0
            else []
        )
        if self._as:
            shutil.chown(folder, "postgres")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self._call(
            "initdb", "--auth=trust", "--username=jovik", "--no-sync", "-D", str(folder / "data")
        )

    def _call(self, program: str, *words: str) -> None:
        subprocess.run(
            [*self._as, str(self._programs / program), *words],
            check=True,
            cwd="/",
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )

    def start(self) -> None:
        options = f"-k {self.folder} -p {self.port} -c listen_addresses=127.0.0.1 -c fsync=off"
        self._call(
            "pg_ctl",
            "start",
            "-w",
            "-D",
            str(self.folder / "data"),
            "-l",
            str(self.folder / "log"),
            "-o",
            options,
        )

    def stop(self) -> None:
        self._call("pg_ctl", "stop", "-w", "-m", "immediate", "-D", str(self.folder / "data"))

    def freeze(self, stopped: bool) -> None:
        """Let every process of it stand still, or go on.

        A server that is there and answers nothing.
        """
        first = psutil.Process(
            int((self.folder / "data" / "postmaster.pid").read_text().split()[0])
        )
        for one in [first, *first.children(recursive=True)]:
            (one.suspend if stopped else one.resume)()

    def database(self) -> str:
        """The address of a new, empty database."""
        self._names += 1
        name = f"lab{self._names}"
        self._call("createdb", "-h", "127.0.0.1", "-p", str(self.port), "-U", "jovik", name)
        return f"postgresql://jovik@127.0.0.1:{self.port}/{name}"


def programs() -> Path:
    """Where initdb and its kin lie; a test that needs them is skipped where they do not."""
    found = need("initdb").parent
    if os.geteuid() == 0:
        try:
            pwd.getpwnam("postgres")
        except KeyError:
            pytest.skip("PostgreSQL does not run as root, and there is no user postgres")
        need("setpriv")
    return found


def running(where: Path | None) -> tuple[Server, tempfile.TemporaryDirectory[str]]:
    """A server that runs, and the folder to remove after it was stopped."""
    folder = tempfile.TemporaryDirectory(dir=where, prefix="jovik-test-pg-")
    server = Server(Path(folder.name), programs())
    server.start()
    return server, folder
