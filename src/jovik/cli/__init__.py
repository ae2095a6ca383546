"""The commands: the only place that knows Click or Rich.

This module is all that `jovik --help` loads; each command's own module is loaded when it is called.
"""

from __future__ import annotations

import contextlib
import gc
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import Any

import click

from jovik.base.errors import JovikError, OutputError, UsageError
from jovik.base.one_thread import use_one_thread
from jovik.base.version import VERSION
from jovik.cli import streams
from jovik.cli.echo import echo
from jovik.cli.unit_options import with_units
from jovik.cli.waiting_line import show_waiting

FAULT, PIPE_CLOSED = 70, 141
"""Exit statuses: a fault in Jovik itself (EX_SOFTWARE of sysexits.h), and SIGPIPE as in shells."""
MEASURING_COMMANDS = ("measure", "resume", "repeat")
"""Commands whose result matters even if nobody reads their output."""
GARBAGE_AFTER = 50_000
"""Objects between two garbage collections. Python's own 700 suit a long loop."""
COMMANDS = {
    "scout": "List attached drives and what would prevent testing them.",
    "sheet": "Enter a drive's advertised specifications.",
    "measure": "Measure a drive and store every finished pass.",
    "resume": "Resume an interrupted run.",
    "repeat": "Repeat a run with the same steps, passes and seeds.",
    "runs": "List runs, show one, exclude a spoilt one.",
    "plan": "List test plans and their costs.",
    "compare": "Compare two runs, cables, firmware versions, dates or drives.",
    "record": "Capture a program's I/O and show it.",
    "judge": "Compare a drive's results with its claims.",
    "rank": "Rank every drive on the shelf, like with like.",
    "upgrade": "Evaluate replacing one drive with another.",
    "twin": "Fit a model drive to a drive's results.",
    "fit": "Find the workloads a drive can sustain, and its headroom.",
    "note": "Enter stopwatch and instrument readings, pros and cons.",
    "health": "Read a drive's health log.",
    "ceiling": "Measure this machine's own limits, without a drive.",
    "picture": "Draw charts of results.",
    "report": "Write the review, or a site of all drives.",
    "shelf": "Back up, move, merge and share the library.",
    "config": "Show and change the defaults of options.",
    "completion": "Print the completion script for a shell.",
    "demo": "Try everything on model drives.",
}
"""Every command and its line in the overview, in the order of the work."""


@click.command("version")
@click.option(
    "--all", "whole", is_flag=True, help="Also the system and packages, for a bug report."
)
def _version(whole: bool) -> None:
    """Show the version, as --version does."""
    if not whole:
        click.echo(f"jovik {VERSION}")
        return
    from jovik.cli.fault_log import installation

    click.echo("\n".join(installation()))


@click.command("help")
@click.argument("words", nargs=-1, metavar="[COMMAND]...")
@click.pass_context
def _help(ctx: click.Context, words: tuple[str, ...]) -> None:
    """Show help on a command, as COMMAND --help does."""
    top = ctx.find_root()
    jovik.main([*words, "--help"], prog_name=top.info_name, standalone_mode=False)


HELP_COMMANDS = {"help": _help, "version": _version}
"""Commands that repeat an option, for users who look for a command. Not in the overview."""


