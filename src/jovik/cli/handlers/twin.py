"""Carry out `jovik twin`."""

from __future__ import annotations

from pathlib import Path

from jovik.answers import twin as answers
from jovik.base.atomic_files import write_output
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.cli import output
from jovik.cli.echo import echo
from jovik.shelf.store import Shelf


def twin(drive: str, out: Path | None, force: bool, form: str, shelf_at: str | None) -> int:
    """Fit a model drive to the results of DRIVE."""
    if out is not None and out.suffix != ".toml":
        raise UsageError(f"{out} is no name for a model drive", "end it in .toml")
    with Shelf(where_from(shelf_at)) as shelf:
        answer = answers.twin(shelf, drive)
    status = output.show(answer, form)
    if out is not None:
        write_output(out, answer.toml.encode(), force=force)
        echo(f"wrote {out}: jovik measure model:{out} PHRASE", err=True)
    return status
