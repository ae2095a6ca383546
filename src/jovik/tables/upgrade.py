"""One drive against the one that would replace it."""

from __future__ import annotations

from typing import Any

from jovik.analysis.comparability import long_write_of
from jovik.analysis.lost_data import lost_words
from jovik.analysis.upgrade import Upgrade
from jovik.base.quantities import show_rate, show_time, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.queries.upgrade import Upgraded
from jovik.steps import parse
from jovik.tables.conditions import conditions_words
from jovik.tables.cross_rig import slowed_words
from jovik.tables.table import Table, figure_words, interval_json, interval_words


def upgrade_table(found: Upgraded) -> Table:
    """How many times faster each step is."""
    u, link = found.upgrade, found.link_bytes_s
    long = {r.kind for r in found.results if long_write_of(r) is not None}
    rows = [
        (
            parse(s.kind).label + (": sustained rate" if s.kind in long else ""),
            significant(s.old.median * per_unit()),
            significant(s.new.median * per_unit()),
            f"{significant(s.times.median)}",
            interval_words(s.times),
            "-" if s.times_on_link is None else significant(s.times_on_link),
            s.verdict,
        )
        for s in u.steps
    ]
    overall = [f"overall {figure_words(u.overall)} times, the geometric mean"] if u.overall else []
    notes = [
        *overall,
        *([f"on link: with what a link of {show_rate(link)} leaves"] if link is not None else []),
        *slowed_words(found.slowed),
        *conditions_words([r for r in found.results if r.kind in {s.kind for s in u.steps}]),
    ]
    header = [
        "step",
        f"{rate_unit()} old",
        f"{rate_unit()} new",
        "speed-up",
        "95 % interval",
        "on link",
        "",
    ]
    shown = [c for c in range(7) if link is not None or c != 5]
    return Table(
        f"{found.old.name} to {found.new.name}"
        + (f": {found.new.name} {lost_words(u.lost, found.new.capacity_bytes)}" if u.lost else ""),
        [header[c] for c in shown],
        [[row[c] for c in shown] for row in rows],
        right=(1, 2, 3, 4, 5) if link is not None else (1, 2, 3, 4),
        spare=(5,) if link is not None else (),
        notes=notes,
    )


def jobs_table(found: Upgraded, *, brief: bool = False) -> Table:
    """Seconds for everyday jobs on each, computed, and what was read by hand.

    Without rows where nothing is known.
    """
    old, new = found.old.name, found.new.name
    known = [j for j in found.upgrade.jobs if j.old_s is not None and j.new_s is not None]
    rows = [
        (j.job.name, _seconds(j.old_s), _seconds(j.new_s), _change(j.old_s, j.new_s)) for j in known
    ]
    rows += [(r.what, r.shown, s.shown, _change(r.value, s.value)) for r, s in found.readings]
    notes = (
        ["jobs are computed from measured steps; what was read by hand is below them"]
        if rows
        else []
    )
    notes += [] if brief else [f"computed: {j.job.name}: {j.job.rule}" for j in known]
    notes += [
        f'{j.job.name}: not known without "{j.missing}" on both'
        for j in found.upgrade.jobs
        if j.missing
    ]
    return Table("Everyday jobs", ["job", old, new, "time"], rows, right=(1, 2, 3), notes=notes)


def money_words(found: Upgraded, machine_price: float | None = None) -> list[str]:
    """What it costs, for each halving of time and against replacing the whole machine."""
    after, halving = found.new, found.upgrade.price_for_halving
    lines = (
        [f"price: {after.spelled_price}, {halving:.0f} {after.currency} for each halving of time"]
        if halving is not None
        else []
    )
    if machine_price is not None and after.price:
        share = 100 * after.price / machine_price
        lines.append(
            f"against replacing the whole machine ({machine_price:g} {after.currency}): "
            f"{share:.0f} % of its price"
        )
    return lines


def _seconds(value: float | None) -> str:
    return "-" if value is None else show_time(value * 1e9)


def _change(old: float | None, new: float | None) -> str:
    """By how much longer or shorter it takes."""
    return f"{100 * (new / old - 1):+.0f} %" if old and new is not None else "-"


def upgrade_json(u: Upgrade) -> dict[str, Any]:
    """One comparison as documented."""

    return {
        "new": u.new,
        "overall": interval_json(u.overall) if u.overall else None,
        "steps": [
            {
                "kind": s.kind,
                "old_bytes_s": interval_json(s.old),
                "new_bytes_s": interval_json(s.new),
                "times": interval_json(s.times),
                "times_on_link": s.times_on_link,
                "verdict": s.verdict,
            }
            for s in u.steps
        ],
        "jobs": [
            {
                "job": j.job.name,
                "rule": j.job.rule,
                "computed": True,
                "old_s": j.old_s,
                "new_s": j.new_s,
                "missing": j.missing or None,
            }
            for j in u.jobs
        ],
        "price_for_halving": u.price_for_halving,
        "conclusion": u.conclusion,
    }
