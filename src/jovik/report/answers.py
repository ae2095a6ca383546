"""The answer about each drive as readers get it: the reviewer's own, or the one by rules."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from jovik.analysis.advice import Advice
from jovik.queries.advice import advice_of, reservations_of
from jovik.queries.ranking import RankingReport
from jovik.queries.suitability import fitted
from jovik.report.placeholders import Known, filled
from jovik.report.review_data import gather
from jovik.report.reviewer_text import ANSWER, read_words, split_part, words_beside
from jovik.sheets.load import load_names, read_load
from jovik.shelf.store import Shelf
from jovik.tables.advice import advice_sentence, bad_sample_words, reservation_words


@dataclass(frozen=True)
class DriveAnswer:
    """The answer about a drive.

    `sentence` is the reviewer's own, or the one by rules. `warning` is what belongs above a
    ranking, and `remark` what belongs beside the answer; both may be empty.
    """

    advice: Advice
    sentence: str
    warning: str = ""
    remark: str = ""

    @property
    def words(self) -> str:
        """Return the answer with its remark."""
        remark = f" {self.remark[:1].upper()}{self.remark[1:]}." if self.remark else ""
        return f"{self.sentence.rstrip('.')}.{remark}"


def answers_of(shelf: Shelf, found: RankingReport, drives: Iterable[str]) -> dict[str, DriveAnswer]:
    """Return the answer about each of these drives, which were measured."""
    loads = [read_load(n) for n in load_names()]
    answers = {}
    for name in drives:
        uses = fitted(shelf, name, loads)
        advice = advice_of(shelf, found, uses)
        sentence = advice_sentence(advice, uses.drive.capacity_bytes)
        # What a drive with one sample failed is in the warnings of the ranking.
        several = bool(advice.bad_samples) and len(advice.samples) > 1
        warning = bad_sample_words(advice) if several else ""
        remark = "; ".join(reservation_words(reservations_of(found, name)))
        own = _own(shelf, name, found) or sentence
        answers[name] = DriveAnswer(advice, own, warning, remark)
    return answers


def _own(shelf: Shelf, drive: str, found: RankingReport) -> str:
    """Return the reviewer's own answer from the text beside the shelf, or nothing."""
    words = words_beside(shelf.where, drive)
    if words is None or not words.exists():
        return ""
    answer = split_part(read_words(words), ANSWER)[0].strip()
    if "{{" not in answer:
        return answer
    it = gather(shelf, drive, (), found)
    return filled(answer, Known(it.sheet, it.results, it.claims_report, found, it.noted))
