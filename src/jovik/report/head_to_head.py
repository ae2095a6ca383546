"""Two drives on one page: which is faster at what, by how much, and what each is good for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from jovik.analysis.claims import Verdict
from jovik.analysis.ranking import Ranking
from jovik.analysis.suitability import Suitability
from jovik.analysis.upgrade import Felt, UseGain
from jovik.base.errors import UsageError
from jovik.base.quantities import show_size
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.version import VERSION
from jovik.charts.long_write import long_write_of
from jovik.charts.pairs import beside_chart, faster_words
from jovik.charts.provenance import LONGEST_NAME, days_words, truncate
from jovik.charts.ranking import ranking_chart
from jovik.queries.ranking import ranking_report
from jovik.queries.upgrade import Upgraded, upgraded
from jovik.report.answers import DriveAnswer, answers_of
from jovik.report.document import Block, Document, Paragraph, Picture, Section
from jovik.report.html import special_names
from jovik.report.privacy import without_commands
from jovik.report.review_data import ReviewData, gather
from jovik.shelf.store import Shelf
from jovik.steps.parser import parse
from jovik.tables.drive_class import shortfall_lines
from jovik.tables.sheets import facts_line
from jovik.tables.suitability import stream_words
from jovik.tables.table import Table, figure_words
from jovik.tables.upgrade import jobs_table


def head_to_head(shelf: Shelf, first: str, second: str) -> Document:
    """Return two drives on one page.

    Raises
    ------
    UnknownNameError, UsageError
        A drive is not there or was not measured, or both are the same.
    """
    first, second = (shelf.sheets.get(name).drive.name for name in (first, second))
    if first == second:
        raise UsageError(
            f"{first} cannot be compared with itself", "name another drive; see jovik sheet list"
        )
    # Which of the two replaces the other makes no difference here.
    found = upgraded(shelf, second, first)
    ranked = ranking_report(shelf)
    pair = [gather(shelf, name, (), ranked) for name in (first, second)]
    names = [it.sheet.drive.name for it in pair]
    answers = answers_of(shelf, ranked, names)
    days = [day for it in pair for day in it.days]
    steps: list[Block] = []
    if found.upgrade.steps:
        steps = [Picture("pairs", beside_chart(found)), _steps_table(found)]
    sections = [
        Section("verdict", "Which of the two", _verdict(found, answers, ranked.ranking)),
        Section("glance", "At a glance", (_glance(pair),)),
        Section("steps", "Step by step", tuple(steps)),
        Section("long-write", "The long write", _long_write(shelf, names)),
        Section("jobs", "Everyday jobs", (_jobs(upgraded(shelf, first, second)),)),
        Section("fit", "Sustainable workloads", (_uses(pair),)),
    ]
    title = " and ".join(truncate(name, LONGEST_NAME) for name in names)
    subtitle = "; ".join(dict.fromkeys([*_lines(pair), f"measured {days_words(days)}"]))
    page = Document(
        title,
        subtitle,
        tuple(s for s in sections if any(not isinstance(b, Table) or b.rows for b in s.blocks)),
        f"Made by Jovik {VERSION}",
        names=special_names(names),
        summary=_sentences(found, answers)[0],
    )
    return without_commands(page)


def _lines(pair: Sequence[ReviewData]) -> list[str]:
    return [facts_line(it.sheet.drive) for it in pair]


def _sentences(found: Upgraded, answers: Mapping[str, DriveAnswer]) -> list[str]:
    """Return which is faster at what, and where neither is, a sentence each.

    Nothing is said for a drive that lost data or failed but that.
    """
    u, first, second = found.upgrade, found.new.name, found.old.name
    faulty = [name for name in (first, second) if answers[name].advice.faults]
    lines = [f"{name}: {_inside(answers[name].words)}" for name in faulty]
    if not u.steps:
        return [*lines, "No step was measured on both under the same conditions."]
    named: dict[str, list[str]] = {}
    for gain in u.uses:
        name, of_it, words = _felt_words(gain, first, second)
        if name not in faulty:
            named.setdefault(words, []).append(of_it.words)
    loud = [f"{name} is faster at" for name in (first, second)]
    ordered = [w for w in loud if w in named] + [w for w in named if w not in loud]
    return [*lines, *(f"{words} {_listed(named[words])}." for words in ordered)]


def _felt_words(gain: UseGain, first: str, second: str) -> tuple[str, UseGain, str]:
    """Return which drive is ahead at a use (or none), its gain, and the words before the use."""
    sides = ((first, gain), (second, gain.turned))
    for name, own in sides:
        if own.felt is Felt.WORTH:
            return name, own, f"{name} is faster at"
    for (name, _), (_, other) in zip(sides, reversed(sides), strict=True):
        if other.felt is Felt.SLOWER:
            return name, other, f"{name} is a little faster at"
    if gain.felt is Felt.NO_GAIN:
        return "", gain, "No noticeable difference at"
    return "", gain, "Too close to call at"


def _inside(sentence: str) -> str:
    return f"{sentence[:1].lower()}{sentence[1:]}"


def _listed(uses: Sequence[str]) -> str:
    *most, last = uses
    # The names of uses have commas in them.
    return f"{'; '.join(most)}{';' if most[1:] else ''} and {last}" if most else last


def _verdict(
    found: Upgraded, answers: dict[str, DriveAnswer], ranking: Ranking
) -> tuple[Block, ...]:
    lines = _sentences(found, answers)
    faster = [Paragraph(line, loud=n < 2) for n, line in enumerate(lines)]
    said = [
        Paragraph(f"{name}: {_inside(answer.words)}")
        for name, answer in answers.items()
        if not answer.advice.faults
    ]
    warned = [Paragraph(f"{n}: {a.warning}.", loud=True) for n, a in answers.items() if a.warning]
    both = replace(ranking, drives=tuple(d for d in ranking.drives if d.drive in answers))
    drawn = len(both.drives) > 1 and all(d.index is not None for d in both.drives)
    picture = [Picture("standing", ranking_chart(both))] if drawn else []
    return (*warned, *faster, *picture, *said)


def _size(size_bytes: int | None) -> str:
    return show_size(size_bytes) if size_bytes else "-"


def _glance(pair: Sequence[ReviewData]) -> Table:
    """Return what a buyer compares first."""
    drives = [it.sheet.drive for it in pair]
    ranking = pair[0].ranking_report.ranking
    index = {d.drive: d.index for d in ranking.drives}

    def claims(it: ReviewData) -> str:
        every = it.claims_report.verdicts if it.claims_report is not None else ()
        met = sum(j.verdict in (Verdict.MET, Verdict.BEATEN) for j in every)
        return f"{met} of {len(every)}" if every else "-"

    def slower(it: ReviewData) -> str:
        standing = it.ranking_report.standings.get(it.sheet.drive.name)
        return "; ".join(shortfall_lines(standing)) if standing is not None else ""

    rows = [
        ("price", *(d.spelled_price or "-" for d in drives)),
        ("capacity", *(_size(d.capacity_bytes) for d in drives)),
        ("interface", *(d.interface or "-" for d in drives)),
        (
            f"index ({truncate(str(ranking.yardstick), 24)} is 100)",
            *(figure_words(x) if (x := index.get(d.name)) is not None else "-" for d in drives),
        ),
        ("claims met", *(claims(it) for it in pair)),
        ("endurance", *(_size(d.endurance_bytes) for d in drives)),
        ("to know", *(slower(it) or "-" for it in pair)),
    ]
    shown = [row for row in rows if any(cell != "-" for cell in row[1:])]
    return Table("What a buyer compares first", ["", *(d.name for d in drives)], shown)


def _steps_table(found: Upgraded) -> Table:
    """Return each step on both, and which is faster."""
    first, second = found.new.name, found.old.name
    header = ["step", *(f"{truncate(name, 24)}, {rate_unit()}" for name in (first, second))]
    rows = [
        (
            parse(s.kind).label,
            figure_words(s.new, per_unit()),
            figure_words(s.old, per_unit()),
            figure_words(s.times),
            faster_words(s, first, second),
        )
        for s in found.upgrade.steps
    ]
    notes = ["in brackets: 95 % intervals; ratio: the first over the second"]
    return Table("Each step", [*header, "ratio", "faster"], rows, right=(1, 2, 3), notes=notes)


def _long_write(shelf: Shelf, names: Sequence[str]) -> tuple[Block, ...]:
    try:
        return (Picture("long-write", long_write_of(shelf, names)),)
    except UsageError:  # one of them has none, or not the same
        return ()


def _jobs(found: Upgraded) -> Table:
    table = jobs_table(found, brief=True)
    columns = [*table.columns[:-1], f"{truncate(found.new.name, 24)} takes"]
    return Table("How long jobs take", columns, table.rows, table.right, small=table.small)


def _uses(pair: Sequence[ReviewData]) -> Table:
    """Return how both sustain each load, the commonest first."""
    by_load: dict[str, list[Suitability]] = {}
    for it in pair:
        for one in it.fitted.empty:
            by_load.setdefault(one.load.name, []).append(one)
    both = [x for x in by_load.values() if any(s.headroom is not None for s in x)]
    both.sort(key=lambda x: x[0].load.common)
    rows = [(x[0].load.title, *map(stream_words, x)) for x in both]
    header = ["load", *(it.sheet.drive.name for it in pair)]
    return Table("Streams of each load that it sustains", header, rows, right=(1, 2))
