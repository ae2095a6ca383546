"""Figures in the reviewer's own words, which stay true when the drive is measured again.

``{{ judge }}`` and ``{{ figure "random read 4KiB" }}`` stand for what the shelf says when the page
is made.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.comparability import long_write_of, rate_of
from jovik.analysis.long_write_notes import fall_note
from jovik.analysis.ranking import rank_sentence
from jovik.analysis.step_result import StepResult
from jovik.base.errors import JovikError, UnknownNameError, UsageError
from jovik.base.quantities import show_time
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.queries.claims import ClaimsReport
from jovik.queries.ranking import RankingReport, price_for_terabyte
from jovik.queries.readings import Noted
from jovik.report.reviewer_text import BEGIN_MARK, END_MARK
from jovik.sheets.sheet import Sheet
from jovik.steps import parse
from jovik.tables.claims import claims_summary
from jovik.tables.replay import program_words
from jovik.tables.table import figure_words

PLACEHOLDER = re.compile(r"\{\{\s*([a-z-]*)\s*(?:[\"“”]([^\"“”}]*)[\"“”])?\s*\}\}")

TEMPLATE = """\
# Verdict

{{ judge }}. Two sentences of your own, at the top of the page.

# Impressions

It reads {{ figure "sequential read 1MiB depth 8" }}, and a single small read takes
{{ latency "random read 4KiB" }}. Among the others: {{ rank }}.
"""
"""A draft for the reviewer."""


@dataclass(frozen=True)
class Known:
    """The data for placeholders."""

    sheet: Sheet
    results: Sequence[StepResult]
    claims_report: ClaimsReport | None
    ranking_report: RankingReport
    noted: Noted


def highlighted(written: str, error: JovikError) -> str:
    """Return a placeholder that cannot be filled, to be highlighted with the reason."""
    return f"{BEGIN_MARK}{written}: {error.message.splitlines()[0]}{END_MARK}"


def filled(
    markdown: str, known: Known, refused: Callable[[str, JovikError], str] | None = None
) -> str:
    """Return the text with every placeholder replaced. An escaped one (``\\{{``) stays.

    Parameters
    ----------
    refused : callable, optional
        Given a placeholder that cannot be filled and the reason, returns what stands there then.

    Raises
    ------
    UnknownNameError
        A placeholder, a step, a claim or a reading is not known: with the nearest.
    UsageError
        The named value does not exist, or a name is missing.
    """

    def value(m: re.Match[str]) -> str:
        try:
            return _value(m[1], m[2], known, m[0])
        except JovikError as error:
            if refused is None:
                raise
            return refused(m[0], error)

    plain = markdown.replace(BEGIN_MARK, "").replace(END_MARK, "")
    return PLACEHOLDER.sub(value, plain)


def _value(word: str, name: str | None, known: Known, written: str) -> str:
    if word not in PLAIN_PLACEHOLDERS and word not in NAMED_PLACEHOLDERS:
        raise UnknownNameError(
            "placeholder",
            word or written,
            [*PLAIN_PLACEHOLDERS, *NAMED_PLACEHOLDERS],
            "docs/review.md lists them",
        )
    if word in PLAIN_PLACEHOLDERS:
        value = PLAIN_PLACEHOLDERS[word](known)
        if not value:
            raise UsageError(f"{written}: there is no such figure", "measure it, or omit it")
        return value
    if not name:
        raise UsageError(f"{written} needs a name in quotes", f'such as {{{{ {word} "..." }}}}')
    return NAMED_PLACEHOLDERS[word](known, name)


def _judge(known: Known) -> str:
    return claims_summary(known.claims_report.verdicts) if known.claims_report is not None else ""


def _rank(known: Known) -> str:
    drive = known.sheet.drive.name
    return rank_sentence(known.ranking_report.ranking, drive).removeprefix(f"{drive}: ")


def _index(known: Known) -> str:
    row = next(
        (d for d in known.ranking_report.ranking.drives if d.drive == known.sheet.drive.name), None
    )
    return figure_words(row.index) if row is not None and row.index is not None else ""


def _per_terabyte(known: Known) -> str:
    price = price_for_terabyte(known.sheet.drive)
    return f"{price:.0f} {known.sheet.drive.currency}" if price is not None else ""


def _cliff(known: Known) -> str:
    for r in known.results:
        written = long_write_of(r)
        if (
            written is not None
            and written.cliff is not None
            and r.conditions.filled_percent is None
        ):
            return fall_note(written, written.cliff).removeprefix("the cliff: ")
    return ""


PLAIN_PLACEHOLDERS: dict[str, Callable[[Known], str]] = {
    "drive": lambda known: known.sheet.drive.name,
    "judge": _judge,
    "rank": _rank,
    "index": _index,
    "price": lambda known: known.sheet.drive.spelled_price,
    "price-per-tb": _per_terabyte,
    "cliff": _cliff,
}
"""Placeholders that stand alone."""


def _step(known: Known, phrase: str) -> StepResult:
    """Return the result of a step on the drive as it is, not filled on purpose."""
    empty = [r for r in known.results if r.passes and r.conditions.filled_percent is None]
    try:
        kind = parse(phrase).pinned().kind
    except JovikError:
        kind = phrase
    result = next((r for r in empty if r.kind == kind), None)
    if result is None:
        raise UnknownNameError("measured step", phrase, [r.kind for r in empty], "measure it")
    return result


def _figure(known: Known, phrase: str) -> str:
    result = _step(known, phrase)
    if result.findings.replay is not None:
        return program_words(result.findings.replay)
    return f"{figure_words(rate_of(result), per_unit())} {rate_unit()}"


def _iops(known: Known, phrase: str) -> str:
    result = _step(known, phrase)
    return f"{figure_words(result.iops)} IOPS"


def _latency(known: Known, phrase: str) -> str:
    short = all_latencies_ns(_step(known, phrase))
    if short is None or short.get("p50") is None:
        raise UsageError(f"no latencies of '{phrase}' are known")
    p50, p99 = short.get("p50"), short.get("p99")
    words = f"{show_time(p50)} at the median" if p50 is not None else ""
    return words + (f", {show_time(p99)} at p99" if p99 is not None else "")


def _claim(known: Known, what: str) -> str:
    every = known.claims_report.verdicts if known.claims_report is not None else ()
    judgement = next((j for j in every if what in (j.claim.what, j.claim.label)), None)
    if judgement is None:
        raise UnknownNameError("claim", what, [j.claim.what for j in every], "see its sheet")
    claimed = f"{'up to ' if judgement.claim.up_to else ''}{judgement.claim.shown()}"
    if judgement.measured is None:
        return f"{claimed}, untested"
    return f"{judgement.claim.shown(judgement.measured.median)} of {claimed}, {judgement.verdict}"


def _reading(known: Known, what: str) -> str:
    every = [r for b in known.noted.readings for r in b.each]
    reading = next((r for r in reversed(every) if r.what.casefold() == what.casefold()), None)
    if reading is None:
        raise UnknownNameError("reading", what, [r.what for r in every], "note it: jovik note")
    return reading.shown


NAMED_PLACEHOLDERS: dict[str, Callable[[Known, str], str]] = {
    "figure": _figure,
    "iops": _iops,
    "latency": _latency,
    "claim": _claim,
    "reading": _reading,
}
"""Placeholders of a step, a claim or a reading."""
