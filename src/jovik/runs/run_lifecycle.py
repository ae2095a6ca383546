"""Carrying an order out.

The drive is met, its run begun or resumed, every finished pass put on the shelf, and its log
read again.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace

from jovik.analysis.step_result import StepResult
from jovik.base.errors import JovikError, ShelfError, TargetError
from jovik.base.fault_errors import environment_error
from jovik.base.interruption import take_notice
from jovik.base.version import VERSION
from jovik.runs.context import Observer, ResumedStep, RunContext, RunOptions
from jovik.runs.identification import (
    IdentifiedTarget,
    health_notes,
    health_of,
    identify,
    machine_id,
    wear_of,
)
from jovik.runs.pass_store import PassStore
from jovik.runs.plan_loop import run_plan
from jovik.runs.prepare import PreparedRun
from jovik.runs.write_cache import watch_for
from jovik.shelf.store import Shelf
from jovik.shelf.writer import RunWriter


@dataclass(frozen=True)
class RunOutcome:
    """The outcome of a run.

    Its name, its failure, and whether its last passes still wait for the shelf.
    """

    run: str
    failure: KeyboardInterrupt | JovikError | None = None
    lost: ShelfError | None = None


@dataclass(frozen=True)
class StartedRun:
    """A run that is about to start.

    The drive that was met, where passes go, what an earlier process has finished, and the newest
    results of the drive before it.
    """

    identified: IdentifiedTarget
    writer: RunWriter
    done: dict[int, ResumedStep]
    earlier: tuple[StepResult, ...] = ()


def start_run(shelf: Shelf, ready: PreparedRun, resumed: str | None = None) -> StartedRun:
    """Identify the drive and its sample, and start or resume the run.

    Raises
    ------
    TargetError
        The run to go on with was on another sample or another rig.
    """
    request, drive = ready.request, ready.sheet.drive.name
    identified = identify(
        shelf,
        drive,
        request.target,
        request.rig_name,
        request.rig_notes,
        request.sample_name,
        request.keep_serial,
    )
    earlier = tuple(shelf.results.latest(drive))
    if resumed is None:
        writer = shelf.additions.begin_run(
            drive,
            identified.rig,
            request.target.describe(),
            request.plan,
            request.seed,
            request.record(),
            VERSION,
            sample_id=identified.sample_id,
            device=identified.record,
            excluded=request.excluded,
            circumstances=[asdict(c) for c in identified.circumstances],
        )
        return StartedRun(identified, writer, {}, earlier)

    run = shelf.runs.get(resumed)
    if run.unit_id != identified.sample_id:
        raise TargetError(
            f"run {resumed} was on another sample of {drive}",
            "attach that one again, or begin anew: jovik measure",
        )
    here, elsewhere = machine_id(), run.options.get("machine", {})
    if here != elsewhere:
        differing = ", ".join(
            f"{k} {elsewhere.get(k) or '?'} / {here.get(k) or '?'}"
            for k in here
            if here[k] != elsewhere.get(k)
        )
        raise TargetError(
            f"run {resumed} was on another rig ({differing})",
            "continue there, or begin a new run here: jovik measure",
        )
    done: dict[int, ResumedStep] = {}
    for one in shelf.runs.passes(resumed):
        step = done.setdefault(one.position, ResumedStep(PassStore(), one.whole))
        step.traces.append(one.trace)
    return StartedRun(
        identified, shelf.additions.resume_run(resumed, request.record()), done, earlier
    )


def execute(
    ready: PreparedRun,
    begun: StartedRun,
    observer: Observer,
) -> RunOutcome:
    """Run the plan. Its failure is part of the outcome, so that the results can be shown."""

    request, identified, writer = ready.request, begun.identified, begun.writer
    healthy = health_of(identified.device)
    run_conditions = replace(
        identified.run_conditions,
        heat_limit_c=healthy.warning_c if healthy else identified.run_conditions.heat_limit_c,
    )
    context = RunContext(
        ready.session,
        run_conditions,
        # Rounds are never cut short: what a budget takes of such a plan is its range.
        RunOptions(
            request.seed,
            request.stop_on_error,
            None if request.until_steady else request.budget_ns,
            request.rest,
        ),
        writer,
        observer,
        earlier=begun.earlier,
        device_wear=lambda: wear_of(identified.device) if healthy is not None else None,
        cache=watch_for(begun.earlier, ready.session.capacity_bytes(), ready.sheet.drive.medium),
    )
    failure: KeyboardInterrupt | JovikError | None = None
    state = "done"
    try:
        run_plan(request.tasks, context, begun.done)
    except KeyboardInterrupt as stop:
        take_notice()
        failure, state = stop, "interrupted"
    except JovikError as error:
        failure, state = error, "failed"
    except BaseException as error:
        state = "failed"
        failure = environment_error(error)
        if failure is None:
            raise
    finally:
        try:
            writer.close(state)
        except ShelfError:
            # What stopped the run says it better; the run stays open, to be gone on with.
            if not isinstance(failure, ShelfError):
                raise
    if healthy is not None and state != "interrupted":
        after = health_of(identified.device)
        writer.health(healthy, after, health_notes(healthy, after, writer.written_bytes))
    try:
        writer.flush()
    except ShelfError as lost:
        return RunOutcome(writer.id, failure, lost)
    return RunOutcome(writer.id, failure)
