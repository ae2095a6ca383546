"""A request for a run.

Made of phrases or a plan, of an earlier run, or of verdicts that are too close to call.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import psutil

from jovik.analysis.claims import ClaimVerdict, Verdict, settling_goal
from jovik.analysis.settling import MOST_PASSES, SettlingGoal
from jovik.base.errors import UsageError
from jovik.base.plain_data import plain
from jovik.hardware.target import Target, resolve
from jovik.runs.identification import machine_id
from jovik.runs.repetition import RepetitionPolicy
from jovik.runs.task import Task, tasks_of
from jovik.shelf.records import typed
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf
from jovik.steps import IoStep, Plan, load_plan, parse

DEFAULT_PLAN = "first-look"
DYING_S = 2.0
"""How long a process that was killed a moment ago may take to give its memory back, seconds."""


@dataclass(frozen=True)
class RunRequest:
    """A request for a run: its steps and its options.

    Attributes
    ----------
    target : Target
    tasks : tuple of Task
    plan : str
        Its name, or ``phrases``.
    trimmed : tuple of str
        The omissions of a time budget, in words.
    engine, seed, stop_on_error, budget_ns
        See `jovik measure --help`.
    only_cost : bool
        Nothing will be measured: a raw device is opened for reading only, and counts as writable.
    destroy : str or None
        The serial of the raw device that was given up.
    content_worthless : bool
        Whether content of it that nobody can name may be overwritten.
    sample_name, rig_name, rig_notes, keep_serial
        The names of the sample and the rig.
    excluded : str or None
        Why the run counts for nothing from the start.
    rest : bool
        Whether a write rests first that would begin with a partly full write cache.
    """

    target: Target
    tasks: tuple[Task, ...]
    plan: str
    seed: int
    engine: str = "auto"
    stop_on_error: bool = True
    budget_ns: int | None = None
    trimmed: tuple[str, ...] = ()
    destroy: str | None = None
    only_cost: bool = False
    content_worthless: bool = False
    sample_name: str | None = None
    rig_name: str | None = None
    rig_notes: str = ""
    keep_serial: bool = False
    excluded: str | None = None
    rest: bool = True

    @property
    def until_steady(self) -> bool:
        """Return True if any of it is repeated until steady."""
        return any(t.tracked for t in self.tasks)

    def record(self) -> dict[str, Any]:
        """Return the stored form of the request, so that the run can be resumed and repeated."""

        return {
            "tasks": [
                {
                    "phrase": t.step.canonical,
                    "spare": t.drop_order,
                    "ladder": t.ladder,
                    "rounds": t.rounds,
                    "tracked": t.tracked,
                    "least": t.repeat.least,
                    "most": t.repeat.most,
                    "precision": t.repeat.precision,
                    "goal": plain(t.repeat.goal),
                }
                for t in self.tasks
            ],
            "engine": self.engine,
            "stop_on_error": self.stop_on_error,
            "rest": self.rest,
            "together": self.excluded is not None,
            "budget_ns": self.budget_ns,
            "machine": machine_id(),
            "process": {"pid": os.getpid(), "since": psutil.Process().create_time()},
        }


def request_for(
    target: str,
    phrases: Sequence[str] = (),
    plan: str | None = None,
    *,
    passes: tuple[int, int] | None = None,
    precision: float | None = None,
    seed: int | None = None,
    **more: Any,
) -> RunRequest:
    """Return an order of phrases, or of a plan.

    Parameters
    ----------
    target : str
        A folder, a raw device, or ``model:NAME``.
    plan : str, optional
        Its name, or the path of its TOML file; `DEFAULT_PLAN` if there are no phrases either. Of
        both, the phrases come after the plan.
    passes : (int, int), optional
        Fewest and most passes of each step; what the plan says unless given.
    precision : float, optional
        Stop repeating once half the interval is this share of the median.
    **more
        Fields of `RunRequest`.

    Raises
    ------
    UsageError
        A phrase or the plan cannot be read.
    TargetError
        See `jovik.hardware.target.resolve`.
    """

    chosen = Plan.of(tuple(phrases)) if phrases else load_plan(plan or DEFAULT_PLAN)
    if phrases and plan:
        # The plan's own order matters to what it finds, so that the phrases come after it.
        first = load_plan(plan)
        chosen = replace(first, lines=(*first.lines, *chosen.lines))
    if precision is not None and not 0 < precision < 1:
        raise UsageError(
            f"precision must be between 0 and 1, not {precision:g}", "for example 0.02"
        )
    number = seed if seed is not None else secrets.randbits(40)
    return RunRequest(
        target=resolve(target),
        tasks=tuple(tasks_of(chosen, passes, precision)),
        plan=chosen.name,
        seed=number,
        **more,
    )


def request_from_run(record: RunRecord, target: str | None = None, **more: Any) -> RunRequest:
    """Return the order of an earlier run: the same steps, passes and seed.

    Parameters
    ----------
    target : str, optional
        Where the drive hangs now; if it was unless given.

    Raises
    ------
    UsageError
        The run is from before runs were kept in full.
    """
    options = record.options
    return RunRequest(
        target=resolve(target or _word(record.target)),
        tasks=_tasks(options),
        plan=record.plan,
        seed=record.seed,
        engine=options["engine"],
        stop_on_error=options["stop_on_error"],
        rest=options.get("rest", True),
        budget_ns=options["budget_ns"],
        **more,
    )


def resume_request(
    shelf: Shelf, run: str | None, target: str | None = None, **more: Any
) -> tuple[RunRecord, RunRequest]:
    """Return a run that was not finished, or the last such one, and its order.

    Raises
    ------
    UsageError
        It is finished or still going on, or there is none.
    UnknownNameError
        There is no such run.
    """
    key = run or shelf.runs.latest(("running", "interrupted", "failed"))
    if key is None:
        raise UsageError(
            "every run on this shelf is finished",
            "begin one: jovik measure TARGET --drive NAME; or repeat one: jovik repeat RUN",
        )
    record = shelf.runs.get(key)
    _refuse_unless_open(record)
    return record, request_from_run(record, target, rig_name=record.rig, **more)


SETTLING_WRITE_NS = 300 * 10**6
"""A pass that settles a writing claim is so long, where the passes so far were as fast at once.

