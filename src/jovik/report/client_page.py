"""One printed page for a client: the current drive, the new one, and the gain.

In seconds of daily work and in plain words; no more is promised than was measured on both drives.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from jovik.analysis.upgrade import Felt
from jovik.base.interval import Interval
from jovik.base.quantities import show_rate, show_size, show_time
from jovik.base.version import VERSION
from jovik.charts.provenance import days_words
from jovik.queries.upgrade import Upgraded
from jovik.report.document import Block, Bullets, Document, Paragraph, Section
from jovik.report.language import in_language
from jovik.report.page_files import write_pages
from jovik.report.publishing import check_pages
from jovik.report.translation import Translator
from jovik.tables.table import Table
from jovik.tables.upgrade import job_change, money_words

PLAIN_JOBS = {
    "copy 25 GB of mixed files": "Copying photographs and films onto it, 25 GB",
    "load an 8 GB project": "Reading a large project, 8 GB",
    "200,000 small reads": "The drive's part in starting programs, 200,000 small reads",
}
"""Jobs in a client's words."""


def client_document(found: Sequence[Upgraded], machine_price: float | None = None) -> Document:
    """Return the page about one drive that would be replaced, by one or several others."""
    old = found[0].old
    sections = [Section("what", "Subject", _about(found))]
    for number, one in enumerate(found, start=1):
        key = f"change-{number}" if len(found) > 1 else "change"
        sections.append(Section(key, f"With the {one.new.name}", _change_of(one, machine_price)))
    sections.append(Section("basis", "Basis of the figures", _basis(found)))
    when = days_words(r.started[:10] for one in found for r in one.results if r.started)
    return Document(
        f"A new drive in place of the {old.name}",
        f"Measured {when}" if when else "",
        tuple(s for s in sections if s.blocks),
        f"Made by Jovik {VERSION}",
    )


def publish_client_page(
    found: Sequence[Upgraded],
    out: Path,
    machine_price: float | None = None,
    translator: Translator | None = None,
    *,
    force: bool = False,
) -> list[Path]:
    """Write the page to ``FILE.html`` (for printing) or ``FILE.md``, and return the files.

    Raises
    ------
    UsageError
        The ending is neither, or the file belongs to another user.
    OutputError
        It cannot be written.
    """
    check_pages(out)
    document = in_language(client_document(found, machine_price), translator)
    pages = [out] if out.suffix else [out / "upgrade.html", out / "upgrade.md"]
    return write_pages(document, pages, force=force)


def _about(found: Sequence[Upgraded]) -> tuple[Block, ...]:
    drives = [found[0].old, *(one.new for one in found)]
    rows = [
        (
            d.name,
            "in the computer now" if number == 0 else "would replace it",
            show_size(d.capacity_bytes) if d.capacity_bytes else "-",
            d.interface or "-",
            "-" if number == 0 else d.spelled_price,
        )
        for number, d in enumerate(drives)
    ]
    columns = ["drive", "", "holds", "connection", "price"]
    return (Table("The drives", columns, rows, right=(2, 4)),)


def _change_of(one: Upgraded, machine_price: float | None) -> tuple[Block, ...]:
    u = one.upgrade
    rows = [
        (
            PLAIN_JOBS.get(j.job.name, j.title),
            _rounded(j.old),
            _rounded(j.new),
            job_change(j),
        )
        for j in u.jobs
        if j.old is not None and j.new is not None
    ]
    rows += [
        (
            f"{_capital(r.what)}, one reading each",
            r.shown,
            s.shown,
            f"{100 * (s.value / r.value - 1):+.0f} %",
        )
        for r, s in one.readings
        if r.value
    ]
    blocks: list[Block] = [Paragraph(_verdict(one), loud=True)]
    if rows:
        blocks.append(Table("Waiting", ["", "now", "then", "change"], rows, right=(1, 2, 3)))
    blocks += [
        Bullets(title, uses, mark)
        for title, felt, mark in (
            ("Faster", Felt.WORTH, "+"),
            ("No noticeable change", Felt.NO_GAIN, "-"),
            ("Slower", Felt.SLOWER, "!"),
            ("Undecided by the measurements", Felt.OPEN, "-"),
        )
        if (uses := u.felt(felt))
    ]
    if one.link_bytes_s is not None:
        blocks.append(
            Paragraph(
                f"The computer's connection is limited to {show_rate(one.link_bytes_s)}, "
                "and no drive on "
                "it is faster. The figures above include this limit."
            )
        )
    costs = [w for w in money_words(one, machine_price) if not w.startswith("price")]
    price = [f"The drive costs {one.new.spelled_price}."] if one.new.price else []
    if price or costs:
        blocks.append(Paragraph(" ".join([*price, *(f"{_capital(w)}." for w in costs)])))
    return tuple(blocks)


def _verdict(one: Upgraded) -> str:
    """Return one sentence on the saving in the longest wait, or on there being none."""
    if one.upgrade.lost is not None or not one.upgrade.steps:
        return f"{_capital(one.upgrade.conclusion)}."
    surely = [j for j in one.upgrade.jobs if j.apart and j.old is not None and j.new is not None]
    if not surely:
        return "No daily job is known to take less time with it."
    job = max(surely, key=lambda j: abs(j.old.median - j.new.median) if j.old and j.new else 0.0)
    assert job.old is not None and job.new is not None
    what = PLAIN_JOBS.get(job.job.name, job.title).rsplit(", ", 1)[0]
    before, after = (show_time(v.median * 1e9, 2) for v in (job.old, job.new))
    return f"{what} takes {after} instead of {before}."


def _rounded(time_s: Interval) -> str:
    """Return a time for people: two digits, and its range if that shows in them."""
    shown, low, high = (show_time(s * 1e9, 2) for s in (time_s.median, time_s.least, time_s.most))
    return shown if low == shown == high else f"{shown} ({low} to {high})"


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def _basis(found: Sequence[Upgraded]) -> tuple[Block, ...]:
    steps = sum(len(one.upgrade.steps) for one in found)
    lines = [
        f"Both drives were measured with the same tests ({steps} comparisons). The seconds are "
        "computed from those figures. A range in brackets contains the true figure in 95 of 100 "
        "cases.",
        "A computer that waits for its processor, its network or its user is no faster with "
        "another "
        "drive. This page promises nothing beyond the figures above.",
    ]
    if any(j.predicted for one in found for j in one.upgrade.jobs):
        lines.append(
            "A time that is marked as predicted is computed by a model of the drive. Its range "
            "contains the true figure in 90 of 100 cases."
        )
    if any(one.passed_over.slowed() for one in found):
        lines.append("The machine may have limited at least one figure.")
    return tuple(Paragraph(line) for line in lines)
