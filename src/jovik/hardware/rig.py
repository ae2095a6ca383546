"""The machine that a sample is measured on, as far as the system reports it without privileges."""

from __future__ import annotations

import contextlib
import os
import platform
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Rig:
    """A machine: a name for people, and facts."""

    name: str
    facts: dict[str, str]
    notes: str = ""


def this_machine() -> Rig:
    """Return the rig Jovik runs on."""
    facts = {
        "system": f"{platform.system()} {platform.release()}",
        "processor": _processor(),
        "cores": str(os.cpu_count() or 0),
        "memory": _memory(),
    }
    board = Path("/sys/class/dmi/id/board_name")
    with contextlib.suppress(OSError):
        facts |= {"board": board.read_text(encoding="utf-8", errors="replace").strip()}
    name = platform.node()
    return Rig(name if name not in ("", "(none)", "localhost") else "this machine", facts)


def _processor() -> str:
    try:
        for line in (
            Path("/proc/cpuinfo").read_text(encoding="utf-8", errors="replace").splitlines()
        ):
            if line.startswith("model name"):
                return line.split(":", 1)[1].strip()
    except OSError:
        pass
    return platform.processor() or platform.machine()


def _memory() -> str:
    import psutil  # only a run asks

    return f"{psutil.virtual_memory().total / 2**30:.0f} GiB"
