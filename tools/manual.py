"""Write the manual pages, docs/man/jovik.1 and one for each command, from the commands themselves.

`make manual`; a test looks for every command and option in them.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Iterable
from pathlib import Path

import click

from jovik.cli import COMMANDS, jovik

FOLDER = Path(__file__).parents[1] / "docs" / "man"

ENVIRONMENT = {
    "JOVIK_SHELF": "The shelf, where --shelf does not name one.",
    "JOVIK_CONFIG": "The file of your settings, instead of the one in your configuration folder; "
    "empty for none.",
    "JOVIK_TRACEBACK": "Set to 1, a fault in Jovik itself shows where it is.",
    "NO_COLOR": "Set to anything, nothing is coloured.",
}
FILES = {
    "~/.local/share/jovik/shelf.db": "The shelf, where neither --shelf, JOVIK_SHELF nor your "
    "settings name another.",
    "~/.local/share/jovik/spool/": "Passes that wait for a shelf that was away.",
    "~/.config/jovik/config.toml": "Your settings; see jovik config.",
    "~/.cache/jovik/": "The compiled measuring loops.",
    "~/.local/state/jovik/last-fault.txt": "The last fault in Jovik itself, for a bug report.",
}
MORE_FILES = {
    "measure": {"PLAN.toml": "A plan of your own, named with --plan."},
    "plan": {"PLAN.toml": "A plan of your own; jovik plan show says how one is written."},
    "report": {"words/NAME.md": "Beside the shelf: your own text for the review of a drive."},
    "fit": {"LOAD.toml": "A load of your own, named with --load."},
    "note": {"TABLE.csv, TABLE.xlsx": "Readings from elsewhere: what, value, unit, method."},
    "shelf": {"ARCHIVE.zip": "What export writes and import takes: JSON and CSV."},
}
RELATED = {
    "scout": ("measure", "ceiling", "health"),
    "sheet": ("measure", "judge"),
    "measure": ("scout", "plan", "resume", "runs", "judge", "rank"),
    "resume": ("measure", "runs"),
    "repeat": ("measure", "compare", "runs"),
    "runs": ("compare", "shelf", "resume"),
    "plan": ("measure",),
    "compare": ("runs", "rank"),
    "record": ("measure", "upgrade"),
    "judge": ("sheet", "rank", "report"),
    "rank": ("compare", "judge", "picture"),
    "upgrade": ("rank", "fit"),
    "twin": ("record", "rank", "measure"),
    "fit": ("rank", "upgrade"),
    "note": ("judge", "report"),
    "health": ("scout", "judge"),
    "ceiling": ("scout", "measure"),
    "picture": ("report", "rank"),
    "report": ("judge", "picture"),
    "shelf": ("runs", "config"),
    "config": ("shelf", "completion"),
    "completion": ("config",),
    "demo": ("measure", "rank", "report"),
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


def parted(help_text: str) -> tuple[list[str], list[str]]:
    """Return a command's help: its paragraphs, and its examples line by line."""
    about: list[str] = []
    examples: list[str] = []
    for part in re.split(r"\n\s*\n", help_text.strip()):
        if part.lstrip().startswith("\b"):
            examples += [line.strip() for line in part.replace("\b", "").strip().splitlines()]
        else:
            about.append(" ".join(part.split()))
    return about, examples


def paragraphs(about: list[str]) -> list[str]:
    """Return filled paragraphs."""
    return [line for words in about for line in (".PP", text(words))]


def as_typed(examples: list[str]) -> list[str]:
    """Lines that stay as they are."""
    return [".PP", ".nf", ".RS 4", *(text(line) for line in examples), ".RE", ".fi"]


def terms(words: dict[str, str]) -> list[str]:
    """Each with what it is."""
    return [
        line
        for key, about in words.items()
        for line in (".TP", f"\\fB{text(key)}\\fR", text(about))
    ]


def options(command: click.Command, ctx: click.Context) -> list[str]:
    """Every option with what it does."""
    records = [
        param.get_help_record(ctx)
        for param in command.get_params(ctx)
        if isinstance(param, click.Option) and "--help" not in param.opts
    ]
    return terms({r[0]: " ".join(r[1].split()) for r in records if r is not None})


