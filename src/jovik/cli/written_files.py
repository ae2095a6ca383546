"""The report of a command on its written files: lines, or a document for a script."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path

from jovik.cli.echo import echo


def say_written(
    form: str, paths: Iterable[Path | str], line: Callable[[Path | str], str] = "wrote {}".format
) -> None:
    """Report the files in a form of ``--format``.

    Parameters
    ----------
    line : callable
        The line for a user.
    """
    names = [str(p) for p in paths]
    if form == "json":
        from jovik.cli.output import emit_json

        emit_json({"written": names}, "written")
    elif form == "csv":
        from jovik.cli.output import emit_csv

        emit_csv(["written"], [(n,) for n in names])
    else:
        for name in names:
            echo(line(name))
