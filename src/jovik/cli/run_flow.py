"""A run from a command: announced, asked about, watched, interrupted and shown.

`measure` begins a run, `repeat` begins one like an earlier one, `resume` goes on with one, `judge
--settle` begins one that settles a verdict; all of them come here with an order (`jovik.runs`).
"""

from __future__ import annotations

import contextlib
import sys
import threading
from dataclasses import dataclass
from typing import Any

import click

from jovik.base.errors import (
    DriveError,
    JovikError,
    OutputError,
    RunInterrupted,
    ShelfError,
    UsageError,
)
from jovik.base.interruption import interruptible
from jovik.base.io_session import Session
from jovik.cli.run_display import screen_for
from jovik.cli.run_output import answer_lines, show_run
from jovik.cli.streams import ReaderGone
from jovik.cli.unattended import WATCHED, Unattended, tell_end
from jovik.runs import PreparedRun, RunOutcome, RunRequest, execute, prepared, start_run
from jovik.runs.prepare import ASK_ABOVE
from jovik.sheets.sheet import Sheet
from jovik.shelf.store import Shelf
from jovik.tables.announcement import announcement
from jovik.tables.circumstances import circumstance_lines


@dataclass(frozen=True)
class EnduranceConsent:
    """The questions before a run.

    Above which share of the endurance rating (the usual one for None), and whether `--yes` has
    answered.
    """

    ask_above: float | None = None
    yes: bool = False


@dataclass(frozen=True)
class Telling:
    """The output around a run: a first line before the announcement, and each pass at the end."""

    first_line: str = ""
    each_pass: bool = False
    unattended: Unattended = WATCHED


def run_order(
    shelf: Shelf,
    sheet: Sheet,
    request: RunRequest,
    form: str,
    *,
    consent: EnduranceConsent = EnduranceConsent(),
    dry_run: bool = False,
    resumed: str | None = None,
    telling: Telling = Telling(),
) -> int:
    """Run it and show the results.

    Parameters
    ----------
    resumed : str, optional
        The run to go on with.

    Raises
    ------
    JovikError
        The failure that stopped it, after its results have been shown.
    """

    asked = None if dry_run else telling.unattended.on_end
    ended = _Ending(sheet.drive.name)
    try:
        outcome = carry_out(
            *(shelf, sheet, request),
            consent=consent,
            dry_run=dry_run,
            resumed=resumed,
            telling=telling,
        )
        ended.outcome = outcome
        if outcome is None:
            return 0
        if outcome.lost is not None:
            with contextlib.suppress(ShelfError):
                _show_what_is_there(shelf, outcome, form, brief=telling.unattended.quiet)
            raise outcome.lost
        ended.status = _show(shelf, outcome, form, telling)
        return ended.status
    except click.Abort:
        # Whoever answers a question is told there.
        asked = None
        raise
    except JovikError as error:
        ended.status, ended.failure = error.exit_status, error.message
        raise
    finally:
        if asked is not None:
            tell_end(asked, ended.verdict(shelf))


@dataclass
class _Ending:
    """How a run ended, for a command that is told."""

    drive: str
    outcome: RunOutcome | None = None
    status: int = JovikError.exit_status
    failure: str | None = None

    def verdict(self, shelf: Shelf) -> dict[str, Any]:
        """Return it as JSON (docs/json.md)."""
        told: dict[str, Any] = {
            "drive": self.drive,
            "run": None,
            "state": "not begun",
            "answer": [],
        }
        if self.outcome is not None:
            told |= {"run": self.outcome.run, "state": "unknown"}
            # What stopped the run may have been the shelf.
            with contextlib.suppress(ShelfError):
                record = shelf.runs.get(self.outcome.run)
                results = shelf.results.of_run(self.outcome.run)
                sheet = shelf.sheets.get(record.drive)
                lines = answer_lines(record, results, sheet.drive)
                told |= {"state": record.state, "answer": lines}
        return told | {"exit_status": self.status, "failure": self.failure}


