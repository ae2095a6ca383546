"""A ranking: overall and step by step."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from jovik.analysis.comparability import long_write_of
from jovik.analysis.ranking import DriveRank, Ranking, StepRank, lead_over_next
from jovik.base.interval import Interval
from jovik.base.quantities import show_size, show_time, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.vocabulary import ENERGY, SAMPLE_ORDERS
from jovik.queries.drive_class import gaps
from jovik.queries.ranking import (
    ACCESS_STEP,
    RankingReport,
    access_time_ns,
    index_for_money,
    price_for_terabyte,
)
from jovik.steps import parse
from jovik.tables.conditions import conditions_words
from jovik.tables.drive_class import gap_words
from jovik.tables.evidence import failures_of, passed_over_words
from jovik.tables.replay import program_words
from jovik.tables.runs import excluded_words
from jovik.tables.table import Table, figure_words, interval_words

MOST_TOLD, MOST_GAPS = 6, 2
"""Drives in the line of classes, and sentences on classes that lie far apart."""


def overall_table(found: RankingReport) -> Table:
    """Return every drive with its index, price and endurance."""
    ranking, by = found.ranking, found.by
    energy = by == ENERGY
    rows = [_overall_row(found, d) for d in ranking.drives]
    header = [
        "place",
        by if by in SAMPLE_ORDERS else "drive",
        "index",
        "95 % interval",
        "steps",
        "access time",
        "price per TB",
        "index per price",
        "endurance",
    ]
    # What the order is by stays on a narrow screen; by rig, sheets say nothing.
    optional_columns = [
        c
        for c, order in ((8, "endurance"), (7, "money"), (6, "price"), (5, "latency"), (4, ""))
        if by != order
    ]
    shown = [c for c in range(len(header)) if by not in SAMPLE_ORDERS or c < 6]
    shown = [c for c in shown if not energy or c not in (5, 7)]
    return Table(
        ("Overall" if found.load is None else f"Overall, weighed for {found.load}")
        + (", steady state" if found.steady else "")
        + (", by data moved for a joule" if energy else ""),
        [header[c] for c in shown],
        [[row[c] for c in shown] for row in rows],
        right=[c for c in (2, 3, 4, 5, 6, 7, 8) if c in shown],
        optional_columns=[c for c in optional_columns if c in shown],
        verdict=[*(" ".join(w) for w in ranking_warnings(found)), *ranking_verdict(found)],
        bar=(shown.index(2), [d.index.median if d.index else None for d in ranking.drives]),
    )


def _overall_row(found: RankingReport, d: DriveRank) -> tuple[str, ...]:
    drive, energy = found.drives.get(d.drive), found.by == ENERGY
    terabyte, money = price_for_terabyte(drive), index_for_money(d, drive)
    access = None if energy else access_time_ns(d)
    shares = "shares no step with the yardstick" if d.index is None else interval_words(d.index)
    return (
        str(d.place or "-"),
        d.drive,
        significant(d.index.median) if d.index else "-",
        "yardstick" if d.drive == found.ranking.yardstick else shares,
        str(len(d.steps)),
        show_time(access) if access is not None else "-",
        f"{terabyte:.0f} {drive.currency}" if terabyte is not None and drive is not None else "-",
        f"{money:.1f}" if money is not None and not energy else "-",
        show_size(drive.endurance_bytes) if drive is not None and drive.endurance_bytes else "-",
    )


def steps_table(found: RankingReport, kinds: Sequence[str] | None = None) -> Table:
    """Return the ranking in each kind of step, best first, with the lead over the next."""
    lines = []
    for kind in found.ranking.kinds if kinds is None else kinds:
        for number, row in enumerate(_step_rows(found, kind)):
            lines.append((_label(found.ranking, kind) if number == 0 else "", *row))
    header = ["step", *_step_header(found)]
    verdict = ranking_verdict(found) if found.kind is not None else []
    return Table("By step", header, lines, (3, 4, 5, 6), optional_columns=(6, 5), verdict=verdict)


def step_table(found: RankingReport, kind: str) -> Table:
    """Return the ranking of one kind of step in a table of its own."""
    return Table(
        _label(found.ranking, kind),
        _step_header(found),
        list(_step_rows(found, kind)),
        right=(2, 3, 4, 5),
        optional_columns=(5, 4),
    )


def _label(ranking: Ranking, kind: str) -> str:
    """Return the step's label, and of a long write which of its rates is compared."""
    results = [s.result for s in ranking_of(ranking, kind)]
    return parse(kind).label + (": sustained rate" if any(map(long_write_of, results)) else "")


