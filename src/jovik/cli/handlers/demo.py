"""Carry out `jovik demo`."""

from __future__ import annotations

import contextlib
import io
import os
import shlex
from pathlib import Path

import click

from jovik.base.errors import UsageError
from jovik.cli import jovik
from jovik.cli.echo import echo

REVIEWED = "Veldhaar Comet 2TB"
"""The drive that is just in for review."""


REPLACED = "Corvane Slate 1TB"
"""The drive that the magazine uses now."""


PLAN = "second-look"


EARLIER = ("drift", "slate", "pebble")
"""Model drives that the magazine tested before."""


STORY = """\
The Night Watch, a magazine for amateur astronomers, tests drives that must swallow the frames of
telescope cameras through a whole clear night. Three drives are on its shelf already; the Comet has
just come in for review. Everything here is simulated: drives, makers and the magazine are made up.
"""


def demo(out: Path | None) -> None:
    """Test four model drives from sheet to ranking, and show each command on the way."""
    folder = out or _new_folder()
    if (folder / "shelf.db").exists():
        raise UsageError(
            f"{folder} holds a shelf already", "name another folder with --out, or remove that one"
        )
    folder.mkdir(parents=True, exist_ok=True)
    click.echo(STORY)
    shelf = folder / "shelf.db"
    for position, model in enumerate(EARLIER):
        # Fixed seeds: the demo shows the same figures everywhere, so that a tutorial can speak of
        # them.
        _step(
            shelf,
            ["measure", f"model:{model}", "--plan", PLAN, "--seed", str(11 + position)],
            quiet=True,
        )
    _step(
        shelf,
        [
            "note",
            REPLACED,
            "--reading",
            "boot time=14.2s",
            "--method",
            "stopwatch, switch to desktop",
        ],
        quiet=True,
    )
    _step(shelf, ["measure", "model:comet", "--plan", PLAN, "--seed", "41"])
    _step(
        shelf,
        [
            "note",
            REVIEWED,
            "--reading",
            "boot time=8.9s",
            "--method",
            "stopwatch, switch to desktop",
            "--pro",
            "no heat sink needed",
        ],
    )
    _step(shelf, ["sheet", "show", REVIEWED])
    _step(shelf, ["judge", REVIEWED])
    _step(shelf, ["rank", "--yardstick", REPLACED, "--no-steps", "--review", REVIEWED])
    _step(shelf, ["upgrade", REPLACED, REVIEWED])
    _step(shelf, ["fit", REVIEWED, "--load", "telescope", "--load", "backup", "--load", "games"])
    _step(
        shelf,
        [
            "picture",
            "rank",
            "--out",
            str(folder / "ranking.png"),
            "--highlight",
            REVIEWED,
            "--yardstick",
            REPLACED,
        ],
    )
    _step(shelf, ["report", REVIEWED, "--against", REPLACED, "--out", str(folder / "review.html")])
    where = shlex.quote(str(folder))
    echo(f"\nThe shelf is {where}/shelf.db. Continue with:")
    click.echo(
        f"  export JOVIK_SHELF={where}/shelf.db\n  jovik sheet list\n  jovik rank\n  "
        'jovik measure model:comet "random read 4KiB depth 64 for 5s"'
    )


def _new_folder() -> Path:
    """Return `jovik-demo`, with a number if that name is taken."""
    names = ["jovik-demo", *(f"jovik-demo-{n}" for n in range(2, 1000))]
    return next(Path(n) for n in names if not Path(n).exists())


def _step(shelf: Path, words: list[str], *, quiet: bool = False) -> None:
    """Show a command and run it as it would be run from a prompt."""
    echo("$ " + shlex.join(["jovik", *words, "--shelf", str(shelf)]))
    # The demo shows the same figures everywhere, whatever a person's settings are.
    os.environ["JOVIK_CONFIG"] = ""
    aside = contextlib.redirect_stdout(io.StringIO()) if quiet else contextlib.nullcontext()
    with aside, contextlib.redirect_stderr(io.StringIO()):
        # A verdict of "short" is an exit status of its own for scripts; for the demo it is part of
        # the story.
        jovik.main([*words, "--shelf", str(shelf)], prog_name="jovik", standalone_mode=False)
    click.echo("(its table is left out here)\n" if quiet else "")
