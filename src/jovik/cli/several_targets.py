"""`jovik measure` on several targets: one run each, then all together, then their ranking."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import click

from jovik.analysis.step_result import StepResult
from jovik.analysis.together import TogetherFigure, together_figures, totals
from jovik.answers.rank import ranking_data
from jovik.base.errors import JovikError, RunInterrupted, UsageError
from jovik.base.interruption import interruptible
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.progress_display import result_words
from jovik.cli.run_flow import EnduranceConsent, Telling, carry_out, warm_up
from jovik.cli.run_output import CSV_HEADER, csv_rows, run_document, show_run
from jovik.cli.terminal_table import show_notes, show_table
from jovik.hardware.sharing import shared_by
from jovik.queries.ranking import Filter, RankingReport, ranking_report
from jovik.runs import Enrolment, RunOutcome, RunRequest, fit_budget, prepared, sheet_for, start_run
from jovik.runs.several import LeftOutDrive, device_under, refuse_shared
from jovik.runs.together import execute_together, together_request
from jovik.shelf.store import Shelf
from jovik.tables.announcement import enrolment_line
from jovik.tables.ranking import overall_table, ranking_foot, steps_table
from jovik.tables.together import SharedPath, together_json, together_table


@dataclass(frozen=True)
class SeveralTargets:
    """The steps and targets of one command.

    `words` are the targets as they were named; `name` is the drive's where all of it is one drive.
    With `each_pass` the passes are shown too.
    """

    requests: tuple[RunRequest, ...]
    words: tuple[str, ...]
    left_out: tuple[LeftOutDrive, ...]
    name: str | None
    together: bool
    each_pass: bool = False


@dataclass
class _Evening:
    """The results so far: the runs by target, and failures."""

    runs: dict[str, str] = field(default_factory=dict)
    drives: dict[str, str] = field(default_factory=dict)
    failures: dict[str, JovikError] = field(default_factory=dict)


def run_several(
    shelf: Shelf,
    asked: SeveralTargets,
    form: str,
    *,
    consent: EnduranceConsent,
    dry_run: bool,
) -> int:
    """Measure each target in a run of its own, rank the drives, and return the exit status.

    A target that fails does not take the others.

    Raises
    ------
    RunInterrupted
        The user ended it, with the command that continues it.
    """

    if asked.name is not None and len(asked.requests) > 1:
        raise UsageError(
            "--drive names one drive, and there are several targets",
            "leave it out: each drive is known by its serial or model, or enrolled",
        )
    if asked.together:
        for request in asked.requests:
            together_request(request, asked.words)
    else:
        refuse_shared([o.target for o in asked.requests])
    for omitted in asked.left_out:
        echo(f"left out: {omitted.node} ({omitted.name}): {omitted.why}", err=True)
    done = _Evening()
    for number, (word, request) in enumerate(zip(asked.words, asked.requests, strict=True)):
        try:
            outcome = _one(shelf, asked, word, request, done, consent, dry_run)
        except JovikError as error:
            _fail(done, word, error)
            continue
        if outcome is None:
            continue
        done.runs[word] = outcome.run
        if isinstance(outcome.failure, KeyboardInterrupt):
            left_words = asked.words[number + 1 :]
            raise RunInterrupted(
                f"interrupted in run {outcome.run} on {word}"
                + (f"; not started: {', '.join(left_words)}" if left_words else ""),
                f"to continue it: jovik resume {outcome.run}",
            )
        if form == "table":
            _show_run(shelf, outcome.run, each_pass=asked.each_pass)
        if outcome.lost is not None or outcome.failure is not None:
            _fail(done, word, outcome.lost or outcome.failure)
    if dry_run:
        return 0
    together = _together(shelf, asked, done) if asked.together else None
    _show(shelf, asked, done, together, form)
    codes = [e.exit_status for e in done.failures.values()]
    return codes[0] if codes else 0


def _one(
    shelf: Shelf,
    asked: SeveralTargets,
    word: str,
    request: RunRequest,
    done: _Evening,
    consent: EnduranceConsent,
    dry_run: bool,
) -> RunOutcome | None:
    """Return the run of one target."""

    enrolment: Enrolment = sheet_for(shelf, request.target, asked.name, enrol=not dry_run)
    done.drives[word] = enrolment.sheet.drive.name
    number = asked.words.index(word) + 1
    first = "\n".join(
        x
        for x in (f"target {number} of {len(asked.words)}: {word}", enrolment_line(enrolment))
        if x
    )
    fitting = fit_budget(request, enrolment.sheet)
    return carry_out(
        shelf, enrolment.sheet, fitting, consent=consent, dry_run=dry_run, telling=Telling(first)
    )


def _fail(done: _Evening, word: str, error: Any) -> None:
    done.failures[word] = error
    echo(f"{word}: {error.message}" + (f"\n  {error.hint}" if error.hint else ""), err=True)


def _show_run(shelf: Shelf, key: str, *, each_pass: bool) -> None:

    record = shelf.runs.get(key)
    drive = shelf.sheets.get(record.drive).drive
    show_run(record, shelf.results.of_run(key), "table", each_pass=each_pass, drive=drive)
    click.echo()


def _together(
    shelf: Shelf, asked: SeveralTargets, done: _Evening
) -> tuple[list[TogetherFigure], SharedPath] | None:
    """Return all targets that were measured alone, at the same moment."""

    words = [w for w in asked.words if w in done.runs and w not in done.failures]
    if len(words) < 2:
        echo("fewer than two targets are left to measure together", err=True)
        return None
    requests = {w: asked.requests[asked.words.index(w)] for w in words}
    with contextlib.ExitStack() as stack:
        runs = []
        for word in words:
            others = [done.drives[w] for w in words if w != word]
            request = together_request(requests[word], others)
            ready = stack.enter_context(prepared(shelf.sheets.get(done.drives[word]), request))
            warm_up(ready.session)
            runs.append((ready, start_run(shelf, ready)))
        echo(f"now all {len(words)} at the same moment", err=True)
        with interruptible(later="exit"):
            outcomes, in_step = execute_together(runs, _say_finished)
    failed = [o for o in outcomes if o.failure is not None]
    if any(isinstance(o.failure, KeyboardInterrupt) for o in failed):
        raise RunInterrupted("interrupted while measuring together", "the runs alone are complete")
    for word, outcome in zip(words, outcomes, strict=True):
        if outcome.failure is not None:
            _fail(done, f"{word}, together", outcome.failure)
    labels = _labels(words, done)
    alone = {labels[w]: shelf.results.of_run(done.runs[w]) for w in words}
    both = {labels[w]: shelf.results.of_run(o.run) for w, o in zip(words, outcomes, strict=True)}
    devices = [d for w in words if (d := device_under(requests[w].target)) is not None]
    shared = shared_by(devices) if len(devices) == len(words) else []
    if len({d.name for d in devices}) < len(devices):
        shared = [f"one drive ({devices[0].node})", *shared]
    return together_figures(alone, both), SharedPath(tuple(shared), in_step, totals(both))


def _labels(words: Sequence[str], done: _Evening) -> dict[str, str]:
    """Return the drives' names, or the targets' own if two are the same drive."""
    names = [done.drives[w] for w in words]
    return {w: n if names.count(n) == 1 else w for w, n in zip(words, names, strict=True)}


def _say_finished(result: StepResult) -> None:

    echo(f"{result.phrase}: {result_words(result)}", err=True)


def _ranked(shelf: Shelf, done: _Evening) -> RankingReport | None:
    """Return the ranking of just these drives, or None if fewer than two have figures."""

    names = tuple(dict.fromkeys(done.drives[w] for w in done.runs))
    if len(names) < 2:
        return None
    try:
        return ranking_report(shelf, only=replace(Filter(), names=names))
    except UsageError:
        return None


def _show(
    shelf: Shelf,
    asked: SeveralTargets,
    done: _Evening,
    together: tuple[list[TogetherFigure], SharedPath] | None,
    form: str,
) -> None:

    report = _ranked(shelf, done)
    every = [(shelf.runs.get(k), shelf.results.of_run(k)) for k in done.runs.values()]
    if form == "json":
        emit_json(
            {
                "runs": [run_document(run, results) for run, results in every],
                "failed": [
                    {"target": w, "error": e.message, "status": e.exit_status}
                    for w, e in done.failures.items()
                ],
                "left_out": [
                    {"node": x.node, "name": x.name, "why": x.why} for x in asked.left_out
                ],
                "together": together_json(*together) if together is not None else None,
                "ranking": ranking_data(report.ranking) if report is not None else None,
            },
            "runs-of-targets",
        )
    elif form == "csv":
        emit_csv(CSV_HEADER, [row for run, results in every for row in csv_rows(run, results)])
    else:
        if together is not None:
            show_table(together_table(*together))
            click.echo()
        if report is not None and report.ranking.drives:
            show_table(overall_table(report))
            click.echo()
            show_table(steps_table(report))
            show_notes(ranking_foot(report))
