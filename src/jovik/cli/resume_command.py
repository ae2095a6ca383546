"""`jovik resume`: go on with a run that was interrupted, after its last finished pass."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    from jovik.shelf.store import RunRecord


@click.command()
@click.argument("run", required=False)
@click.option("--target", "target_at", metavar="TARGET", help="Where the drive hangs now. Default: where it was.")
@click.option("--destroy", metavar="SERIAL", help="Allow writing the raw device of this serial, as for the run itself.")
@format_option()
@shelf_option
def resume(run: str | None, target_at: str | None, destroy: str | None, form: str, shelf_at: str | None) -> int:
    """Go on with RUN, or the last one that was not finished, after its last finished pass.

    It has to be the same unit on the same rig.
    """
    from jovik.cli.running import Order, run_order, tasks_from
    from jovik.errors import Misuse
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf
    from jovik.target import resolve

    with Shelf(where_from(shelf_at)) as shelf:
        key = run or shelf.latest_run(("running", "interrupted", "failed"))
        if key is None:
            raise Misuse("every run on this shelf is finished", "begin one: jovik measure TARGET --drive NAME; or do one again: jovik repeat RUN")
        record = shelf.run(key)
        _refuse_unless_open(record)
        place = resolve(target_at or target_word(record.target))
        options = record.options
        order = Order(
            target=place, tasks=tasks_from(options), plan=record.plan, seed=record.seed, engine=options["engine"],
            stop_on_error=options["stop_on_error"], budget_ns=options["budget_ns"], destroy=destroy, rig_name=record.rig, yes=True,
        )  # fmt: skip
        return run_order(shelf, shelf.sheet(record.drive), order, form, resumed=key)


DYING_S = 2.0


def target_word(target: dict[str, Any]) -> str:
    """The word that names a target, from what a run keeps of it."""
    return f"model:{target['name']}" if target["kind"] == "model" else str(target["path"])


def _refuse_unless_open(record: RunRecord) -> None:
    """A run that is finished, or that another process is still at, is left alone."""
    import psutil

    from jovik.errors import Misuse

    if record.state == "done":
        raise Misuse(f"run {record.id} is finished", f"to do the same again: jovik repeat {record.id}")
    process = record.options.get("process", {})
    try:
        there = psutil.Process(process["pid"])
        alive = record.state == "running" and there.create_time() == process["since"] and there.status() != psutil.STATUS_ZOMBIE
        if alive:
            # One that was killed a moment ago may still be giving its memory back.
            there.wait(DYING_S)
            alive = False
    except psutil.TimeoutExpired:
        alive = True
    except (psutil.Error, KeyError):
        alive = False
    if alive:
        raise Misuse(f"run {record.id} is still going on, in process {process['pid']}", "wait for it, or stop it first")