def _step_header(found: RankingReport) -> list[str]:
    return [
        "place",
        found.by if found.by in SAMPLE_ORDERS else "drive",
        _unit(found),
        "95 % interval",
        "lead",
        "passes",
    ]


def _unit(found: RankingReport) -> str:
    """Return the unit of a rate: for a second, or for a joule."""
    return rate_unit().replace("/s", "/J") if found.by == ENERGY else rate_unit()


def _step_rows(found: RankingReport, kind: str) -> Iterator[tuple[str, ...]]:
    rows = ranking_of(found.ranking, kind)
    for s, lead in zip(rows, lead_over_next(found.ranking, rows), strict=True):
        ahead = "-" if lead is None else lead_words(lead)
        program = s.result.findings.replay
        yield (
            str(s.place),
            s.drive,
            significant(s.rate_bytes_s.median * per_unit())
            if program is None
            else f"{significant(program.elapsed_s.median)} s",
            interval_words(s.rate_bytes_s, per_unit())
            if program is None
            else interval_words(program.elapsed_s),
            ahead,
            str(s.passes),
        )


def lead_words(lead: Interval) -> str:
    """Return the factor, or a tie if the interval allows no more."""
    return figure_words(lead) + (" undecided" if _undecided(lead) else "")


def _margin_words(lead: Interval, *, first: bool) -> str:
    if _undecided(lead):
        return f"undecided: {figure_words(lead)} times"
    return f"{figure_words(lead)} times {'ahead' if first else 'behind'}"


def _undecided(lead: Interval) -> bool:
    return lead.holds(1)


def places_table(found: RankingReport, drive: str) -> Table:
    """Return the rank of one drive in each kind of step, beside the drive ahead."""
    rows = []
    for kind in found.ranking.kinds:
        every = ranking_of(found.ranking, kind)
        own = next((s for s in every if s.drive == drive), None)
        if own is None:
            continue
        # What is in front of the first is the next behind it.
        other = next((s for s in every if s.drive != drive), None)
        lead = (
            found.ranking.lead(
                kind, *((drive, other.drive) if own is every[0] else (other.drive, drive))
            )
            if other is not None
            else None
        )
        rows.append(
            (
                _label(found.ranking, kind),
                significant(own.rate_bytes_s.median * per_unit()),
                interval_words(own.rate_bytes_s, per_unit()),
                f"{own.place} of {len(every)}",
                other.drive if other is not None else "-",
                significant(other.rate_bytes_s.median * per_unit()) if other is not None else "-",
                _margin_words(lead, first=own is every[0]) if lead is not None else "-",
            )
        )
    header = [
        "step",
        rate_unit(),
        "95 % interval",
        "place",
        "the best other",
        f"its {rate_unit()}",
        "margin",
    ]
    return Table(f"{drive}: its place in each step", header, rows, right=(1, 2, 5))


def ranking_of(ranking: Ranking, kind: str) -> list[StepRank]:
    """Return the ranking of one kind of step, best first."""
    return sorted(
        (s for d in ranking.drives for s in d.steps if s.kind == kind),
        key=lambda s: -s.rate_bytes_s.median,
    )


