"""Running a plan from a command: opening the target, the cost and the asking, the run itself, and what stopped it.

`measure` begins a run, `repeat` begins one like an earlier one, and `resume` goes on with one; all three come here.
"""

from __future__ import annotations

import os
import signal
import sys
import threading
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.identity import health_notes, health_of, identify, machine, system_drive
from jovik.units import show_rate, show_size, show_time

if TYPE_CHECKING:
    from jovik.bench import Cost, Done, Task
    from jovik.cli.identity import Identity
    from jovik.cli.progress import Screen
    from jovik.phrase import Step
    from jovik.protocol import Session
    from jovik.results import Conditions, StepResult, Trace
    from jovik.sheet import Sheet
    from jovik.shelf.store import Shelf
    from jovik.shelf.writer import RunWriter
    from jovik.target import Target

ASK_ABOVE = 0.01
"""The share of the endurance rating from which on a run asks first."""


@dataclass(frozen=True)
class Order:
    """What is to be run, and how.

    Attributes
    ----------
    target : Target
    tasks : tuple of Task
    plan : str
        Its name, or ``phrases``.
    trimmed : tuple of str
        What a time budget took away, in words.
    engine, seed, stop_on_error, budget_ns
        See `jovik measure --help`.
    destroy : str or None
        The serial of the raw device that was given up.
    unit_name, rig_name, rig_notes, keep_serial
        What the unit and the rig are called.
    ask_above : float
        Share of the endurance rating; a run that writes more asks first.
    yes : bool
        Do not ask.
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
    unit_name: str | None = None
    rig_name: str | None = None
    rig_notes: str = ""
    keep_serial: bool = False
    ask_above: float = ASK_ABOVE
    yes: bool = False


def order_record(order: Order) -> dict[str, Any]:
    """What the shelf keeps of an order, so that it can be resumed and repeated."""
    import psutil

    return {
        "tasks": [
            {"phrase": t.step.canonical, "spare": t.spare, "ladder": t.ladder, "least": t.repeat.least, "most": t.repeat.most,
             "precision": t.repeat.precision} for t in order.tasks
        ],
        "engine": order.engine, "stop_on_error": order.stop_on_error, "budget_ns": order.budget_ns, "machine": machine(),
        "process": {"pid": os.getpid(), "since": psutil.Process().create_time()},
    }  # fmt: skip


def tasks_from(record: Mapping[str, Any]) -> tuple[Task, ...]:
    """The tasks of a run as the shelf holds them.

    Raises
    ------
    Misuse
        It is from before runs were kept in full.
    """
    from jovik.bench import Repeat, Task
    from jovik.errors import Misuse
    from jovik.phrase import parse

    if "tasks" not in record:
        raise Misuse("this run is of an earlier Jovik, which did not keep its plan", "measure again: jovik measure TARGET --drive NAME")
    return tuple(Task(parse(t["phrase"]), Repeat(t["least"], t["most"], t["precision"]), t["spare"], t.get("ladder")) for t in record["tasks"])


def open_session(order: Order) -> Any:
    """A session on the order's target.

    Raises
    ------
    Misuse
        Permission to destroy was given for what is no raw device.
    TargetRefused
        The plan writes to a raw device and something stands in the way.
    """
    from jovik.errors import Misuse
    from jovik.target import DeviceTarget, ModelTarget
    from jovik.target.safety import refuse_unless_destroyable

    place = order.target
    if not isinstance(place, DeviceTarget):
        if order.destroy is not None:
            raise Misuse("--destroy is for raw devices", "a folder or a model drive needs no such thing: nothing of anybody's is overwritten")
        if isinstance(place, ModelTarget):
            from jovik.model import ModelSession, load_model

            return ModelSession(load_model(place.name))
        from jovik.engine.session import FileSession

        return FileSession(place.path, order.engine, order.seed)
    from jovik.engine.raw import RawDevice
    from jovik.engine.session import FileSession

    writes = any(t.step.writes for t in order.tasks)
    if order.destroy is not None or writes:
        refuse_unless_destroyable(place.device, order.destroy, system_drive())
    device = place.device
    allowed = order.destroy is not None or writes
    raw = RawDevice(
        Path(device.node), writable=allowed, capacity_bytes=device.capacity_bytes, logical_block_bytes=device.logical_block_bytes
    )  # fmt: skip
    return FileSession(raw, order.engine, order.seed)


def run_order(shelf: Shelf, sheet: Sheet, order: Order, form: str, *, dry_run: bool = False, resumed: str | None = None) -> int:
    """Run it and show what came of it.

    Parameters
    ----------
    resumed : str, optional
        The run to go on with.

    Raises
    ------
    JovikError
        Whatever stopped it, after what was measured has been shown.
    """
    from jovik.bench import check_plan, cost_of, time_of
    from jovik.cli.progress import screen_for
    from jovik.cli.steps import show_run
    from jovik.errors import Interrupted, JovikError, ShelfLost

    with open_session(order) as session:
        check_plan(order.tasks, session)
        rate = assumed_rate(sheet)
        cost = cost_of(order.tasks, session, rate)
        times = [time_of(t, session, rate) for t in order.tasks]
        drive = sheet.drive.name
        with screen_for(f"{drive}: {order.plan}", order.tasks, times, order.budget_ns) as screen:
            if shelf.delivered:
                screen.say(f"{shelf.delivered} passes that had waited on this machine are on the shelf now")
            screen.say(announcement(sheet, order, session, cost, rate))
            if dry_run:
                return 0
            _ask(sheet, cost, rate, order, session)
            _warm_up(session)
            known = identify(shelf, drive, order.target, order.rig_name, order.rig_notes, order.unit_name, order.keep_serial)
            for warning in known.warnings:
                screen.say(f"look: {warning}")
            writer, done = _writer(shelf, drive, order, known, resumed)
            failure = _run(shelf, known, session, order, writer, done, screen)
            try:
                writer.settle()
            except ShelfLost:
                if isinstance(failure, JovikError):
                    screen.say(failure.message)
                raise
        results = shelf.results_of_run(writer.id)
    # Who asked for JSON or CSV gets it, however little there is to tell.
    if results or failure is None or form != "table":
        show_run(shelf.run(writer.id), results, form)
    if isinstance(failure, KeyboardInterrupt):
        kept = sum(len(r.passes) for r in results)
        raise Interrupted(
            f"interrupted; {kept} finished {'pass is' if kept == 1 else 'passes are'} on the shelf as run {writer.id}",
            f"to go on with it: jovik resume {writer.id}",
        )
    if failure is not None:
        raise failure
    return 0


def _writer(shelf: Shelf, drive: str, order: Order, known: Identity, resumed: str | None) -> tuple[RunWriter, dict[int, Done]]:
    """Where passes go: a new run, or the one that is gone on with and what it has."""
    from jovik import __version__
    from jovik.bench import Done
    from jovik.errors import TargetRefused

    if resumed is None:
        record = order_record(order)
        writer = shelf.begin_run(
            drive, known.rig, order.target.describe(), order.plan, order.seed, record, __version__, unit_id=known.unit_id, device=known.record
        )  # fmt: skip
        return writer, {}
    run = shelf.run(resumed)
    if run.unit_id != known.unit_id:
        raise TargetRefused(f"run {resumed} was on another unit of {drive}", "attach that one again, or begin anew: jovik measure")
    here, there = machine(), run.options.get("machine", {})
    if here != there:
        differing = ", ".join(f"{k} {there.get(k) or '?'} / {here.get(k) or '?'}" for k in here if here[k] != there.get(k))
        raise TargetRefused(f"run {resumed} was on another rig ({differing})", "go on there, or begin anew here: jovik measure")
    done = {position: Done(traces, finished) for position, (traces, finished) in shelf.done_of(resumed).items()}
    return shelf.resume_run(resumed, order_record(order)), done


def assumed_rate(sheet: Sheet) -> float:
    """What the drive is taken to write, bytes a second, for times and amounts beforehand: its claim, halved, since claims are of the best case."""
    from jovik.bench import ASSUMED_BYTES_S

    claimed = [c.figure for c in sheet.claims if not c.random and c.unit == "bytes/s" and c.read_percent == 0]
    return min(claimed) / 2 if claimed else ASSUMED_BYTES_S


def endurance_share(sheet: Sheet, cost: Cost, rate: float) -> float | None:
    """The share of the endurance rating that a run takes; None where there is no rating."""
    rated = sheet.drive.endurance_bytes
    return cost.written_bytes(rate) / rated if rated else None


def _ask(sheet: Sheet, cost: Cost, rate: float, order: Order, session: Session) -> None:
    """Ask before much of the drive's life is written away; a model drive has none to lose."""
    from jovik.errors import Misuse

    share = endurance_share(sheet, cost, rate)
    if share is None or share <= order.ask_above or order.yes or session.engine == "model":
        return
    said = f"this writes {100 * share:.1f} % of the drive's endurance rating"
    if not sys.stdin.isatty():
        raise Misuse(f"{said}, more than {100 * order.ask_above:g} %", "add --yes if that is meant, or measure less")
    click.confirm(f"{said}. Go on?", abort=True, err=True)


