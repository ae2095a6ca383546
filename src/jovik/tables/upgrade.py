"""One drive against the one that would replace it."""

from __future__ import annotations

from jovik.analysis.comparability import long_write_of
from jovik.analysis.lost_data import lost_words
from jovik.analysis.upgrade import CLASS_WORDS, Felt, JobTime
from jovik.base.interval import Interval
from jovik.base.quantities import digits_for, show_rate, show_time, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.queries.upgrade import Upgraded
from jovik.steps.parser import parse
from jovik.tables.conditions import conditions_words
from jovik.tables.evidence import fault_lines, passed_over_words
from jovik.tables.table import Table, figure_words, interval_words


def upgrade_table(found: Upgraded) -> Table:
    """Return how many times faster each step is."""
    u, link = found.upgrade, found.link_bytes_s
    long = {r.kind for r in found.results if long_write_of(r) is not None}
    rows = [
        (
            parse(s.kind).label + (": sustained rate" if s.kind in long else ""),
            significant(s.old.median * per_unit()),
            significant(s.new.median * per_unit()),
            f"{significant(s.times.median)}",
            interval_words(s.times),
            s.verdict,
        )
        for s in u.steps
    ]
    notes = passed_over_words(found.passed_over)
    if link is not None:
        words = f"every figure of {found.new.name} is limited to {show_rate(link)}, the link's rate"
        programs = any(r.findings.replay for r in found.results if r.drive == found.new.name)
        if programs and not any(j.program for j in u.jobs):
            words += "; recorded programs are left out, because they ran on a faster link"
        notes = [words, *notes]
    small = conditions_words([r for r in found.results if r.kind in {s.kind for s in u.steps}])
    header = [
        "step",
        f"{rate_unit()} old",
        f"{rate_unit()} new",
        "speed-up",
        "95 % interval",
        "",
    ]
    return Table(
        f"{found.old.name} to {found.new.name}"
        + (f": {found.new.name} {lost_words(u.lost, found.new.capacity_bytes)}" if u.lost else ""),
        header,
        rows,
        right=(1, 2, 3, 4),
        notes=notes,
        small=small,
        bar=(3, [s.times.median for s in u.steps]),
    )


def upgrade_verdict(found: Upgraded, machine_price: float | None = None) -> list[str]:
    """Return the answer: the uses that gain, the overall factor, and the price."""
    u = found.upgrade
    lines = [*_asked_program(found), f"{found.new.name}: {u.conclusion}"]
    if found.to_class and machine_price is not None:
        lines.insert(0, _instead_of_a_machine(found, machine_price))
    more = money_words(found, machine_price)
    if u.overall:
        more = [f"overall {figure_words(u.overall)} times, the geometric mean", *more]
    if more:
        lines.append("; ".join(more))
    return [*fault_lines(found.passed_over), *lines]


def _asked_program(found: Upgraded) -> list[str]:
    """Return what the program that was asked for takes on both."""
    job = found.program
    if job is None:
        return []
    how = job.how[1] if job.how[0] == job.how[1] else " and ".join(dict.fromkeys(job.how))
    return [
        f"{job.job.name} takes {seconds_words(job.new)} on {found.new.name} instead of "
        f"{seconds_words(job.old)} ({how}): {job_change(job)}"
    ]


STARTING = CLASS_WORDS["random read"]


def _instead_of_a_machine(found: Upgraded, machine_price: float) -> str:
    """Return whether another drive helps, instead of another machine: yes, no, or unknown."""
    u, drive = found.upgrade, f"a {found.new.name}"
    starting = next((x.felt for x in u.uses if x.use == "random read"), None)
    if starting is Felt.WORTH:
        return f"yes: {drive} before a machine for {machine_price:g}; {STARTING} get faster with it"
    if starting in (Felt.NO_GAIN, Felt.SLOWER):
        return f"no: {drive} does not make {STARTING} noticeably faster"
    return f"unknown: whether {drive} makes {STARTING} faster needs: random read 4KiB"


def jobs_table(found: Upgraded, *, brief: bool = False) -> Table:
    """Return computed seconds for everyday jobs on each, and readings taken by hand.

    Without rows if nothing is known.
    """
    old, new = found.old.name, found.new.name
    known = [j for j in found.upgrade.jobs if j.old is not None and j.new is not None]
    rows = [(j.title, seconds_words(j.old), seconds_words(j.new), job_change(j)) for j in known]
    rows += [(r.what, r.shown, s.shown, _change(r.value, s.value)) for r, s in found.readings]
    small = []
    if any(not j.program for j in known):
        small.append("jobs are computed from measured steps")
    if found.readings:
        small.append("readings by hand follow the jobs")
    small += [] if brief else [f"{j.job.name}: {j.job.rule}" for j in known]
    notes = [
        f'{j.job.name}: unknown without "{j.missing}" on both'
        for j in found.upgrade.jobs
        if j.missing
    ]
    return Table(
        "Everyday jobs", ["job", old, new, "time"], rows, (1, 2, 3), notes=notes, small=small
    )


def money_words(found: Upgraded, machine_price: float | None = None) -> list[str]:
    """Return the price, for each halving of time and against replacing the whole machine."""
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


MILLISECONDS_BELOW_S = 0.1


def seconds_words(value: Interval | None) -> str:
    """``76.1 s (75.8 to 76.4)``: a time with its interval, in one unit."""
    if value is None:
        return "-"
    if value.low is None or value.high is None:
        return show_time(value.median * 1e9)
    if value.high >= 120:
        low, high = (show_time(v * 1e9) for v in (value.low, value.high))
        return f"{show_time(value.median * 1e9)} ({low} to {high})"
    if value.high < MILLISECONDS_BELOW_S:
        value, unit = value.scaled(1000), "ms"
    else:
        unit = "s"
    digits = digits_for(value.low or 0.0, value.high or 0.0)
    return f"{significant(value.median, digits)} {unit} ({interval_words(value)})"


def job_change(job: JobTime) -> str:
    """Return the change of a job's time, if the intervals allow a statement."""
    if job.old is None or job.new is None:
        return "-"
    if job.old.known and job.new.known and not job.apart:
        return "too close to call"
    return _change(job.old.median, job.new.median)


def _change(old: float | None, new: float | None) -> str:
    """By how much longer or shorter it takes."""
    return f"{100 * (new / old - 1):+.0f} %" if old and new is not None else "-"