def carry_out(
    shelf: Shelf,
    sheet: Sheet,
    request: RunRequest,
    *,
    consent: EnduranceConsent = EnduranceConsent(),
    dry_run: bool = False,
    resumed: str | None = None,
    telling: Telling = Telling(),
) -> RunOutcome | None:
    """Announce it, ask, and run it with a display. Return None if it was only announced."""

    with (
        prepared(sheet, request) as ready,
        screen_for(
            f"{sheet.drive.name}: {request.plan}",
            request.tasks,
            ready.times_ns,
            request.budget_ns,
            sheet,
            ready.cost.written_bytes(ready.rate_bytes_s),
            telling.unattended,
        ) as screen,
    ):
        if shelf.delivered:
            screen.say(
                f"{shelf.delivered} passes that had waited on this machine are on the shelf now"
            )
        if telling.first_line:
            screen.say(telling.first_line)
        screen.say(announcement(ready))
        if dry_run:
            return None
        ask(ready, consent)
        warm_up(ready.session)
        begun = start_run(shelf, ready, resumed)
        for line in circumstance_lines(begun.identified.circumstances):
            screen.say(line)
        for warning in begun.identified.warnings:
            screen.say(f"warning: {warning}")
        with interruptible(later="exit"):
            outcome = execute(ready, begun, screen)
        if outcome.lost is not None and isinstance(outcome.failure, JovikError):
            screen.say(outcome.failure.message)
    return outcome


def _show_what_is_there(shelf: Shelf, outcome: RunOutcome, form: str, *, brief: bool) -> None:
    """Show the passes that reached the shelf, of a run whose other passes wait."""

    show_run(shelf.runs.get(outcome.run), shelf.results.of_run(outcome.run), form, brief=brief)


def _show(shelf: Shelf, outcome: RunOutcome, form: str, telling: Telling) -> int:
    """Show the run's results, then raise its failure."""

    results, failure = shelf.results.of_run(outcome.run), outcome.failure
    # Who asked for JSON or CSV gets it, however little there is to tell.
    if results or failure is None or form != "table":
        try:
            record = shelf.runs.get(outcome.run)
            sheet = shelf.sheets.get(record.drive)
            show_run(
                *(record, results, form),
                each_pass=telling.each_pass,
                drive=sheet.drive,
                brief=telling.unattended.quiet,
            )
        except (OutputError, ReaderGone):
            # What stopped the run says more.
            if failure is None:
                raise
    if isinstance(failure, KeyboardInterrupt):
        stored = sum(len(r.passes) for r in results)
        raise RunInterrupted(
            f"interrupted; {stored} finished {'pass is' if stored == 1 else 'passes are'} on the "
            f"shelf as run {outcome.run}",
            f"to continue it: jovik resume {outcome.run}",
        )
    if failure is not None:
        raise failure
    # Whoever continued after errors did not ask to be told that all is well.
    failed = any(r.errors or r.findings.lost is not None for r in results)
    return DriveError.exit_status if failed else 0


def ask(ready: PreparedRun, consent: EnduranceConsent) -> None:
    """Ask before much of the drive's life is written away, or the system's own drive is filled."""

    above = ASK_ABOVE if consent.ask_above is None else consent.ask_above
    for question, beyond in ready.questions(above) if not consent.yes else ():
        if not sys.stdin.isatty():
            raise UsageError(f"{question}{beyond}", "add --yes if that is meant, or measure less")
        click.confirm(f"{question}. Continue?", abort=True, err=True)


def warm_up(session: Session) -> None:
    """Report that compiling takes several seconds, once after each installation."""
    notice = threading.Timer(
        1.5,
        click.echo,
        ("compiling the measuring loop, once after an installation ...",),
        {"err": True},
    )
    notice.daemon = True
    notice.start()
    try:
        session.warm_up()
    finally:
        notice.cancel()
