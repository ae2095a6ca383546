"""What went wrong with a drive, in a fair paragraph for readers and one for its maker.

Both say what was measured, how and on what. The evidence is an archive beside them.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from jovik.analysis.claims import Verdict
from jovik.analysis.samples import UNKNOWN_SAMPLE
from jovik.base.atomic_files import refuse_foreign
from jovik.base.terminal_text import file_name
from jovik.base.version import VERSION
from jovik.charts.provenance import days_words
from jovik.report.document import Block, Bullets, Document, Paragraph, Section
from jovik.report.page_files import OWN_FILE_MARKS, make_folder, write_pages
from jovik.report.privacy import folders_of, without_paths
from jovik.report.publishing import check_pages
from jovik.report.review_data import ReviewData, gather
from jovik.shelf.store import Shelf
from jovik.tables.advice import advice_sentence, bad_sample_words, fault_sentence
from jovik.tables.claims import claims_summary


def publish_letter(shelf: Shelf, drive: str, out: Path, *, force: bool = False) -> list[Path]:
    """Write both paragraphs and the evidence, and return the files.

    Parameters
    ----------
    out : Path
        ``FILE.html``, ``FILE.md`` or a folder for both. The archive lies beside them.

    Raises
    ------
    UnknownNameError, UsageError
        The drive is unknown or was not measured, or a file is not Jovik's.
    OutputError
        A file cannot be written.
    """
    check_pages(out)
    it = gather(shelf, drive)
    name = file_name(it.sheet.drive.name)
    pages = [out] if out.suffix else [out / f"{name}.html", out / f"{name}.md"]
    archive = pages[0].with_suffix(".zip")
    refuse_foreign(archive, OWN_FILE_MARKS[".zip"], force=force)
    document = letter(it, archive.name)
    hidden = without_paths(document, folders_of(shelf.results.copied(it.sheet.drive.name)))
    make_folder(archive.parent)
    # The evidence first: no letter names an archive that is not there.
    shelf.export(archive, it.sheet.drive.name, force=True)
    return [*write_pages(hidden, pages, force=force), archive]


def letter(it: ReviewData, archive: str) -> Document:
    """Return both paragraphs as a document. `archive` is the name of the evidence."""
    drive, found = it.sheet.drive, it.advice
    faults = [f"{_upper(fault_sentence(f, drive.capacity_bytes))}." for f in found.faults]
    samples = [f"{_upper(bad_sample_words(found))}."] if found.bad_samples else []
    claims = [f"{_upper(claims_summary(it.claims_report.verdicts))}."] if it.claims_report else []
    answer = f"{advice_sentence(found, drive.capacity_bytes)}."
    # What the answer says already is not said twice.
    told = [s for s in (*samples, *faults) if s[1:] not in answer]
    readers = [
        f"{_upper(_count(it))} of the {drive.name} {_were(it)} measured ({days_words(it.days)}).",
        *told,
        *claims,
        answer,
        "Another sample may differ.",
    ]
    findings = [*_of_samples(it), *(f.rstrip(".") for f in faults), *_short_claims(it)]
    maker: list[Block] = [Paragraph(_method(it))]
    if findings:
        maker.append(Bullets("Findings", tuple(findings), "!"))
    maker.append(
        Paragraph(
            f"Every pass is in {archive} with its time series, as JSON and CSV; "
            f"jovik shelf import {archive} puts it on a shelf. "
            + ("How do you explain these findings?" if findings else "There was nothing to object.")
        )
    )
    return Document(
        drive.name,
        f"Measured {days_words(it.days)}",
        (
            Section("readers", "For readers", (Paragraph(" ".join(readers)),)),
            Section("maker", "For the maker", tuple(maker)),
        ),
        f"Made by Jovik {VERSION}",
    )


def _method(it: ReviewData) -> str:
    """Return what was measured, how and on what."""
    conditions = [r.conditions for _, each in it.runs for r in each]
    firmware = _list(c.firmware for c in conditions)
    links = _list(c.link for c in conditions)
    rigs = _list(run.rig for run, _ in it.runs)
    plans = _list(run.plan for run, _ in it.runs)
    model = " It is a model drive: the figures are simulated." if _simulated(it) else ""
    return (
        f"We measured {_count(it)} of your {it.sheet.drive.name}"
        f"{f' (firmware {firmware})' if firmware else ''} on {rigs or 'one machine'}"
        f"{f' ({links})' if links else ''}, {days_words(it.days)}, with Jovik {VERSION}: {plans}. "
        f"Each figure is a median with a 95 % interval.{model}"
    )


def _of_samples(it: ReviewData) -> list[str]:
    suspects = it.ranking_report.passed_over.suspects.get(it.sheet.drive.name, ())
    return [f"{s.sample}: {line}" for s in suspects for line in s.evidence]


def _short_claims(it: ReviewData) -> list[str]:
    if it.claims_report is None:
        return []
    return [
        f"{v.claim.label}: {v.claim.shown(v.measured.median)}, claimed "
        f"{'up to ' if v.claim.up_to else ''}{v.claim.shown()}"
        + (f" ({v.claim.printed})" if v.claim.printed else "")
        for v in it.claims_report.verdicts
        if v.verdict is Verdict.SHORT and v.measured is not None
    ]


def _simulated(it: ReviewData) -> bool:
    return any(r.conditions.engine == "model" for r in it.results)


def _count(it: ReviewData) -> str:
    count = len([s for s in it.advice.samples if s != UNKNOWN_SAMPLE]) or 1
    return f"{count} sample" + ("s" if count > 1 else "")


def _were(it: ReviewData) -> str:
    return "was" if _count(it).startswith("1 ") else "were"


def _list(values: Iterable[str | None]) -> str:
    return ", ".join(dict.fromkeys(v for v in values if v))


def _upper(words: str) -> str:
    return words[:1].upper() + words[1:]
