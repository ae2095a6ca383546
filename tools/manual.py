"""Write the manual page, docs/man/jovik.1, from the commands themselves; `make manual`.

A test looks for every command and option in it.
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

import click

from jovik.base.version import VERSION
from jovik.cli import COMMANDS, jovik

OUT = Path(__file__).parents[1] / "docs" / "man" / "jovik.1"

ENVIRONMENT = {
    "JOVIK_SHELF": "The shelf, where --shelf does not name one.",
    "JOVIK_CONFIG": "The file of your settings, instead of the one in your configuration folder; "
    "empty for none.",
    "JOVIK_TRACEBACK": "Set to 1, a fault in Jovik itself shows where it is.",
    "NO_COLOR": "Set to anything, nothing is coloured.",
}
STATUS = {
    "0": "Done.",
    "1": "Done, and the answer is no: a claim fell short, a sample is suspect, a load is "
    "not carried, a shelf is not whole.",
    "2": "What was typed or written down cannot be understood.",
    "3": "The target, the system or the shelf refused; nothing was written.",
    "4": "The drive failed during a test; what was measured before is kept.",
    "130": "Interrupted; finished passes are kept, and jovik resume goes on.",
}


def text(words: str) -> str:
    """Words as roff shows them, whatever is in them."""
    safe = words.replace("\\", "\\e").replace("-", "\\-")
    return re.sub(r"(?m)^([.'])", r"\\&\1", safe)


def paragraphs(help_text: str) -> list[str]:
    """A command's help: paragraphs are filled, examples stay as they are."""
    lines: list[str] = []
    for part in re.split(r"\n\s*\n", help_text.strip()):
        if part.lstrip().startswith("\b"):
            examples = [line.strip() for line in part.replace("\b", "").strip().splitlines()]
            lines += [".PP", ".nf", ".RS 4", *(text(line) for line in examples), ".RE", ".fi"]
        else:
            lines += [".PP", text(" ".join(part.split()))]
    return lines


def options(command: click.Command, ctx: click.Context) -> list[str]:
    """Every option with what it does."""
    lines = []
    for param in command.get_params(ctx):
        record = param.get_help_record(ctx)
        if isinstance(param, click.Option) and record is not None and "--help" not in param.opts:
            lines += [".TP", f"\\fB{text(record[0])}\\fR", text(" ".join(record[1].split()))]
    return lines


def section(path: str, command: click.Command, ctx: click.Context) -> list[str]:
    """One command, and for a group those in it."""
    usage = " ".join([path, *command.collect_usage_pieces(ctx)])
    lines = [f".SS {text(usage)}", *paragraphs(command.help or ""), *options(command, ctx)]
    if isinstance(command, click.Group):
        for name in command.list_commands(ctx):
            member = command.get_command(ctx, name)
            assert member is not None
            lines += section(
                f"{path} {name}", member, click.Context(member, info_name=name, parent=ctx)
            )
    return lines


def manual() -> str:
    """The page in roff."""
    top = click.Context(jovik, info_name="jovik")
    lines = [
        f'.TH JOVIK 1 "" "Jovik {VERSION}" "Jovik"',
        ".SH NAME",
        "jovik \\- " + text("measure a storage drive and say how far each figure can be trusted"),
        ".SH SYNOPSIS",
        ".B jovik",
        text("COMMAND [OPTIONS] [ARGS]..."),
        ".SH DESCRIPTION",
        *paragraphs(jovik.help or "")[1:],
        ".SH COMMANDS",
    ]
    for name in COMMANDS:
        command = jovik.get_command(top, name)
        assert command is not None
        lines += section(
            f"jovik {name}", command, click.Context(command, info_name=name, parent=top)
        )
    for title, words in (("ENVIRONMENT", ENVIRONMENT), ("EXIT STATUS", STATUS)):
        lines.append(f".SH {title}")
        for key, about in words.items():
            lines += [".TP", f"\\fB{text(key)}\\fR", text(about)]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    OUT.parent.mkdir(parents=True, exist_ok=True)
    OUT.write_text(manual(), encoding="utf-8")
    sys.stdout.write(f"wrote {OUT}\n")
