"""The review of one drive: the verdict first, then its basis."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from jovik.analysis.advice import ENOUGH, Rule
from jovik.analysis.claims import ClaimVerdict, Verdict
from jovik.analysis.comparability import long_write_of
from jovik.analysis.long_write_notes import fall_note
from jovik.analysis.lost_data import lost_by
from jovik.analysis.ranking import rank_sentence
from jovik.analysis.real_work import WorkKind, work_shares
from jovik.analysis.samples import UNKNOWN_SAMPLE
from jovik.analysis.step_result import StepResult
from jovik.base.errors import JovikError
from jovik.base.quantities import significant
from jovik.base.version import VERSION
from jovik.charts.claims import claims_chart
from jovik.charts.pairs import upgrade_chart
from jovik.charts.provenance import days_words, truncate
from jovik.charts.ranking import ranking_chart
from jovik.charts.real_work import real_work_chart
from jovik.queries.advice import reservations_of
from jovik.queries.claims import ClaimsReport
from jovik.queries.ranking import RankingReport, price_for_terabyte
from jovik.queries.readings import Noted
from jovik.queries.real_work import RealWork
from jovik.queries.upgrade import Upgraded
from jovik.report.csv_appendix import raw_figures
from jovik.report.document import (
    Block,
    Bullets,
    ClaimMarks,
    Document,
    Facts,
    Paragraph,
    Picture,
    ReviewerText,
    Section,
)
from jovik.report.html import special_names
from jovik.report.overview import around
from jovik.report.placeholders import Known, filled
from jovik.report.privacy import without_commands
from jovik.report.result_sections import (
    failed_section,
    how_section,
    instruments_section,
    latency_section,
    steps_section,
    tests_sections,
    work_blocks,
)
from jovik.report.review_data import ReviewData, gather
from jovik.report.reviewer_text import (
    ANSWER,
    BEGIN_MARK,
    END_MARK,
    VERDICT,
    read_words,
    split_part,
)
from jovik.report.steady_section import steady_section
from jovik.report.structured_data import linked_data
from jovik.sheets.sheet import Drive
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf
from jovik.steps import IoStep
from jovik.tables.advice import (
    advice_sentence,
    bad_sample_words,
    compared,
    fault_sentence,
    reservation_words,
)
from jovik.tables.claims import claims_summary, claims_table, doubts
from jovik.tables.drive_class import shortfall_lines, standing_table
from jovik.tables.evidence import passed_over_words
from jovik.tables.health import health_change_table
from jovik.tables.ranking import overall_table, places_table, ranking_foot
from jovik.tables.readings import readings_table
from jovik.tables.real_work import real_work_table
from jovik.tables.sheets import facts_line, sheet_table
from jovik.tables.suitability import by_short_test, fit_table
from jovik.tables.upgrade import jobs_table, money_words, upgrade_table


def review(
    shelf: Shelf,
    name: str,
    against: Sequence[str] = (),
    words: Path | None = None,
    found: RankingReport | None = None,
    refused: Callable[[str, JovikError], str] | None = None,
) -> Document:
    """Return the review of a drive as a document.

    Parameters
    ----------
    against : sequence of str
        Drives that it would replace.
    words : Path, optional
        The reviewer's own Markdown.
    found : RankingReport, optional
        The ranking, where it is at hand already.
    refused : callable, optional
        See `jovik.report.placeholders.filled`.

    Raises
    ------
    UnknownNameError, UsageError
        See `gather`, `read_words` and `jovik.report.placeholders.filled`.
    """
    it = gather(shelf, name, against, found)
    written = read_words(words) if words is not None else ""
    known = Known(it.sheet, it.results, it.claims_report, it.ranking_report, it.noted)
    answer, rest = split_part(filled(written, known, refused), ANSWER)
    # Unlike the other parts, an answer is plain text.
    answer = answer.replace(BEGIN_MARK, "[").replace(END_MARK, "]")
    verdict, own = split_part(rest, VERDICT)
    drive = it.sheet.drive
    sections = [
        Section("verdict", "The verdict", _verdict(it, answer.strip(), verdict)),
        Section("words", "In the reviewer's words", (ReviewerText(own),) if own.strip() else ()),
        Section("claims", "Claims against measured", _claims(it)),
        failed_section([r for _, each in it.runs for r in each]),
        *tests_sections(shelf, it.results),
        Section("work", "Real work", (*_work(it), *work_blocks(it.results))),
        latency_section(it.results),
        instruments_section(shelf, drive.name, it.runs),
        steady_section(shelf, drive.name, it.runs, it.results),
        Section("ranking", "Against others", (*_class(it), *_ranking(it))),
        *(
            Section(f"against-{n}", f"Instead of {u.old.name}", _against(n, u))
            for n, u in enumerate(it.upgrades, 1)
        ),
        Section("fit", "Sustainable workloads", (fit_table(it.fitted),)),
        Section("notes", "Read and noted by hand", _notes(it.noted)),
        Section("sheet", "Advertised specifications", (sheet_table(it.sheet),), folded=True),
        steps_section(it.runs),
        how_section(shelf, it.runs),
        Section("health", "Its own log", _health(it.runs), folded=True),
        Section("raw", "All figures", (raw_figures(drive.name, it.runs),), folded=True),
    ]
    subtitle = "; ".join(x for x in (facts_line(drive), f"measured {days_words(it.days)}") if x)
    summary = answer.strip() or f"{advice_sentence(it.advice, drive.capacity_bytes)}."
    page = Document(
        drive.name,
        subtitle,
        tuple(s for s in sections if s.blocks),
        f"Made by Jovik {VERSION}",
        names=special_names([drive.name, *it.ranking_report.drives]),
        summary=summary,
        data=linked_data(drive, summary, it.days, it.advice.class_title),
    )
    return without_commands(page)


MOST_GOOD, MOST_BAD = 4, 5
"""Lines of its best and worst uses at the top. All of them appear further down."""
NEAREST_RIVALS = 2
"""Rivals on each side, in the picture of the drive's position."""
SET_AS = {Verdict.MET: "good", Verdict.BEATEN: "good", Verdict.SHORT: "bad"}


