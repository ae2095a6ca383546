"""How Jovik was installed, so that a hint names the command that works here."""

from __future__ import annotations

import sys
from pathlib import Path


def _installer() -> str:
    """``pipx``, ``uv tool``, ``uv pip`` or ``pip``, by the files that each leaves behind."""
    prefix = Path(sys.prefix)
    if (prefix / "pipx_metadata.json").exists():
        return "pipx"
    if (prefix / "uv-receipt.toml").exists():
        return "uv tool"
    try:
        made_by = (prefix / "pyvenv.cfg").read_text(encoding="utf-8", errors="replace")
    except OSError:
        made_by = ""
    return "uv pip" if any(line.startswith("uv ") for line in made_by.splitlines()) else "pip"


def to_add(extra: str) -> str:
    """Return the command that installs the packages of an extra."""
    wanted = f"'jovik[{extra}]'"
    return {
        "pipx": f"pipx install --force {wanted}",
        "uv tool": f"uv tool install --force {wanted}",
    }.get(_installer(), f"{_installer()} install {wanted}")


def to_update() -> str:
    """Return the command that installs the newest Jovik."""
    return {"pipx": "pipx upgrade jovik", "uv tool": "uv tool upgrade jovik"}.get(
        _installer(), f"{_installer()} install --upgrade jovik"
    )
