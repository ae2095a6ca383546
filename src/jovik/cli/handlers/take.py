"""Carry out `jovik record take`."""

from __future__ import annotations

from pathlib import Path

from jovik.answers.recordings import recording
from jovik.base.atomic_files import refuse_foreign
from jovik.base.errors import OutputError
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
    cold: bool,
    keep_names: bool,
    force: bool,
    form: str,
) -> int:
    """Capture every request that reaches a drive while COMMAND runs. Needs root."""
    refuse_foreign(out, None, force=force)
    if not out.resolve().parent.is_dir():
        raise OutputError(f"there is no folder {out.parent} for the recording")
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
