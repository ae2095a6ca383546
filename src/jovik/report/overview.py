"""Every drive on the shelf on one page: the ranking, step by step, and the way to each review."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

from jovik.analysis.ranking import DriveRank
from jovik.base.interval import Interval
from jovik.base.quantities import show_size
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.version import VERSION
from jovik.charts.provenance import days_words
from jovik.charts.ranking import ranking_chart
from jovik.queries.advice import reservations_of
from jovik.queries.drive_class import class_of
from jovik.queries.instrument import LogKey
from jovik.queries.ranking import RankingReport, price_for_terabyte
from jovik.report.answers import DriveAnswer
from jovik.report.document import Block, Document, Links, Paragraph, Picture, Section, SiteTable
from jovik.report.html import special_names
from jovik.report.privacy import without_commands
from jovik.sheets.drive_class import read_class
from jovik.sheets.sheet import Drive
from jovik.shelf.store import Shelf
from jovik.steps import parse
from jovik.tables.drive_class import classes_table
from jovik.tables.ranking import ranking_foot, ranking_warnings, step_table
from jovik.tables.sheets import sheets_table
from jovik.tables.table import Table, figure_words

MAX_BARS = 16
"""So many bars a picture has room for."""
NEAR, TOP = 4, 3
"""Among many, a drive is shown with so many before and behind it, and the best so many."""


def front_page(
    shelf: Shelf,
    found: RankingReport,
    addresses: Mapping[str, str],
    answers: Mapping[str, DriveAnswer],
    links: Sequence[tuple[str, str]] = (),
) -> Document:
    """Return the ranking of all drives, and the way to every other page.

    Parameters
    ----------
    answers : mapping
        Whether to buy each drive.
    addresses : mapping
        The page of each drive that has one.
    links : sequence of (words, address)
        Pages of no single drive.
    """
    ranking = found.ranking
    placed = [
        d for d in ranking.drives if d.place is not None and not reservations_of(found, d.drive).few
    ]
    some = replace(ranking, drives=tuple(placed[:MAX_BARS]))
    more = f" The picture shows the first {MAX_BARS}." if len(placed) > MAX_BARS else ""
    few = sum(reservations_of(found, d.drive).few for d in ranking.drives)
    more += (
        f" {few} more were measured in few of them, and are listed below the others." if few else ""
    )
    reviews = tuple((name, page) for name, page in addresses.items())
    return _page(
        "Drives compared",
        found,
        [
            Section(
                "ranking",
                "The ranking",
                (
                    *_warnings(found, answers),
                    Paragraph(
                        f"{len(placed)} drives in {len(ranking.counted)} kinds of step.{more}"
                    ),
                    Picture("ranking", ranking_chart(some)),
                    answers_table(found, addresses, answers),
                    *ranking_tables(found, addresses),
                    *((Links(tuple(links)),) if links else ()),
                ),
            ),
            Section("reviews", "The reviews", (Links(reviews),) if reviews else ()),
            Section(
                "steps", "Step by step", tuple(step_table(found, kind) for kind in ranking.kinds)
            ),
            Section(
                "sheets",
                "The drives",
                (sheets_table([shelf.sheets.get(n) for n in shelf.sheets.names()]),),
                folded=True,
            ),
        ],
    )


def _warnings(found: RankingReport, answers: Mapping[str, DriveAnswer]) -> list[Paragraph]:
    """Return what belongs above the ranking, in loud letters."""
    pairs = [(d, w) for d, w in ranking_warnings(found) if d in answers]
    loud = [Paragraph(f"{drive} {words}.", loud=True) for drive, words in pairs]
    told = {drive for drive, _ in pairs}
    return loud + [
        Paragraph(f"{drive}: {answer.warning}.", loud=True)
        for drive, answer in answers.items()
        if answer.warning and drive not in told
    ]


def answers_table(
    found: RankingReport, addresses: Mapping[str, str], answers: Mapping[str, DriveAnswer]
) -> SiteTable:
    """List the answer about each drive, in the order of the ranking."""
    drives = [d.drive for d in found.ranking.drives if d.drive in answers]
    drives += [d for d in answers if d not in drives]
    rows = [(d, answers[d].words) for d in drives]
    table = Table("Which to buy", ["drive", "answer"], rows)
    return SiteTable(table, 0, tuple(addresses.get(d) for d in drives))


def ranking_tables(found: RankingReport, addresses: Mapping[str, str]) -> list[SiteTable]:
    """Return the ranking, and below it the drives that were measured in few of its steps."""
    few = [d for d in found.ranking.drives if reservations_of(found, d.drive).few]
    rest = [d for d in found.ranking.drives if d not in few]
    if not few or not rest:
        return [ranking_table(found, addresses)]

    def only(drives: Sequence[DriveRank]) -> RankingReport:
        return replace(found, ranking=replace(found.ranking, drives=tuple(drives)))

    unplaced = ranking_table(only([replace(d, place=None) for d in few]), addresses)
    title = f"Measured in fewer than half of the {len(found.ranking.counted)} steps"
    return [
        ranking_table(only(rest), addresses),
        replace(unplaced, table=replace(unplaced.table, title=title, notes=[]), filters=()),
    ]


def ranking_table(found: RankingReport, addresses: Mapping[str, str]) -> SiteTable:
    """List every drive with its index, class, capacity, price and steps."""
    kinds = found.ranking.kinds
    rows, hrefs = [], []
    for d in found.ranking.drives:
        drive = found.drives.get(d.drive)
        kind = class_of(drive) if drive is not None else None
        terabyte = price_for_terabyte(drive)
        by_kind = {s.kind: s for s in d.steps}
        rows.append(
            (
                str(d.place or "-"),
                d.drive,
                _index_words(found, d),
                kind.title if kind is not None else "-",
                show_size(drive.capacity_bytes) if drive and drive.capacity_bytes else "-",
                drive.spelled_price if drive and drive.price else "-",
                f"{terabyte:.0f}" if terabyte is not None else "-",
                *(
                    figure_words(by_kind[k].rate_bytes_s, per_unit()) if k in by_kind else "-"
                    for k in kinds
                ),
            )
        )
        hrefs.append(addresses.get(d.drive))
    header = ["place", "drive", "index", "class", "capacity", "price", "per TB"]
    header += [f"{parse(k).label}, {rate_unit()}" for k in kinds]
    notes = ranking_foot(found)
    right = (2, 4, 5, 6, *range(7, len(header)))
    table = Table("Every drive", header, rows, right=right, notes=notes)
    filters = ((3, "choice"), (4, "choice"), (5, "most"))
    return SiteTable(table, 1, tuple(hrefs), filters)


def _index_words(found: RankingReport, d: DriveRank) -> str:
    if d.index is None:
        return "-"
    return "100, yardstick" if d.drive == found.ranking.yardstick else figure_words(d.index)


def side_by_side(
    found: RankingReport,
    addresses: Mapping[str, str],
    logged: Mapping[str, Mapping[LogKey, Interval]],
) -> Document:
    """Return two to six drives side by side: their sheets, each step, and instruments' logs."""
    drives = [d for d in found.ranking.drives if d.drive in addresses]
    facts: list[tuple[str, Callable[[Drive], str]]] = [
        ("interface", lambda x: x.interface),
        ("capacity", lambda x: show_size(x.capacity_bytes) if x.capacity_bytes else "-"),
        ("price", lambda x: x.spelled_price or "-"),
        ("endurance", lambda x: show_size(x.endurance_bytes) if x.endurance_bytes else "-"),
    ]
    rows: list[tuple[str, ...]] = [
        ("index", *(_index_words(found, d) for d in drives)),
        ("place", *(str(d.place or "-") for d in drives)),
    ]
    for name, tell in facts:
        rows.append((name, *(tell(x) if (x := found.drives.get(d.drive)) else "-" for d in drives)))
    for kind in found.ranking.kinds:
        cells = []
        for d in drives:
            step = next((s for s in d.steps if s.kind == kind), None)
            cells.append(figure_words(step.rate_bytes_s, per_unit()) if step is not None else "-")
        rows.append((f"{parse(kind).label}, {rate_unit()}", *cells))
    for key in dict.fromkeys(k for of_drive in logged.values() for k in of_drive):
        means = [logged.get(d.drive, {}).get(key) for d in drives]
        if sum(m is not None for m in means) > 1:
            quantity, unit, what, method, instrument = key
            how = ", ".join(x for x in (instrument, method) if x)
            label = f"{quantity}, {unit}, {what}" + (f" ({how})" if how else "")
            rows.append((label, *(figure_words(m) if m is not None else "-" for m in means)))
    table = Table(
        "Side by side",
        ["", *(d.drive for d in drives)],
        rows,
        right=tuple(range(1, len(drives) + 1)),
        notes=["in brackets: 95 % intervals. If two of them overlap much, neither is ahead"],
    )
    links = Links(tuple((d.drive, addresses[d.drive]) for d in drives))
    sections = [
        Section("compare", "Side by side", (SiteTable(table, chooses=True),)),
        Section("reviews", "The reviews", (links,)),
    ]
    return _page("Drives side by side", found, sections)


