"""Carry out `jovik record take`."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from jovik.answers.recordings import recording
from jovik.base.atomic_files import refuse_foreign
from jovik.base.errors import OutputError, UsageError
from jovik.base.interruption import interruptible
from jovik.base.recording_file import write_recording
from jovik.cli import output
from jovik.cli.echo import echo
from jovik.runs.recorder import take as take_down


def take(
    words: tuple[str, ...],
    out: Path,
    target: str,
    name: str | None,
    time_ns: int | None,
    repeat: int,
    cold: str | None,
    yes: bool,
    keep_names: bool,
    force: bool,
    form: str,
) -> int:
    """Capture every request that reaches a drive while COMMAND runs. Needs root."""
    refuse_foreign(out, None, force=force)
    if not out.resolve().parent.is_dir():
        raise OutputError(f"there is no folder {out.parent} for the recording")
    if cold == "all" and not yes:
        question = "this drops what the whole machine keeps in memory of its drives"
        if not sys.stdin.isatty():
            raise UsageError(question, "add --yes if that is meant, or omit 'all'")
        click.confirm(f"{question}. Continue?", abort=True, err=True)
    with interruptible(later="ignore"):
        taken = take_down(
            words,
            target,
            name=name,
            time_ns=time_ns,
            repeat=repeat,
            cold=cold,
            keep_names=keep_names,
            on_progress=lambda line: echo(line, err=True),
        )
        write_recording(taken.middle, out, force=force)
    output.show(recording(str(out), None, taken), form)
    return 130 if taken.interrupted else 0