class LazyGroup(click.Group):
    """A group whose members are imported when they are called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return names in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """Return the command from its module."""
        if name in HELP_COMMANDS:
            return HELP_COMMANDS[name]
        if name not in COMMANDS:
            return None
        command: click.Command = getattr(import_module(f"jovik.cli.{name}_command"), name)
        return with_units(command)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """As Click's, with the nearest names when there is no such command."""
        from jovik.base.errors import UnknownNameError

        if args and args[0] not in (*COMMANDS, *HELP_COMMANDS) and not args[0].startswith("-"):
            raise UnknownNameError("command", args[0], COMMANDS, "see jovik --help")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the overview without loading any command."""
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(
    cls=LazyGroup,
    context_settings={"help_option_names": ["-h", "--help"]},
    invoke_without_command=True,
)
@click.option(
    "--debug-log",
    metavar="FILE",
    help="Append a log for a bug report to FILE: no serials, paths or passwords.",
)
@click.version_option(VERSION, "-V", "--version", message="jovik %(version)s")
@click.pass_context
def jovik(ctx: click.Context, debug_log: str | None) -> None:
    """Measure a storage drive, compare it with its claims, and rank it among others.

    Each figure states its uncertainty, what limited it, and whether it can be compared.
    """
    _invoked[0] = ctx.invoked_subcommand or ""
    if ctx.invoked_subcommand is not None:
        from jovik.base.atomic_files import sweep_unfinished

        sweep_unfinished()
    if debug_log is not None:
        from pathlib import Path

        from jovik.cli.fault_log import start_debug_log

        start_debug_log(Path(debug_log))
    if ctx.invoked_subcommand is None:
        click.echo(ctx.get_help())
        click.echo(f"\n{_next_words()}")
    elif ctx.invoked_subcommand in COMMANDS and ctx.invoked_subcommand != "config":
        ctx.default_map = _defaults(ctx, ctx.invoked_subcommand)


def _next_words() -> str:
    """Return suggestions for a user who typed nothing, depending on whether there is a shelf."""
    from pathlib import Path

    from jovik.base.secrets import looks_like_address
    from jovik.base.settings import where_from
    from jovik.base.terminal_text import strip_control

    where = where_from(None)
    served = looks_like_address(where)
    if served or Path(where).exists():
        todo = {
            "jovik sheet list": "the drives on it",
            "jovik rank": "the position of each",
            "jovik measure TARGET --drive NAME": "the next one",
        }
        head = f"Your shelf is {'on a server' if served else strip_control(where)}. Continue with:"
    else:
        todo = {
            "jovik demo": "all of it on model drives, in about ten seconds",
            "jovik scout": "attached drives, and obstacles to testing them",
            "jovik sheet new NAME": "the specifications of your drive",
            "jovik measure TARGET --drive NAME": "the test itself",
        }
        head = "New here? Begin with:"
    return "\n".join([head, *(f"  {command:<35}{about}" for command, about in todo.items())])


def _defaults(ctx: click.Context, name: str) -> dict[str, Any]:
    """Return the user's settings for a command. Without settings, nothing is loaded."""
    from jovik.base.errors import UnknownNameError, UsageError
    from jovik.base.settings import read_settings, settings_path

    settings = read_settings()
    for key, value in settings.items():
        if isinstance(value, dict) and key not in COMMANDS:
            raise UsageError(
                f"{settings_path()}: there is no command called '{key}'",
                UnknownNameError("command", key, COMMANDS).hint,
            )
    command = jovik.get_command(ctx, name) if name in settings else None
    if command is None:
        return {}
    from jovik.cli.settings_defaults import default_map

    return {name: default_map(name, command, settings[name])}


def main() -> None:
    """Run the console script.

    Every failure is one or two plain lines and an exit status, never a traceback.
    """
    # Modules that are loaded make tens of thousands of objects, and none of them is garbage.
    gc.set_threshold(GARBAGE_AFTER, 20, 50)
    use_one_thread()
    try:
        streams.guard()
        show_warnings()
        show_waiting()
        sys.argv[1:] = readable_arguments(sys.argv[1:])
        if os.environ.get("_JOVIK_COMPLETE") == "bash_complete":
            from jovik.cli.shell_completion import install

            install()
        status = jovik.main(prog_name="jovik", standalone_mode=False)
        _tell_notes()
        streams.finish()
    except streams.ReaderGone:
        # Whoever read an answer has what was wanted; a measurement's status got lost.
        streams.give_up()
        sys.exit(PIPE_CLOSED if _invoked[0] in MEASURING_COMMANDS else 0)
    except BaseException as error:
        status = _ended_by(error)
        with contextlib.suppress(OutputError, streams.ReaderGone):
            streams.finish()
        sys.exit(status)
    sys.exit(status if isinstance(status, int) else 0)