def class_page(
    found: RankingReport,
    addresses: Mapping[str, str],
    answers: Mapping[str, DriveAnswer],
    name: str,
    title: str,
    drives: Sequence[str],
) -> Document:
    """Return the drives of one class, and its usual figures."""
    shown = tuple(d for d in found.ranking.drives if d.drive in drives)
    reduced = replace(found, ranking=replace(found.ranking, drives=shown))
    own = {d: a for d, a in answers.items() if d in drives}
    blocks: list[Block] = [answers_table(reduced, addresses, own)] if own else []
    blocks += ranking_tables(reduced, addresses) if shown else []
    if sum(d.index is not None for d in shown) > 1:
        few = replace(reduced.ranking, drives=shown[:MAX_BARS])
        blocks.insert(0, Picture("ranking", ranking_chart(few)))
    blocks = [*_warnings(found, own), *blocks]
    usual = classes_table([read_class(name)])
    sections = [
        Section("ranking", "The ranking", tuple(blocks)),
        Section("usual", "Usual figures", (usual,)),
    ]
    return _page(title, found, sections)


def _page(title: str, found: RankingReport, sections: Sequence[Section]) -> Document:
    when = days_words(s.result.started[:10] for d in found.ranking.drives for s in d.steps)
    with_content = tuple(s for s in sections if s.blocks)
    names = special_names(found.drives)
    page = Document(
        title, f"Measured {when}", with_content, f"Made by Jovik {VERSION}", names=names
    )
    return without_commands(page)


def around(found: RankingReport, drive: str) -> RankingReport:
    """Return the ranking as one drive's review shows it.

    All of a few, of many the best and those next to it.
    """
    rows = found.ranking.drives
    at = next(n for n, d in enumerate(rows) if d.drive == drive)
    shown = [d for n, d in enumerate(rows) if n < TOP or abs(n - at) <= NEAR]
    if len(rows) <= MAX_BARS:
        shown = list(rows)
    return replace(found, ranking=replace(found.ranking, drives=tuple(shown)))
