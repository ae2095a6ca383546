"""The files of passes that could not yet be written to their shelf (`jovik.shelf.spool`)."""

from __future__ import annotations

from pathlib import Path


def spool_folder() -> Path:
    """Return the folder of these files on this machine."""
    from platformdirs import user_data_path

    return user_data_path("jovik") / "spool"


def waiting_files() -> list[Path]:
    """Return the files with waiting entries, for any shelf."""
    return sorted(spool_folder().glob("*.jsonl"))
