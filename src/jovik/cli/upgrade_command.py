"""`jovik upgrade`: the drive there is against those that could replace it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jovik.base.quantities import parse_link
from jovik.cli.completion import drives
from jovik.cli.echo import echo
from jovik.cli.options import UnitParam, force_option, format_option, shelf_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from jovik.analysis.upgrade import Upgrade
    from jovik.queries.upgrade import Upgraded


@click.command()
@click.argument("old", shell_complete=drives)
@click.argument("new", shell_complete=drives, nargs=-1, required=True)
@click.option(
    "--link",
    type=UnitParam("RATE", parse_link),
    help="What the link that the new drive will hang on carries, such as 550MB/s.",
)
@click.option(
    "--instead-of",
    "machine_price",
    type=click.FloatRange(min=0, min_open=True),
    help="What replacing the whole machine would cost.",
)
@click.option(
    "--brief", is_flag=True, help="One page for a client: jobs, price and the conclusion."
)
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    help="Write that page: FILE.html (ready to print), FILE.md, or a folder for both.",
)
@force_option
@format_option()
@shelf_option
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
    """Say what changing from OLD to each NEW drive would bring.

    \b
    jovik upgrade "Slate 1TB" "Comet 2TB"
    jovik upgrade "Slate 1TB" "Comet 2TB" "Drift 1TB" --link 1900MB/s
    jovik upgrade "Slate 1TB" "Comet 2TB" --instead-of 900 --brief
    jovik upgrade "Slate 1TB" "Comet 2TB" --out client.html
    """
    from jovik.cli.output import emit_json
    from jovik.queries.upgrade import upgraded
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.cross_rig import slowed_json
    from jovik.tables.upgrade import upgrade_json

    with Shelf(where_from(shelf_at)) as shelf:
        found = [upgraded(shelf, old, name, link_bytes_s=link) for name in new]
    if out is not None:
        from jovik.cli.written_files import say_written
        from jovik.report.client_page import publish_client_page

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
    from jovik.cli.output import emit_csv

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
    from jovik.cli.output import show_table, show_verdict
    from jovik.tables.upgrade import jobs_table, upgrade_table, upgrade_verdict

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