_invoked = [""]
"""The command that was called."""


def readable_arguments(words: Sequence[str]) -> list[str]:
    """Return the arguments as text.

    One that is not UTF-8 may only name a file that exists: anything else would end as text on a
    shelf or a page.

    Raises
    ------
    UsageError
        An argument is neither.
    """
    arguments = []
    for number, word in enumerate(words, start=1):
        path = word.partition("=")[2] if word.startswith("--") else word
        if _is_text(word) or os.path.lexists(path):
            arguments.append(word)
            continue
        # In a locale without UTF-8, Python has not decoded what is UTF-8 all the same.
        text = os.fsencode(word).decode("utf-8", "surrogateescape")
        if not _is_text(text):
            shown = ascii(word).strip("'")
            raise UsageError(f"argument {number} is not UTF-8 text: {shown:.60}")
        arguments.append(text)
    return arguments


def _is_text(word: str) -> bool:
    return not any("\ud800" <= letter <= "\udfff" for letter in word)


def _tell_notes() -> None:
    """Report notes that tables did not show, if the command drew any table."""
    drawn = sys.modules.get("jovik.cli.terminal_table")
    if drawn is not None:
        drawn.tell_notes()


def _ended_by(error: BaseException) -> int:
    """Report why the program ended, and return its exit status."""
    if isinstance(error, click.exceptions.Exit):
        return error.exit_code
    if isinstance(error, SystemExit) and isinstance(error.code, int):
        return error.code
    from jovik.base.fault_errors import environment_error
    from jovik.cli.fault_log import keep, log_error, message_of

    log_error(error)
    refused = environment_error(error)
    if isinstance(error, JovikError) or refused is not None:
        shown = error if isinstance(error, JovikError) else refused
        assert shown is not None
        complain(shown)
        return shown.exit_status
    if isinstance(error, click.ClickException):
        is_usage = isinstance(error, click.UsageError) and error.ctx is not None
        where = f" (see: {error.ctx.command_path} --help)" if is_usage else ""  # type: ignore[attr-defined]
        echo(f"jovik: {error.format_message()}{where}", err=True)
        return error.exit_code
    if isinstance(error, KeyboardInterrupt | click.Abort):
        click.echo("jovik: interrupted", err=True)
        return 130
    if isinstance(error, SystemExit):
        return FAULT
    if os.environ.get("JOVIK_TRACEBACK"):
        raise error
    ascii_names = sys.getfilesystemencoding() != "utf-8"
    if isinstance(error, UnicodeEncodeError) and (ascii_names or not all(map(_is_text, sys.argv))):
        complain(UsageError("a name cannot be written in this locale", "set LC_ALL=C.UTF-8"))
        return UsageError.exit_status
    report = keep(error, sys.argv[1:])
    from jovik.base.secrets import mask_secrets

    words = mask_secrets(f"{type(error).__name__}: {message_of(error)}")
    echo(f"jovik: a fault in Jovik itself: {words}", err=True)
    click.echo(
        f"  for a bug report: {report}"
        if report
        else "  set JOVIK_TRACEBACK=1 and repeat it to see the traceback",
        err=True,
    )
    return FAULT


def show_warnings() -> None:
    """Show warnings of the core on standard error, each once."""
    import logging

    class Once(logging.Handler):
        shown: set[str] = set()

        def emit(self, record: logging.LogRecord) -> None:
            text = record.getMessage()
            if text not in self.shown:
                self.shown.add(text)
                echo(f"warning: {text}", err=True)

    logger = logging.getLogger("jovik")
    logger.propagate = False
    logger.addHandler(Once(logging.WARNING))


def complain(error: JovikError) -> None:
    """Print one error on standard error: the reason, then the advice."""
    from jovik.base.secrets import mask_secrets

    echo(f"jovik: {mask_secrets(error.message)}", err=True)
    if error.hint:
        echo(f"  {mask_secrets(error.hint)}", err=True)
