"""Where passes wait on this machine that could not be written to their shelf (see `spool`)."""

from __future__ import annotations

from pathlib import Path


def spool_folder() -> Path:
    """Return where entries wait on this machine."""
    from platformdirs import user_data_path

    return user_data_path("jovik") / "spool"


def waiting_files() -> list[Path]:
    """Return the files of what waits, whatever their shelf is."""
    return sorted(spool_folder().glob("*.jsonl"))
