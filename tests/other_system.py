"""A process that looks to the program like one on another operating system.

The modules, functions and files that Windows or macOS lack are hidden, and `sys.platform` is
replaced. How their paths and locks behave cannot be shown here. Packages are loaded before, because
the installed ones are made for this system.
"""

from __future__ import annotations

import builtins
import contextlib
import io
import os
import platform
import shutil
import signal
import sys
from collections.abc import Callable
from importlib import import_module
from typing import Any

PACKAGES = (
    *(
        "alembic.command",
        "asyncio",
        "click._termui_impl",
        "concurrent.futures.process",
        "jinja2",
        "markdown_it",
    ),
    *("matplotlib.backends.backend_agg", "matplotlib.figure", "numpy", "platformdirs", "pydantic"),
    *("rich.console", "rich.live", "rich.progress", "rich.table", "sqlalchemy.dialects.sqlite"),
    *(
        "psutil",
        "tomlkit",
        "subprocess",
        "multiprocessing.synchronize",
        "ctypes",
        "uuid",
        "webbrowser",
    ),
    *("csv", "zipfile", "tempfile", "getpass", "socket"),
)
MODULES = ("fcntl", "grp", "pty", "pwd", "resource", "syslog", "termios", "tty")
FUNCTIONS = (
    *("O_CLOEXEC", "O_DIRECT", "O_DIRECTORY", "O_DSYNC", "O_NOFOLLOW", "O_NONBLOCK", "O_SYNC"),
    *("O_TMPFILE", "chown", "chroot", "fchdir", "fchmod", "fchown", "fdatasync", "fork", "getegid"),
    *("geteuid", "getgid", "getgroups", "getloadavg", "getpgid", "getpgrp", "getuid", "killpg"),
    *("lchown", "memfd_create", "mkfifo", "mknod", "nice", "openpty", "pipe2", "posix_fadvise"),
    *(
        "posix_fallocate",
        "posix_spawn",
        "pread",
        "preadv",
        "pwrite",
        "pwritev",
        "sched_getaffinity",
    ),
    *("sched_setaffinity", "sched_yield", "sendfile", "setpgid", "setsid", "statvfs", "sync"),
    *("sysconf", "tcgetpgrp", "ttyname", "uname", "wait4", "ST_RDONLY", "SCHED_OTHER"),
)
SIGNALS = ("SIGALRM", "SIGHUP", "SIGKILL", "SIGPIPE", "SIGQUIT", "SIGUSR1", "SIGUSR2", "SIGWINCH")
LINUX_ONLY = (
    *("O_DIRECT", "O_TMPFILE", "fdatasync", "memfd_create", "posix_fadvise", "posix_fallocate"),
    *("sched_getaffinity", "sched_setaffinity"),
)
"""Functions that macOS lacks."""
SYSTEMS = {"win32": ("Windows", "11"), "darwin": ("Darwin", "24.1.0")}
FOLDERS = ("/proc", "/sys", "/dev/disk")


def hide(system: str) -> None:
    """Make this process look like one on another system ("win32", "darwin"), for good."""
    for name in PACKAGES:
        import_module(name)
    for name in FUNCTIONS if system == "win32" else LINUX_ONLY:
        if hasattr(os, name):
            delattr(os, name)
    if system == "win32":
        for name in MODULES:
            sys.modules[name] = None  # type: ignore[assignment]
        for name in SIGNALS:
            if hasattr(signal, name):
                delattr(signal, name)
        for name in ("supports_dir_fd", "supports_fd", "supports_follow_symlinks"):
            setattr(os, name, set())
        shutil._use_fd_functions = False  # type: ignore[attr-defined]
    for of, name in (
        *((os, n) for n in ("stat", "lstat", "listdir", "scandir", "readlink", "access", "open")),
        *((os, n) for n in ("mkdir", "unlink", "rmdir", "rename", "replace", "link", "chmod")),
        (builtins, "open"),
        (io, "open"),
    ):
        setattr(of, name, _guarded(getattr(of, name), name, system == "win32"))
    named, release = SYSTEMS[system]
    platform.system = lambda: named
    platform.release = lambda: release
    sys.platform = system


_listdir, _readlink, _realpath = os.listdir, os.readlink, os.path.realpath


def _is_open(path: str) -> bool:
    """Whether this process has a file open, as the real system knows it."""
    wanted = _realpath(path)
    for fd in _listdir("/proc/self/fd"):
        with contextlib.suppress(OSError):
            if _readlink(f"/proc/self/fd/{fd}") == wanted:
                return True
    return False


def _guarded(real: Callable[..., Any], name: str, windows: bool) -> Callable[..., Any]:
    def guarded(path: Any, *more: Any, **named: Any) -> Any:
        for key in ("dir_fd", "src_dir_fd", "dst_dir_fd"):
            if windows and named.get(key) is not None:
                raise NotImplementedError(f"{key} unavailable on this platform")
        if windows and isinstance(path, int) and name in ("listdir", "scandir"):
            raise TypeError("path should be string, bytes, os.PathLike or None, not int")
        # That package has a version of its own for each system.
        asked = sys._getframe(1).f_globals.get("__name__", "")
        if isinstance(path, str | bytes | os.PathLike) and not asked.startswith("psutil"):
            text = os.fsdecode(path)
            if any(text == f or text.startswith(f"{f}/") for f in FOLDERS):
                raise FileNotFoundError(2, "The system cannot find the path specified", text)
            if windows and name == "open" and os.path.isdir(text):
                raise PermissionError(13, "Permission denied", text)
            if windows and name in ("unlink", "replace", "rename") and _is_open(text):
                raise PermissionError(13, "The process cannot access the file", text)
            if windows and name == "rename" and os.path.lexists(more[0]):
                raise FileExistsError(17, "Cannot create a file when that file already exists")
        return real(path, *more, **named)

    return guarded


if __name__ == "__main__":
    hide(sys.argv[1])
    sys.argv = ["jovik", *sys.argv[2:]]
    from jovik.cli import main

    main()