def _verdict(it: ReviewData, answer: str, own: str) -> tuple[Block, ...]:
    """Return the top of the page: the answer first.

    Parameters
    ----------
    answer, own : str
        The reviewer's own answer and verdict, which take the place of ours; empty if there is none.
    """
    drive, found = it.sheet.drive, it.advice
    ours = f"{advice_sentence(found, drive.capacity_bytes)}."
    blocks: list[Block] = [Paragraph(answer or ours, loud=True)]
    if answer:
        blocks.append(Paragraph(f"By Jovik's rules: {ours[:1].lower()}{ours[1:]}"))
    shown = 1 if found.rule is Rule.FAULTS else 0
    more = [fault_sentence(x, drive.capacity_bytes) for x in found.faults[shown:]]
    blocks += [Paragraph(f"{x[:1].upper()}{x[1:]}.", loud=True) for x in more]
    doubtful = reservation_words(reservations_of(it.ranking_report, drive.name))
    blocks += [Paragraph(f"{x[:1].upper()}{x[1:]}.", loud=True) for x in doubtful]
    blocks += _about_samples(it)
    if own.strip():
        blocks.append(ReviewerText(own))
    else:
        blocks += _sentences(it)
    blocks += _standing(it)
    if it.claims_report is not None:
        blocks.append(_marks(it.claims_report))
    blocks += [_price(drive)] if _price(drive).items else []
    good, bad = _best_for(it), _watch_out(it)
    blocks += [Bullets("Best for", tuple(good[:MOST_GOOD]), "+")] if good else []
    blocks += [Bullets("Not for, and to know", tuple(bad[:MOST_BAD]), "!")] if bad else []
    trust = _trust(it)
    blocks += [Paragraph(f"Limits of trust: {'; '.join(trust)}.")] if trust else []
    blocks += [
        Bullets(title, tuple(n.text for n in it.noted.notes if n.sort == sort), mark)
        for title, sort, mark in REMARK_KINDS[:2]
        if _has(it.noted, sort)
    ]
    return tuple(blocks)


def _sentences(it: ReviewData) -> list[Block]:
    """Return sentences: the place among others, the gain from an upgrade, and the claims."""
    blocks: list[Block] = []
    few = reservations_of(it.ranking_report, it.sheet.drive.name).few
    if lost_by(it.results) is None and not few:
        rank = rank_sentence(it.ranking_report.ranking, it.sheet.drive.name)
        rank = rank.removeprefix(f"{it.sheet.drive.name}: ")
        # Only its first letter: MiB stays what it is.
        blocks.append(Paragraph(f"{rank[:1].upper()}{rank[1:]}.{_overall(it)}"))
    blocks += [Paragraph(f"Instead of {u.old.name}: {u.upgrade.conclusion}.") for u in it.upgrades]
    if it.claims_report is not None:
        blocks.append(Paragraph(f"{claims_summary(it.claims_report.verdicts)}."))
    return blocks


def _overall(it: ReviewData) -> str:
    """Return the index in words, beside the yardstick."""
    ranking = it.ranking_report.ranking
    row = next((d for d in ranking.drives if d.drive == it.sheet.drive.name), None)
    if row is None or row.index is None or row.drive == ranking.yardstick:
        return ""
    return f" Overall: {compared(row.index.scaled(0.01), truncate(str(ranking.yardstick), 40))}."