It wears the drive less than a whole second does.
"""


def request_for_undecided(
    verdicts: Sequence[ClaimVerdict],
    target: str,
    margin: float,
    even: Callable[[ClaimVerdict], bool] = lambda _: False,
) -> RunRequest | None:
    """Return a request for undecided claims, each step repeated until its claim is settled.

    None if nothing is that more passes could settle.

    Parameters
    ----------
    even : callable
        Whether the passes of a verdict were as fast in their first `SETTLING_WRITE_NS` as on the
        whole, so that shorter ones measure the same.
    """

    open_ones = {
        j.step.phrase: j
        for j in verdicts
        if j.step is not None
        and j.verdict in (Verdict.CLOSE, Verdict.ONE_PASS)
        and not j.claim.sustained
        and not j.on_margin
    }
    tasks = []
    for phrase, j in open_ones.items():
        step = parse(phrase)
        remaining = MOST_PASSES - len(j.passes)
        if remaining <= 0:
            continue
        if step.writes:
            # So many writes one after the other would measure where the write cache ends.
            tasks.append(Task(parse("rest until recovered"), RepetitionPolicy(1, 1)))
            if isinstance(step, IoStep) and not step.has_amount and even(j):
                step = replace(step, time_ns=SETTLING_WRITE_NS)
        goal = settling_goal(j, margin)
        tasks.append(Task(step, RepetitionPolicy(1, remaining, goal=goal)))
    return (
        RunRequest(
            target=resolve(target), tasks=tuple(tasks), plan="settling", seed=secrets.randbits(40)
        )
        if tasks
        else None
    )


def _tasks(record: Mapping[str, Any]) -> tuple[Task, ...]:
    """Return the tasks of a run as the shelf holds them."""

    if "tasks" not in record:
        raise UsageError(
            "this run is of an earlier Jovik, which did not keep its plan",
            "measure again: jovik measure TARGET --drive NAME",
        )
    return tuple(
        Task(
            parse(t["phrase"]),
            RepetitionPolicy(
                t["least"],
                t["most"],
                t["precision"],
                typed(SettlingGoal, t["goal"], "a goal") if t.get("goal") else None,
            ),
            t["spare"],
            t.get("ladder"),
            t.get("rounds"),
            t.get("tracked", False),
        )
        for t in record["tasks"]
    )


def _word(target: Mapping[str, Any]) -> str:
    """Return the word that names a target, from the record of a run."""
    return f"model:{target['name']}" if target["kind"] == "model" else str(target["path"])


def _refuse_unless_open(record: RunRecord) -> None:
    """Refuse a run that is finished, or that another process is still measuring."""
    if record.state == "done":
        raise UsageError(
            f"run {record.id} is finished", f"to do the same again: jovik repeat {record.id}"
        )
    refuse_while_going_on(record)


def refuse_while_going_on(record: RunRecord) -> None:
    """Refuse a run that another process is still at.

    Raises
    ------
    UsageError
        It is.
    """

    process = record.options.get("process", {})
    try:
        other_process = psutil.Process(process["pid"])
        alive = (
            record.state == "running"
            and other_process.create_time() == process["since"]
            and other_process.status() != psutil.STATUS_ZOMBIE
        )
        if alive:
            # One that was killed a moment ago may still be giving its memory back.
            other_process.wait(DYING_S)
            alive = False
    except psutil.TimeoutExpired:
        alive = True
    except (psutil.Error, KeyError):
        alive = False
    if alive:
        raise UsageError(
            f"run {record.id} is still going on, in process {process['pid']}",
            "wait for it, or stop it first",
        )