def _warm_up(session: Session) -> None:
    """Compiling takes several seconds, once after each installation; who waits should know why."""
    notice = threading.Timer(1.5, click.echo, ("compiling the measuring loop, once after an installation ...",), {"err": True})
    notice.daemon = True
    notice.start()
    try:
        session.warm_up()
    finally:
        notice.cancel()


def _run(
    shelf: Shelf, known: Identity, session: Session, order: Order, writer: RunWriter, done: dict[int, Done], screen: Screen
) -> BaseException | None:  # fmt: skip
    """Run the plan; what stopped it comes back, so that what was measured can be shown."""
    from jovik.bench import Bench, RunOptions, run_plan
    from jovik.errors import JovikError

    healthy = health_of(known.device)
    setting = replace(known.setting, heat_limit_c=healthy.warning_c if healthy else known.setting.heat_limit_c)
    bench = Bench(session, setting, RunOptions(order.seed, order.stop_on_error, order.budget_ns), Patient(writer), screen)
    before, patient = signal.getsignal(signal.SIGTERM), signal.getsignal(signal.SIGINT)
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    signal.signal(signal.SIGINT, _first_interrupt)
    failure: BaseException | None = None
    state = "done"
    try:
        run_plan(order.tasks, bench, done)
    except KeyboardInterrupt as stop:
        failure, state = stop, "interrupted"
    except JovikError as error:
        failure, state = error, "failed"
    finally:
        signal.signal(signal.SIGTERM, before)
        signal.signal(signal.SIGINT, patient)
        writer.close(state)
    if healthy is not None and state != "interrupted":
        after = health_of(known.device)
        writer.health(healthy, after, health_notes(healthy, after, writer.written_bytes))
    return failure


