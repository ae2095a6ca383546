"""What a first-time user could do after a measurement, said until it was done once."""

from __future__ import annotations

import contextlib
import json
import sys
from pathlib import Path

from jovik.cli.echo import echo

STEPS = {
    "judge": 'jovik judge "{}"',
    "rank": "jovik rank",
    "report": 'jovik report "{}" --out review.html',
}


def _place() -> Path:
    from platformdirs import user_state_path

    return user_state_path("jovik") / "done-once.json"


def _done() -> set[str]:
    with contextlib.suppress(OSError, ValueError):
        found = json.loads(_place().read_text(encoding="utf-8"))
        return {x for x in found if x in STEPS} if isinstance(found, list) else set()
    return set()


def note_done(command: str) -> None:
    """Remember that a command was run, so that nobody is told of it any more."""
    if command not in STEPS or command in (done := _done()):
        return
    from jovik.base.atomic_files import write_atomically

    # What cannot be remembered is told again.
    with contextlib.suppress(OSError):
        _place().parent.mkdir(parents=True, exist_ok=True)
        write_atomically(_place(), json.dumps(sorted({*done, command})).encode())


def tell_next(drive: str) -> None:
    """One line with what was not done yet, to a person at a terminal."""
    left = [words.format(drive) for name, words in STEPS.items() if name not in _done()]
    if left and sys.stderr.isatty():
        echo(f"next: {'; '.join(left)}", err=True)