def ranking_verdict(found: RankingReport) -> list[str]:
    """Return the answer: who is first, by how much, and who is level with it."""
    ranking = found.ranking
    if found.kind is not None:
        rows = ranking_of(ranking, found.kind)
        if not rows:
            return []
        leader = rows[0]
        program = leader.result.findings.replay
        figure = (
            f"{figure_words(leader.rate_bytes_s, per_unit())} {_unit(found)}"
            if program is None
            else program_words(program)
        )
        lead = lead_over_next(ranking, rows)[0]
        ahead = (
            f", {_margin_words(lead, first=True)} of {rows[1].drive}" if lead is not None else ""
        )
        return [f"{leader.drive} is first in {parse(found.kind).label}: {figure}{ahead}"]
    placed = [d for d in ranking.drives if d.place is not None and d.index is not None]
    if not placed:
        return []
    best = [d for d in placed if d.place is not None and d.place.first == 1] or placed[:1]
    first = best[0]
    assert first.index is not None
    if found.by in FIRST_BY:
        return _ordered_verdict(found, FIRST_BY[found.by])
    names = " or ".join(d.drive for d in best)
    words = f"{names} is first of {len(placed)}"
    if found.by == ENERGY:
        words = f"{names} moves the most data per joule, of {len(placed)} drives"
    if len(best) > 1:
        return [f"{words}: these measurements cannot distinguish them"]
    index = f"index {figure_words(first.index)}, where {ranking.yardstick} is 100"
    return [f"{words}: {index}"]


@dataclass(frozen=True)
class OrderWords:
    """How an order by something other than the index is put into words."""

    first: str
    shown: Callable[[RankingReport, DriveRank], str | None]


def _terabyte(found: RankingReport, d: DriveRank) -> str | None:
    drive = found.drives.get(d.drive)
    price = price_for_terabyte(drive)
    return f"{price:.0f} {drive.currency} per TB" if price is not None and drive else None


def _money(found: RankingReport, d: DriveRank) -> str | None:
    drive = found.drives.get(d.drive)
    value = index_for_money(d, drive)
    return f"{value:.1f} index points per {drive.currency}" if value is not None and drive else None


def _endurance(found: RankingReport, d: DriveRank) -> str | None:
    drive = found.drives.get(d.drive)
    return show_size(drive.endurance_bytes) if drive and drive.endurance_bytes else None


def _access(found: RankingReport, d: DriveRank) -> str | None:
    access = access_time_ns(d)
    return show_time(access) if access is not None else None


FIRST_BY = {
    "price": OrderWords("costs the least per TB", _terabyte),
    "money": OrderWords("has the highest index for its price", _money),
    "endurance": OrderWords("has the highest endurance rating", _endurance),
    "latency": OrderWords("has the shortest access time", _access),
}
"""The first line of an order, which has to match the table below it."""


def _ordered_verdict(found: RankingReport, words: OrderWords) -> list[str]:
    """Return who leads an order by price, value, endurance or access time, and who has no value."""
    rows = [(d.drive, words.shown(found, d)) for d in found.ranking.drives]
    known = [(drive, shown) for drive, shown in rows if shown is not None]
    if not known:
        return [f"no drive here has a figure for an order by {found.by}"]
    (first, figure), *rest = known
    level = [drive for drive, shown in rest if shown == figure or _level(found, first, drive)]
    line = f"{' and '.join([first, *level])} {words.first}: {figure}"
    if level:
        line = line.replace(" has ", " have ", 1).replace(" costs ", " cost ", 1)
        noise = "; these measurements cannot distinguish them" if found.by == "latency" else ""
        line += noise
    missing = len(rows) - len(known)
    return [line + (f"; {missing} without that figure" if missing else "")]


def _level(found: RankingReport, one: str, two: str) -> bool:
    """Return True if the access times of two drives cannot be distinguished."""
    of_access = found.ranking.by_kind.get(ACCESS_STEP)
    if found.by != "latency" or of_access is None:
        return False
    return _undecided(of_access.ratio(one, two))


def ranking_warnings(found: RankingReport, only: str | None = None) -> list[tuple[str, str]]:
    """Return what belongs above any place: drives with the data they lost, or what they failed.

    The second is a sentence without its subject.
    """
    lost = [
        (x.drive, f"{x.why} (not ranked)")
        for x in found.ranking.left_out
        if x.kind is None and only in (None, x.drive)
    ]
    return lost + failures_of(found.passed_over, only)


def ranking_findings(found: RankingReport) -> list[str]:
    """Return the notes that change a decision: limits of rigs, exclusions, omissions."""
    ranking = found.ranking
    lines = passed_over_words(found.passed_over)
    lines += excluded_words(list(found.excluded))
    lines += _program_words(found, None)
    return lines + [
        f"left out: {x.drive}" + (f", {parse(x.kind).label}" if x.kind else "") + f": {x.why}"
        for x in ranking.left_out
        if x.kind
    ]