def _about_samples(it: ReviewData) -> list[Block]:
    """Return which samples are not right, with the evidence."""
    found = it.advice
    if not found.bad_samples or len(found.samples) < 2:
        return []
    words = bad_sample_words(found)
    evidence = [
        f"{s.sample}: {line}" + (f" (and {len(s.evidence) - 1} more)" if s.evidence[1:] else "")
        for s in it.ranking_report.passed_over.suspects.get(it.sheet.drive.name, ())
        for line in s.evidence[:1]
    ]
    said = [] if found.rule is Rule.FAULTY_SAMPLE else [Paragraph(f"{words}.", loud=True)]
    return [*said, *([Bullets("The samples", tuple(evidence[:MOST_BAD]), "!")] if evidence else [])]


def _standing(it: ReviewData) -> list[Block]:
    """Return a picture of the drive's position: its index against its nearest rivals."""
    drive = it.sheet.drive.name
    placed = [d for d in it.ranking_report.ranking.drives if d.index is not None]
    at = next((n for n, d in enumerate(placed) if d.drive == drive), None)
    if at is None or len(placed) < 2:
        return []
    first = max(0, min(at - NEAREST_RIVALS, len(placed) - 2 * NEAREST_RIVALS - 1))
    near = replace(
        it.ranking_report.ranking, drives=tuple(placed[first : first + 2 * NEAREST_RIVALS + 1])
    )
    return [Picture("standing", ranking_chart(near, drive))]


def _marks(found: ClaimsReport) -> ClaimMarks:
    return ClaimMarks(
        tuple(
            (
                j.claim.label,
                _figure(j),
                f"{'up to ' if j.claim.up_to else ''}{j.claim.shown()}",
                str(j.verdict),
                SET_AS.get(j.verdict, "open"),
            )
            for j in found.verdicts
        )
    )


def _figure(j: ClaimVerdict) -> str:
    """Return the measured figure, and how far its interval extends to either side."""
    if j.measured is None:
        return "not measured"
    half = j.measured.half_width
    reach = f" ±{100 * half:.1f} %" if half is not None else ", one pass"
    return j.claim.shown(j.measured.median) + reach


def _price(drive: Drive) -> Facts:
    terabyte = price_for_terabyte(drive)
    each = f"{terabyte:.0f} {drive.currency}" if terabyte is not None else ""
    items = (("price", drive.spelled_price), ("per TB", each))
    return Facts(tuple((name, value) for name, value in items if value))


def _trust(it: ReviewData) -> list[str]:
    """Return the limits of trust in the figures."""
    lines = []
    if any(r.conditions.engine == "model" for r in it.results):
        lines.append("simulated: this is a model drive")
    if sum(s != UNKNOWN_SAMPLE for s in it.advice.samples) == 1:
        lines.append("one sample was measured")
    lines += (
        [d.removeprefix("warning: ") for d in doubts(it.claims_report)] if it.claims_report else []
    )
    passed_over = passed_over_words(it.ranking_report.passed_over, it.sheet.drive.name)
    lines += [line.removeprefix("warning: ") for line in passed_over]
    single = sum(len(r.passes) == 1 for r in it.results if r.conditions.filled_percent is None)
    if single:
        lines.append(f"{single} {'step has' if single == 1 else 'steps have'} one pass")
    return list(dict.fromkeys(lines))


def _claims(it: ReviewData) -> tuple[Block, ...]:
    if it.claims_report is None:
        return ()
    return (Picture("claims", claims_chart(it.claims_report)), claims_table(it.claims_report))


REMARK_KINDS = (
    ("The reviewer likes", "pro", "+"),
    ("The reviewer does not like", "con", "!"),
    ("The reviewer notes", "remark", "-"),
)


def _has(found: Noted, sort: str) -> bool:
    return any(n.sort == sort for n in found.notes)


def _best_for(it: ReviewData) -> list[str]:
    """Return loads that it carries, the commonest first.

    None of them are those that wear it out before its warranty ends, or whose writing only a short
    test speaks for.
    """
    warranty = it.fitted.drive.warranty_years
    carried = [
        f
        for f in it.fitted.empty
        if f.headroom is not None and f.headroom >= ENOUGH and not by_short_test(f)
    ]
    lasting = [f for f in carried if not (f.years and warranty and f.years < warranty)]
    # In the order of common use: whoever buys a drive asks for the system first.
    lasting.sort(key=lambda f: (f.load.common, -(f.headroom or 0)))
    return [
        f"{f.load.title}: "
        + (
            f"{f.streams:,} at once"
            if f.load.many
            else f"{significant(f.headroom, 2)} times the need"
        )
        for f in lasting
        if f.headroom is not None
    ]