@dataclass
class Patient:
    """A sink that is ready for another interrupt once a pass is safe: one that only a person ends was ended by the first, and the run goes on."""

    writer: RunWriter

    def step_begun(self, position: int, step: Step, conditions: Conditions) -> None:
        """See `jovik.bench.Sink`."""
        self.writer.step_begun(position, step, conditions)

    def pass_done(self, position: int, number: int, trace: Trace) -> None:
        """See `jovik.bench.Sink`."""
        self.writer.pass_done(position, number, trace)
        signal.signal(signal.SIGINT, _first_interrupt)

    def step_done(self, position: int, result: StepResult) -> None:
        """See `jovik.bench.Sink`."""
        self.writer.step_done(position, result)

    def laid_out(self, written_bytes: int) -> None:
        """See `jovik.bench.Sink`."""
        self.writer.laid_out(written_bytes)


def _first_interrupt(*_: Any) -> None:
    """End the pass; whoever asks twice is gone at once, and the finished passes are on the shelf all the same."""
    signal.signal(signal.SIGINT, lambda *_: os._exit(130))
    raise KeyboardInterrupt


def announcement(sheet: Sheet, order: Order, session: Session, cost: Cost, rate: float) -> str:
    """What is about to happen: how long, what is written, and where."""
    count = f"{len(order.tasks)} {'step' if len(order.tasks) == 1 else 'steps'}"
    fewest, most = min(t.repeat.least for t in order.tasks), max(t.repeat.most for t in order.tasks)
    times = f"{most}" if fewest == most else f"{fewest} to {most}"
    times += " pass" if times == "1" else " passes"
    limit = min(cost.time_ns, order.budget_ns) if order.budget_ns is not None else cost.time_ns
    upper = any(t.repeat.least != t.repeat.most for t in order.tasks)
    lasts = "until you stop it" if cost.endless else f"{'at most ' if upper else ''}about {show_time(limit)}"
    lines = [
        f"{sheet.drive.name}: {order.plan}, {count} of {times}, {lasts}, engine {session.engine}"
        f"{'' if session.direct else ', through the operating system cache'}",
        _amounts(order, session, cost, rate, "at most " if upper else ""),
    ]
    share = endurance_share(sheet, cost, rate)
    if share is not None and cost.written_bytes(rate):
        lines.append(f"{'less than 0.1' if share < 0.001 else f'about {100 * share:.2g}'} % of its endurance rating")
    if order.budget_ns is not None and order.trimmed:
        lines.append(f"to stay within {show_time(order.budget_ns)}: {'; '.join(order.trimmed)}")
    return "\n".join(lines)


def _amounts(order: Order, session: Session, cost: Cost, rate: float, at_most: str) -> str:
    from jovik.target import DeviceTarget, FolderTarget

    writes = [show_size(cost.certain_bytes)] if cost.certain_bytes else []
    if cost.writing_ns:
        writes.append(f"what the drive takes in {show_time(cost.writing_ns)} (at {show_rate(rate)}: {show_size(cost.writing_ns / 1e9 * rate)})")
    amount = f"{at_most}{' and '.join(writes)}" if writes else "nothing"
    space = show_size(cost.space_bytes)
    target = order.target
    if isinstance(target, FolderTarget):
        return f"writes {amount} in {target.path}, in test files of at most {space} that are gone afterwards"
    if isinstance(target, DeviceTarget):
        node = target.device.node
        if not writes:
            return f"reads {space} of {node}, and writes nothing"
        return f"writes {amount} to the first {space} of {node}: what is there is lost"
    return f"writes {amount} on a virtual clock: nothing is really written"
