"""`jovik measure`: from a target and phrases to passes on the shelf and a table."""

from __future__ import annotations

import os
import secrets
import signal
import stat
import threading
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.identity import health_notes, health_of, identify, system_drive
from jovik.cli.options import Converted, count_range, format_option, percent, shelf_option
from jovik.units import parse_time, show_size, show_time

if TYPE_CHECKING:
    from jovik.bench import Cost, Repeat, RunOptions
    from jovik.cli.identity import Identity
    from jovik.cli.progress import Progress
    from jovik.phrase import Plan
    from jovik.protocol import Session
    from jovik.shelf.store import Shelf
    from jovik.target import Target


@click.command()
@click.argument("target")
@click.argument("phrases", nargs=-1, metavar="[PHRASE]...")
@click.option("--drive", "name", metavar="NAME", help="The drive on the shelf that this is. A model drive brings its own sheet.")
@click.option("--plan", "plan_name", metavar="NAME", help="A plan, or the path of its .toml file. Default, without phrases: first-look.")
@click.option("--passes", type=Converted("N or A..B", count_range), help="Passes of each step. Default: what the plan says; 5 for phrases.")
@click.option("--precision", type=Converted("SHARE", percent), help="Stop repeating once the interval is this narrow, such as 2%.")
@click.option("--budget", type=Converted("TIME", parse_time), help="Time for all steps together, such as 5min.")
@click.option("--engine", type=click.Choice(["auto", "io_uring", "blocking"]), default="auto", show_default=True, help="How I/O is done.")
@click.option("--on-error", type=click.Choice(["stop", "continue"]), default="stop", show_default=True, help="At an I/O error.")
@click.option("--seed", type=click.IntRange(0, 2**62), help="Of offsets and payload; the same seed does the same I/O.")
@click.option("--unit", "unit_name", metavar="NAME", help="A name for this sample of the drive. Default: unit 1, unit 2 ... by serial.")
@click.option("--rig", "rig_name", metavar="NAME", help="A name for this machine, port and cable. Default: the machine's.")
@click.option("--rig-notes", default="", metavar="TEXT", help="What should be known of the rig: cable, enclosure, port.")
@click.option("--keep-serial", is_flag=True, help="Keep the unit's serial on the shelf in full, not only its digest.")
@click.option("--destroy", metavar="SERIAL", help="Allow writing the raw device of this serial; everything on it is lost.")
@click.option("--dry-run", is_flag=True, help="Say what would be done, and write nothing.")
@format_option()
@shelf_option
def measure(
    target: str,
    phrases: tuple[str, ...],
    name: str | None,
    plan_name: str | None,
    passes: tuple[int, int] | None,
    precision: float | None,
    budget: int | None,
    engine: str,
    on_error: str,
    seed: int | None,
    destroy: str | None,
    unit_name: str | None,
    rig_name: str | None,
    rig_notes: str,
    keep_serial: bool,
    dry_run: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Measure TARGET, a folder on the drive or a model drive (model:NAME), step by step.

    A PHRASE is one step. Each finished pass is on the shelf before the next begins; no test file is left behind.

    \b
    jovik measure /mnt/new --drive "Comet 2TB"
    jovik measure . --drive "Comet 2TB" "random read 4KiB depth 32 for 5s" --passes 7
    jovik measure model:drift
    """
    from jovik.bench import RunOptions, cost_of
    from jovik.cli.progress import Progress
    from jovik.cli.steps import show_run
    from jovik.errors import Interrupted, Misuse
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf
    from jovik.target import resolve

    if phrases and plan_name:
        raise Misuse("both --plan and phrases were given", "give one of the two")
    plan = _plan(phrases, plan_name)
    repeat = _repeat(plan, passes, precision, budget)
    place = resolve(target)
    allowed = _may_destroy(place, plan, destroy)
    options = RunOptions(repeat, seed if seed is not None else secrets.randbits(40), on_error == "stop")
    with Shelf(where_from(shelf_at), create=True) as shelf:
        drive_name = _drive(shelf, place, name)
        with _open(place, engine, options.seed, allowed) as session, Progress(len(plan.steps), repeat.most) as progress:
            cost = cost_of(plan.steps, repeat.most, session)
            _check(session, plan)
            progress.say(announcement(drive_name, target, session, plan, repeat, cost))
            if dry_run:
                return 0
            _warm_up(session)
            known = identify(shelf, drive_name, place, rig_name, rig_notes, unit_name, keep_serial)
            for warning in known.warnings:
                progress.say(f"look: {warning}")
            writer, failure = _run(shelf, drive_name, known, place, session, plan, options, progress)
        results = shelf.results_of_run(writer.id)
        # Who asked for JSON or CSV gets it, however little there is to tell.
        if results or failure is None or form != "table":
            show_run(shelf.run(writer.id), results, form)
        if isinstance(failure, KeyboardInterrupt):
            kept = sum(len(r.passes) for r in results)
            raise Interrupted(f"interrupted; {kept} finished {'pass is' if kept == 1 else 'passes are'} on the shelf as run {writer.id}")
        if failure is not None:
            raise failure
    return 0


def _plan(phrases: Sequence[str], plan_name: str | None) -> Plan:
    from jovik.phrase import Plan, load_plan, parse

    if phrases:
        return Plan("phrases", "Phrases", "", tuple(parse(p) for p in phrases))
    return load_plan(plan_name or "first-look")


def _repeat(plan: Plan, passes: tuple[int, int] | None, precision: float | None, budget: int | None) -> Repeat:
    from jovik.bench import Repeat

    if passes is not None:
        least, most = passes
        # With only an upper wish to stop early there must be something to stop for.
        wanted = precision if precision is not None or least == most else 0.02
        return Repeat(least, most, wanted, budget)
    if precision is not None:
        return Repeat(3, max(plan.passes, 30), precision, budget)
    return Repeat(plan.passes, plan.passes, None, budget)


def _drive(shelf: Shelf, place: Target, name: str | None) -> str:
    """The drive's name on the shelf; a model drive is enrolled when it is first met."""
    from jovik.errors import Misuse
    from jovik.target import ModelTarget

    if name is None and isinstance(place, ModelTarget):
        from jovik.model import load_model

        sheet = load_model(place.name).sheet
        name = sheet.drive.name
        if name not in shelf.drive_names():
            shelf.add_sheet(sheet)
    if name is None:
        raise Misuse("which drive is this? --drive is missing", 'name it as its sheet does: --drive "NAME"; a new one: jovik sheet new "NAME"')
    return shelf.sheet(name).drive.name


def _may_destroy(place: Target, plan: Plan, named: str | None) -> bool:
    """Whether the target's own content may be overwritten.

    Raises
    ------
    Misuse
        Permission was given for what is no raw device.
    TargetRefused
        The plan writes and something stands in the way.
    """
    from jovik.errors import Misuse
    from jovik.target import DeviceTarget
    from jovik.target.safety import refuse_unless_destroyable

    if not isinstance(place, DeviceTarget):
        if named is not None:
            raise Misuse("--destroy is for raw devices", "a folder or a model drive needs no such thing: nothing of anybody's is overwritten")
        return False
    if named is None and not any(s.writes for s in plan.steps):
        return False
    refuse_unless_destroyable(place.device, named, system_drive())
    return True


def _open(place: Target, engine: str, seed: int, destroy: bool) -> Any:
    """A session on the target; `destroy` is whether a raw device may be written."""
    from jovik.target import DeviceTarget, ModelTarget

    if isinstance(place, ModelTarget):
        from jovik.model import ModelSession, load_model

        return ModelSession(load_model(place.name))
    from jovik.engine.session import FileSession

    if isinstance(place, DeviceTarget):
        from jovik.engine.raw import RawDevice

        device = place.device
        node = Path(device.node)
        raw = RawDevice(node, writable=destroy, capacity_bytes=device.capacity_bytes, logical_block_bytes=device.logical_block_bytes)
        return FileSession(raw, engine, seed)
    return FileSession(place.path, engine, seed)


def _warm_up(session: Session) -> None:
    """Compiling takes several seconds, once after each installation; who waits should know why."""
    notice = threading.Timer(1.5, click.echo, ("compiling the measuring loop, once after an installation ...",), {"err": True})
    notice.daemon = True
    notice.start()
    try:
        session.warm_up()
    finally:
        notice.cancel()


def _check(session: Session, plan: Plan) -> None:
    from jovik.bench.work import workload

    for step in plan.steps:
        session.check(workload(step, 0))


def _run(shelf: Shelf, drive: str, known: Identity, place: Target, session: Session, plan: Plan, options: RunOptions, progress: Progress) -> Any:
    """Run the plan into a new run on the shelf; what stopped it comes back, so that what was measured can be shown."""
    from jovik import __version__
    from jovik.bench import run_plan
    from jovik.errors import JovikError

    repeat = options.repeat
    kept = {"least": repeat.least, "most": repeat.most, "precision": repeat.precision, "budget_ns": repeat.budget_ns}
    healthy = health_of(known.device)
    setting = replace(known.setting, heat_limit_c=healthy.warning_c if healthy else None)
    writer = shelf.begin_run(
        drive, known.rig, place.describe(), plan.name, options.seed, kept, __version__, unit_id=known.unit_id, device=known.record
    )  # fmt: skip
    virtual = getattr(session, "clock_ns", None)
    clock = {"clock_ns": lambda: session.clock_ns} if virtual is not None else {}  # type: ignore[attr-defined]
    before, patient = signal.getsignal(signal.SIGTERM), signal.getsignal(signal.SIGINT)
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    signal.signal(signal.SIGINT, _first_interrupt)
    failure: BaseException | None = None
    state = "done"
    try:
        run_plan(plan.steps, session, setting, options, writer, progress, **clock)
    except KeyboardInterrupt as stop:
        failure, state = stop, "interrupted"
    except JovikError as error:
        failure, state = error, "failed"
    finally:
        signal.signal(signal.SIGTERM, before)
        signal.signal(signal.SIGINT, patient)
        writer.close(state)
    if healthy is not None and state != "interrupted":
        written = shelf.run(writer.id).laid_out_bytes + sum(p.written_bytes for r in shelf.results_of_run(writer.id) for p in r.passes)
        after = health_of(known.device)
        writer.health(healthy, after, health_notes(healthy, after, written))
    return writer, failure


def _first_interrupt(*_: Any) -> None:
    """End the pass; whoever asks twice is gone at once, and the finished passes are on the shelf all the same."""
    signal.signal(signal.SIGINT, lambda *_: os._exit(130))
    raise KeyboardInterrupt


def announcement(drive: str, target: str, session: Session, plan: Plan, repeat: Repeat, cost: Cost) -> str:
    """What is about to happen: how long, what is written, and where."""
    times = f"{repeat.least}" if repeat.least == repeat.most else f"{repeat.least} to {repeat.most}"
    times += " pass" if times == "1" else " passes"
    count = f"{len(plan.steps)} {'step' if len(plan.steps) == 1 else 'steps'}"
    writes = [show_size(cost.certain_bytes)] if cost.certain_bytes else []
    if cost.writing_ns:
        writes.append(f"what the drive takes in {show_time(cost.writing_ns)} (at 1 GB/s: {show_size(cost.writing_ns)})")
    at_most = "at most " if repeat.least != repeat.most else ""
    amount = f"{at_most}{' and '.join(writes)}" if writes else "nothing"
    space = show_size(cost.space_bytes)
    if session.engine == "model":
        where = f"writes {amount} on a virtual clock: nothing is really written"
    elif stat.S_ISBLK(Path(target).stat().st_mode):
        where = f"writes {amount} to the first {space} of {target}: what is there is lost"
        if not writes:
            where = f"reads the first {space} of {target}, and writes nothing"
    else:
        where = f"writes {amount} in {Path(target).resolve()}, in a test file of {space} that is gone afterwards"
    return (
        f"{drive}: {plan.name}, {count} of {times}, {at_most}about {show_time(cost.time_ns)}, engine {session.engine}"
        f"{'' if session.direct else ', through the operating system cache'}\n{where}"
    )