def _watch_out(it: ReviewData) -> list[str]:
    """Caveats: doubtful data, claims missed or untested, cliffs, loads not carried, wear."""
    standing = it.ranking_report.standings.get(it.sheet.drive.name)
    lines = shortfall_lines(standing) if standing is not None and standing.own else []
    for j in it.claims_report.verdicts if it.claims_report is not None else ():
        if j.verdict in (Verdict.SHORT, Verdict.HELD) and j.measured is not None:
            why = f" ({j.why})" if j.verdict is Verdict.HELD else ""
            claimed = f"{'up to ' if j.claim.up_to else ''}{j.claim.shown()}"
            lines.append(
                f"{j.claim.label}: {j.claim.shown(j.measured.median)}, claimed {claimed}{why}"
            )
    lines += [
        fall_note(written, written.cliff, ios=_counted_in_ios(r))
        for r in it.results
        if r.conditions.filled_percent is None
        and (written := long_write_of(r)) is not None
        and written.cliff is not None
    ][:1]
    lines += [
        f"too slow for: {f.load.title} ({f.ends})"
        for f in sorted(it.fitted.empty, key=lambda f: f.load.common)
        if f.headroom is not None and not f.carried
    ]
    warranty = it.fitted.drive.warranty_years
    worn = [
        f
        for f in it.fitted.empty
        if f.carried and f.years is not None and warranty is not None and f.years < warranty
    ]
    lines += [
        f"{f.load.title}: spends its endurance rating in {significant(f.years, 2)} years"
        for f in worn
        if f.years is not None
    ][:3]
    lines += [f"its log: {note}" for run, _ in it.runs for note in run.notes or []]
    return lines


def _work(it: ReviewData) -> tuple[Block, ...]:
    """Compare copies and programs with the box, unless only streams were measured."""
    shares = tuple(work_shares(it.sheet.claims, it.results))
    if all(x.kind is WorkKind.STREAM for x in shares):
        return ()
    work = RealWork(it.sheet.drive.name, shares)
    return (Picture("real-work", real_work_chart(work)), real_work_table(work))


def _class(it: ReviewData) -> tuple[Block, ...]:
    """Return the drive's position within the usual range of its class."""
    standing = it.ranking_report.standings.get(it.sheet.drive.name)
    return (standing_table(standing),) if standing is not None else ()


def _ranking(it: ReviewData) -> tuple[Block, ...]:
    ranking = it.ranking_report.ranking
    if sum(d.place is not None for d in ranking.drives) < 2:
        return (Paragraph("There is no other drive on this shelf to compare it with."),)
    drive = it.sheet.drive.name
    if not any(d.drive == drive for d in ranking.drives):
        foot = ranking_foot(it.ranking_report, only=drive)
        return tuple(Paragraph(f"{line}.") for line in foot)
    near = around(it.ranking_report, drive)
    few = (
        f"Shown are {len(near.ranking.drives)} of {len(ranking.drives)} drives: the best, "
        "and those next to it."
    )
    drawn = any(d.index is not None for d in near.ranking.drives)
    foot = ranking_foot(it.ranking_report, only=drive)
    return (
        *((Paragraph(few),) if len(near.ranking.drives) < len(ranking.drives) else ()),
        *((Picture("ranking", ranking_chart(near.ranking, drive)),) if drawn else ()),
        replace(overall_table(near), notes=foot),
        places_table(it.ranking_report, drive),
    )


def _against(number: int, found: Upgraded) -> tuple[Block, ...]:
    blocks: list[Block] = [Paragraph(f"{found.new.name}: {found.upgrade.conclusion}.")]
    if found.upgrade.steps:
        blocks += [Picture(f"against-{number}", upgrade_chart(found)), upgrade_table(found)]
    jobs = jobs_table(found)
    blocks += [jobs] if jobs.rows else []
    return (*blocks, *(Paragraph(f"{line}.") for line in money_words(found)))


def _health(runs: Sequence[tuple[RunRecord, tuple[StepResult, ...]]]) -> tuple[Block, ...]:
    return tuple(
        health_change_table(
            f"Before and after {run.plan}, {run.started[:10]}", run.health_before, run.health_after
        )
        for run, _ in runs
        if run.health_before
    )


def _notes(found: Noted) -> tuple[Block, ...]:
    lists = tuple(
        Bullets(title, tuple(n.text for n in found.notes if n.sort == sort), mark)
        for title, sort, mark in REMARK_KINDS
        if _has(found, sort)
    )
    return (*((readings_table(found),) if found.readings else ()), *lists)


def _counted_in_ios(result: StepResult) -> bool:
    """Return True if its rate is shown in I/Os a second, as for a random write."""
    step = result.step
    return isinstance(step, IoStep) and step.random
