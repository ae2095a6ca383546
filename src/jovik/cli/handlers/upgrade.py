"""Carry out `jovik upgrade`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from jovik.analysis.upgrade import Upgrade
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table, show_verdict
from jovik.cli.written_files import say_written
from jovik.queries.upgrade import Upgraded, upgraded
from jovik.report.client_page import publish_client_page
from jovik.shelf.sqlite import where_from
from jovik.shelf.store import Shelf
from jovik.tables.cross_rig import slowed_json
from jovik.tables.upgrade import jobs_table, upgrade_json, upgrade_table, upgrade_verdict


def upgrade(
    old: str,
    new: tuple[str, ...],
    link: float | None,
    machine_price: float | None,
    brief: bool,
    out: Path | None,
    force: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Say what changing from OLD to each NEW drive would bring."""
    with Shelf(where_from(shelf_at)) as shelf:
        found = [upgraded(shelf, old, name, link_bytes_s=link) for name in new]
    if out is not None:
        say_written(form, publish_client_page(found, out, machine_price, force=force))
    elif form == "json":
        emit_json(
            {
                "old": found[0].old.name,
                "link_bytes_s": link,
                "upgrades": [
                    upgrade_json(f.upgrade) | {"held_by_rig": slowed_json(f.slowed)} for f in found
                ],
            },
            "upgrade",
        )
    elif form == "csv":
        _csv([f.upgrade for f in found])
    else:
        for one in found:
            _show(one, machine_price, brief)
    return 0


def _csv(found: Sequence[Upgrade]) -> None:
    rows = [
        (
            u.old,
            u.new,
            s.kind,
            s.old.median,
            s.new.median,
            s.times.median,
            s.times.low,
            s.times.high,
            s.verdict,
        )
        for u in found
        for s in u.steps
    ]
    emit_csv(
        ["old", "new", "kind", "old_bytes_s", "new_bytes_s", "times", "low", "high", "verdict"],
        rows,
    )


def _show(found: Upgraded, machine_price: float | None, brief: bool) -> None:
    show_verdict(upgrade_verdict(found, machine_price))
    if not brief and found.upgrade.steps:
        show_table(upgrade_table(found))
        echo("")
    jobs = jobs_table(found, brief=brief)
    if jobs.rows:
        show_table(jobs)
    else:
        for line in jobs.every_note:
            echo(line)
