"""The review of one drive: the verdict first, then everything it rests on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from jovik.analysis.claims import Verdict
from jovik.analysis.comparability import long_write_of
from jovik.analysis.long_write_notes import fall_note
from jovik.analysis.lost_data import lost_by, lost_words
from jovik.analysis.ranking import rank_sentence
from jovik.analysis.real_work import WorkKind, work_shares
from jovik.base.errors import UsageError
from jovik.base.quantities import significant
from jovik.base.step_result import StepResult
from jovik.base.version import VERSION
from jovik.queries.claims import Judged, judged
from jovik.queries.ranking import Ranked, ranked
from jovik.queries.readings import Noted, noted
from jovik.queries.real_work import RealWork
from jovik.queries.suitability import Fitted, fitted
from jovik.queries.upgrade import Upgraded, upgraded
from jovik.report import pictures
from jovik.report.csv_appendix import raw_figures
from jovik.report.document import Block, Bullets, Document, Paragraph, ReviewerText, Section
from jovik.report.overview import around
from jovik.report.reviewer_text import read_words
from jovik.report.steady_section import steady_section
from jovik.report.test_sections import how_section, instruments_section, tests_section
from jovik.sheets.load import load_names, read_load
from jovik.sheets.sheet import Sheet
from jovik.shelf.read_runs import RunRecord
from jovik.shelf.store import Shelf
from jovik.steps import IoStep, parse
from jovik.tables.claims import claims_summary, claims_table, doubts
from jovik.tables.drive_class import standing_table
from jovik.tables.health import health_change_table
from jovik.tables.ranking import overall_table, places_table, ranking_foot
from jovik.tables.readings import readings_table
from jovik.tables.real_work import real_work_table
from jovik.tables.sheets import facts_line, sheet_table
from jovik.tables.suitability import by_short_test, fit_table
from jovik.tables.upgrade import jobs_table, money_words, upgrade_table


@dataclass(frozen=True)
class ReviewData:
    """All that the shelf knows of a drive under review."""

    sheet: Sheet
    results: tuple[StepResult, ...]
    runs: tuple[tuple[RunRecord, tuple[StepResult, ...]], ...]
    judged: Judged | None
    ranked: Ranked
    fitted: Fitted
    upgrades: tuple[Upgraded, ...]
    noted: Noted


def gather(shelf: Shelf, name: str, against: Sequence[str] = ()) -> ReviewData:
    """Everything a review is made of.

    Runs in the order of the work, only those whose figures still count.

    Raises
    ------
    UnknownNameError, UsageError
        A drive is not there, or was not measured.
    """
    sheet = shelf.sheet(name)
    drive = sheet.drive.name
    results = shelf.latest_results(drive, with_latencies=True, filled=True, ladders=True)
    if not results:
        raise UsageError(
            f"{drive} has not been measured",
            f'measure it: jovik measure TARGET --drive "{drive}" --plan full-review',
        )
    keys = sorted({r.run for r in results})
    return ReviewData(
        sheet,
        tuple(results),
        tuple((shelf.run(k), tuple(shelf.results_of_run(k, counted=True))) for k in keys),
        judged(shelf, drive) if sheet.claims else None,
        ranked(shelf),
        fitted(shelf, drive, [read_load(n) for n in load_names()]),
        tuple(upgraded(shelf, other, drive) for other in against),
        noted(shelf, drive),
    )


def review(
    shelf: Shelf, name: str, against: Sequence[str] = (), words: Path | None = None
) -> Document:
    """The review of a drive as a document.

    Parameters
    ----------
    against : sequence of str
        Drives that it would replace.
    words : Path, optional
        The reviewer's own Markdown.

    Raises
    ------
    UnknownNameError, UsageError
        See `gather` and `read_words`.
    """
    own = read_words(words) if words is not None else ""
    it = gather(shelf, name, against)
    drive = it.sheet.drive
    sections = [
        Section("verdict", "The verdict", _verdict(it)),
        Section("words", "In the reviewer's words", (ReviewerText(own),) if own.strip() else ()),
        Section("sheet", "What the box says", (sheet_table(it.sheet),) if it.sheet.claims else ()),
        tests_section(shelf, it.runs, it.results),
        steady_section(shelf, drive.name, it.runs, it.results),
        Section("work", "Real work against the box", _work(it)),
        instruments_section(shelf, drive.name, it.runs),
        Section(
            "claims",
            "Claims against measured",
            (pictures.claims_picture(it.judged), claims_table(it.judged)) if it.judged else (),
        ),
        Section("class", "In its class", _class(it)),
        Section("ranking", "Among the others", _ranking(it)),
        *(
            Section(f"against-{n}", f"Against {u.old.name}", _against(n, u))
            for n, u in enumerate(it.upgrades, 1)
        ),
        Section("fit", "What it carries", (fit_table(it.fitted),)),
        Section("health", "Its own log", _health(it.runs)),
        Section("notes", "Read and noted by hand", _notes(it.noted)),
        how_section(shelf, it.runs),
        Section("raw", "All figures", (raw_figures(drive.name, it.runs),)),
    ]
    dates = sorted({run.started[:10] for run, _ in it.runs})
    when = dates[0] if len(dates) == 1 else f"{dates[0]} to {dates[-1]}"
    simulated = (
        "simulated: this is a model drive"
        if any(r.conditions.engine == "model" for r in it.results)
        else ""
    )
    subtitle = "; ".join(x for x in (facts_line(drive), f"measured {when}", simulated) if x)
    made = Document(
        drive.name, subtitle, tuple(s for s in sections if s.blocks), f"Made by Jovik {VERSION}"
    )
    return pictures.render_pictures(made)


def _verdict(it: ReviewData) -> tuple[Block, ...]:
    drive = it.sheet.drive.name
    said: list[Block] = []
    lost = lost_by(it.results)
    if lost is not None:
        words = lost_words(lost, it.sheet.drive.capacity_bytes)
        said.append(Paragraph(f"It {words}.", loud=True))
    if it.judged is not None:
        said.append(Paragraph(f"{claims_summary(it.judged.judgements)}.", loud=True))
    if lost is None:
        said.append(Paragraph(f"{rank_sentence(it.ranked.ranking, drive)}."))
    said += [Paragraph(f"Instead of {u.old.name}: {u.upgrade.conclusion}.") for u in it.upgrades]
    good, bad = _best_for(it), _watch_out(it)
    said += [Bullets("Best for", tuple(good), "+")] if good else []
    said += [Bullets("Watch out", tuple(bad), "!")] if bad else []
    said += [
        Bullets(title, tuple(n.text for n in it.noted.notes if n.sort == sort), mark)
        for title, sort, mark in SORTS[:2]
        if _has(it.noted, sort)
    ]
    return tuple(said)


SORTS = (
    ("The reviewer likes", "pro", "+"),
    ("The reviewer does not like", "con", "!"),
    ("The reviewer notes", "remark", "-"),
)


def _has(found: Noted, sort: str) -> bool:
    return any(n.sort == sort for n in found.notes)


def _best_for(it: ReviewData) -> list[str]:
    """Loads that it carries, those with the most headroom first.

    None of them are those that wear it out before its warranty ends, or whose writing only a short
    test speaks for.
    """
    warranty = it.fitted.drive.warranty_years
    carried = [
        f for f in it.fitted.empty if f.carried and f.headroom is not None and not by_short_test(f)
    ]
    lasting = [f for f in carried if not (f.years and warranty and f.years < warranty)]
    lasting.sort(key=lambda f: -(f.headroom or 0))
    return [
        f"{f.load.title}: "
        + (
            f"{f.streams:,} at once"
            if f.load.many
            else f"{significant(f.headroom, 2)} times what it needs"
        )
        for f in lasting[:5]
        if f.headroom is not None
    ]


def _watch_out(it: ReviewData) -> list[str]:
    """Caveats: doubtful data, claims missed or untested, cliffs, loads not carried, wear."""
    said = [d.removeprefix("warning: ") for d in doubts(it.judged)] if it.judged is not None else []
    for j in it.judged.judgements if it.judged is not None else ():
        if j.verdict in (Verdict.SHORT, Verdict.HELD) and j.measured is not None:
            why = f" ({j.why})" if j.verdict is Verdict.HELD else ""
            claimed = f"{'up to ' if j.claim.up_to else ''}{j.claim.shown()}"
            said.append(
                f"{j.claim.label}: {j.claim.shown(j.measured.median)}, claimed {claimed}{why}"
            )
    said += [
        fall_note(written, written.cliff, ios=_counted_in_ios(r))
        for r in it.results
        if r.conditions.filled_percent is None
        and (written := long_write_of(r)) is not None
        and written.cliff is not None
    ][:1]
    said += [
        f"does not carry: {f.load.title} ({f.ends})"
        for f in it.fitted.empty
        if f.headroom is not None and not f.carried
    ]
    warranty = it.fitted.drive.warranty_years
    worn = [
        f
        for f in it.fitted.empty
        if f.carried and f.years is not None and warranty is not None and f.years < warranty
    ]
    said += [
        f"{f.load.title}: spends its endurance rating in {significant(f.years, 2)} years"
        for f in worn
        if f.years is not None
    ][:3]
    said += (
        [f"{sum(r.errors for r in it.results)} errors while it was measured"]
        if any(r.errors for r in it.results)
        else []
    )
    said += [f"its log: {note}" for run, _ in it.runs for note in run.notes or []]
    return said


def _work(it: ReviewData) -> tuple[Block, ...]:
    """Copies and programs against the box; nothing where only streams were measured."""
    shares = tuple(work_shares(it.sheet.claims, it.results))
    if all(x.kind is WorkKind.STREAM for x in shares):
        return ()
    found = RealWork(it.sheet.drive.name, shares)
    return (pictures.real_work_picture(found), real_work_table(found))


def _class(it: ReviewData) -> tuple[Block, ...]:
    """Where the drive lies among what is usual for its kind."""
    standing = it.ranked.standings.get(it.sheet.drive.name)
    return (standing_table(standing),) if standing is not None else ()


def _ranking(it: ReviewData) -> tuple[Block, ...]:
    ranking = it.ranked.ranking
    if sum(d.place is not None for d in ranking.drives) < 2:
        return (Paragraph("There is no other drive on this shelf to place it among."),)
    drive = it.sheet.drive.name
    if not any(d.drive == drive for d in ranking.drives):
        foot = ranking_foot(it.ranked, only=drive)
        return tuple(Paragraph(f"{line}.") for line in foot)
    near = around(it.ranked, drive)
    few = (
        f"Shown are {len(near.ranking.drives)} of {len(ranking.drives)} drives: the best, "
        "and those next to it."
    )
    drawn = any(d.index is not None for d in near.ranking.drives)
    foot = ranking_foot(it.ranked, only=drive)
    return (
        *((Paragraph(few),) if len(near.ranking.drives) < len(ranking.drives) else ()),
        *((pictures.ranking_picture(near.ranking, drive),) if drawn else ()),
        replace(overall_table(near), notes=foot),
        places_table(it.ranked, drive),
    )


def _against(number: int, found: Upgraded) -> tuple[Block, ...]:
    said: list[Block] = [Paragraph(f"{found.new.name}: {found.upgrade.conclusion}.")]
    if found.upgrade.steps:
        said += [pictures.upgrade_picture(number, found), upgrade_table(found)]
    jobs = jobs_table(found)
    said += [jobs] if jobs.rows else []
    return (*said, *(Paragraph(f"{line}.") for line in money_words(found)))


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
        for title, sort, mark in SORTS
        if _has(found, sort)
    )
    return (*((readings_table(found),) if found.readings else ()), *lists)


def _counted_in_ios(result: StepResult) -> bool:
    """Whether its rate is told in I/Os a second: a random write."""
    step = parse(result.phrase)
    return isinstance(step, IoStep) and step.random