def ranking_foot(found: RankingReport, only: str | None = None) -> list[str]:
    """Return the meaning of the index, and the omissions with reasons, of all drives or one."""
    ranking = found.ranking
    what = {"rig": "rigs", "firmware": "firmware versions"}.get(found.by, "drives")
    notes = (
        [
            f"index 100 is {ranking.yardstick}; {what} whose difference is within the noise "
            "share a place"
        ]
        if ranking.drives
        else []
    )
    notes += [f"weighted for {found.load}; see jovik fit --loads"] if found.load is not None else []
    notes += _energy_words(found, only)
    notes += _program_words(found, only)
    notes += _index_words(found) if only is None else []
    notes += _class_words(found, only)
    notes += passed_over_words(found.passed_over, only)
    notes += excluded_words([x for x in found.excluded if only in (None, x.drive)])
    notes += [
        f"measured under conditions that matter: {drive}: {', '.join(circumstances)}"
        for drive, circumstances in found.circumstances.items()
        if only in (None, drive)
    ]
    shown = [s.result for d in ranking.drives for s in d.steps]
    if found.by not in SAMPLE_ORDERS:
        notes += conditions_words([r for r in shown if only in (None, r.drive)] if only else shown)
    return notes + [
        f"left out: {x.drive}" + (f", {parse(x.kind).label}" if x.kind else "") + f": {x.why}"
        for x in ranking.left_out
        if (only is None and x.kind) or only == x.drive
    ]


def _energy_words(found: RankingReport, only: str | None) -> list[str]:
    """Return the source of the energy figures, and the idle power of drives."""
    if found.by != ENERGY:
        return []
    idle = [f"{d} {figure_words(w)} W" for d, w in found.idle_watts.items() if only in (None, d)]
    return ["by the newest power log laid beside a run of each drive"] + (
        [f"idle: {'; '.join(idle)}"] if idle else []
    )


def _program_words(found: RankingReport, only: str | None) -> list[str]:
    """Return the time of the ranked program, and its part that is not the drives'."""
    shown = [
        f"{s.drive} {program_words(x)}"
        for s in ranking_of(found.ranking, found.kind or "")
        if only in (None, s.drive) and (x := s.result.findings.replay) is not None
    ]
    return [f"takes: {'; '.join(shown)}"] if shown else []


def _class_words(found: RankingReport, only: str | None) -> list[str]:
    """Return each drive against its class, and why classes are an order of magnitude apart."""
    standings = {d: s for d, s in found.standings.items() if s.index is not None}
    if only is not None:
        standings = {d: s for d, s in standings.items() if d == only}
    if not standings:
        return []
    words = [
        f"{d} {figure_words(s.index)}, a {s.drive_class.title}"
        for d, s in standings.items()
        if s.index is not None
    ]
    more = f" and {len(words) - MOST_TOLD} more" if words[MOST_TOLD:] else ""
    lines = [f"in its class, where 100 is usual: {'; '.join(words[:MOST_TOLD])}{more}"]
    wide = gaps([s.drive_class for s in standings.values()])
    return lines + [gap_words(g) for g in wide[:MOST_GAPS]]


def _index_words(found: RankingReport) -> list[str]:
    """Return the steps of the index, the drives that lack some, and the spread of runs."""
    ranking = found.ranking
    if ranking.rank_intervals is None or len(ranking.rank_intervals.drives) < 2:
        return []
    counted = len(ranking.counted)
    effect = found.effect
    spread = 100 * effect.widest
    learnt = f"from {effect.repeats} repeated runs" if effect.spread else "assumed, up to 3 %"
    lines = [
        f"index: {counted} {'step' if counted == 1 else 'steps'} that most drives were "
        f"measured in; intervals and places are for all pairs at once, and runs of one drive "
        f"differ by {spread:.2g} % ({learnt})"
    ]
    return lines + [
        f"{d.drive} lacks {len(d.missing)} of them, and is placed by its usual level elsewhere"
        for d in ranking.drives
        if d.missing
    ]