def usage(path: str, command: click.Command, ctx: click.Context) -> str:
    """How it is called."""
    return " ".join([path, *command.collect_usage_pieces(ctx)])


def head(name: str, about: str) -> list[str]:
    """Return the first lines of a page."""
    return [
        f'.TH {name.upper()} 1 "" "Jovik" "Jovik"',
        ".SH NAME",
        f"{text(name)} \\- {text(about)}",
        ".SH SYNOPSIS",
    ]


def see_also(names: Iterable[str]) -> list[str]:
    """Return the last section."""
    pages = sorted(names)
    lines = [f".BR {text(n)} (1){',' if n != pages[-1] else ''}" for n in pages]
    return [".SH SEE ALSO", *lines]


def page(name: str, command: click.Command, ctx: click.Context) -> str:
    """Return the page of a command, and for a group of all its members."""
    about, examples = parted(command.help or "")
    path = f"jovik {name}"
    lines = head(f"jovik-{name}", COMMANDS[name].rstrip("."))
    members: list[tuple[str, click.Command, click.Context]] = []
    if isinstance(command, click.Group):
        for n in command.list_commands(ctx):
            member = command.get_command(ctx, n)
            assert member is not None
            members.append((n, member, click.Context(member, info_name=n, parent=ctx)))
    for n, member, inner in members:
        lines += [text(usage(f"{path} {n}", member, inner)), ".br"]
    if not members:
        lines.append(text(usage(path, command, ctx)))
    lines += [".SH DESCRIPTION", *paragraphs(about)]
    if members:
        lines.append(".SH COMMANDS")
        for n, member, inner in members:
            said, typed = parted(member.help or "")
            examples += typed
            lines += [
                f".SS {text(usage(f'{path} {n}', member, inner))}",
                *paragraphs(said),
                *options(member, inner),
            ]
    elif found := options(command, ctx):
        lines += [".SH OPTIONS", *found]
    if examples:
        lines += [".SH EXAMPLES", *as_typed(list(dict.fromkeys(examples)))]
    lines += [".SH FILES", *terms(MORE_FILES.get(name, {}) | FILES)]
    lines += [".SH ENVIRONMENT", *terms(ENVIRONMENT), ".SH EXIT STATUS", *terms(STATUS)]
    lines += see_also(["jovik", *(f"jovik-{n}" for n in RELATED[name])])
    return "\n".join(lines) + "\n"


def overview() -> str:
    """Return the page of the program: what its commands are."""
    about, examples = parted(jovik.help or "")
    lines = [
        *head("jovik", "measure a storage drive and say how far each figure can be trusted"),
        ".B jovik",
        text("COMMAND [OPTIONS] [ARGS]..."),
        ".SH DESCRIPTION",
        *paragraphs(about[1:]),
        ".SH COMMANDS",
        *terms({f"jovik {n}": line for n, line in COMMANDS.items()}),
    ]
    if examples:
        lines += [".SH EXAMPLES", *as_typed(examples)]
    for title, words in (("FILES", FILES), ("ENVIRONMENT", ENVIRONMENT), ("EXIT STATUS", STATUS)):
        lines += [f".SH {title}", *terms(words)]
    lines += see_also(f"jovik-{n}" for n in COMMANDS)
    return "\n".join(lines) + "\n"


def pages() -> dict[str, str]:
    """Every page by the name of its file."""
    top = click.Context(jovik, info_name="jovik")
    found = {"jovik.1": overview()}
    for name in COMMANDS:
        command = jovik.get_command(top, name)
        assert command is not None
        inner = click.Context(command, info_name=name, parent=top)
        found[f"jovik-{name}.1"] = page(name, command, inner)
    return found


if __name__ == "__main__":
    FOLDER.mkdir(parents=True, exist_ok=True)
    made = pages()
    for there in FOLDER.glob("*.1"):
        if there.name not in made:
            there.unlink()
    for file, content in made.items():
        (FOLDER / file).write_text(content, encoding="utf-8")
    sys.stdout.write(f"wrote {len(made)} pages to {FOLDER}\n")
