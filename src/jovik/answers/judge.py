"""Whether a drive keeps its maker's promises: the answers of `jovik judge`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.analysis.claim_candidates import ClaimCandidate
from jovik.analysis.claims import CLAIM_MARGIN, ClaimVerdict, Verdict
from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.errors import UsageError
from jovik.base.plain_data import keyed, plain
from jovik.queries.claims import ClaimsReport, claims_report
from jovik.queries.real_work import RealWork
from jovik.queries.real_work import real_work as real_work_of
from jovik.queries.samples import SampleComparison
from jovik.queries.samples import samples as samples_of
from jovik.shelf.store import Shelf
from jovik.tables.claims import claim_tables, claims_summary, claims_table
from jovik.tables.drive_class import standing_json
from jovik.tables.evidence import faults_json
from jovik.tables.real_work import KIND_WORDS, real_work_sentence, real_work_table
from jovik.tables.samples import samples_table
from jovik.tables.table import Table


@dataclass(frozen=True)
class JudgeAnswer(Answer):
    """The verdict on each claim of a drive."""

    schema: ClassVar[str] = "judgements"

    found: ClaimsReport
    why: bool = False

    @property
    def verdicts(self) -> tuple[ClaimVerdict, ...]:
        """Return the verdict on each claim, in the order of the sheet."""
        return tuple(self.found.verdicts)

    @property
    def status(self) -> int:
        """Return 1 if a claim was missed or the drive loses data."""
        short = any(j.verdict is Verdict.SHORT for j in self.verdicts)
        return 1 if short or self.found.lost is not None else 0

    def data(self) -> dict[str, Any]:
        """Return the answer as documented, with figures in the claim's unit."""
        report = self.found
        return {
            "drive": report.sheet.drive.name,
            "margin": report.margin,
            "lost": plain(report.lost),
            "summary": claims_summary(report.verdicts),
            "claims": [_claim(j) for j in report.verdicts],
            "disagreements": [
                keyed(x, "what", "reason", one_bytes_s="one", two_bytes_s="two")
                for x in report.disagreements
            ],
            "suspects": _suspects(report.samples),
            "excluded": plain(report.excluded),
            "faults": faults_json(report.passed_over),
            "class": standing_json(report.standing),
        }

    def csv(self) -> Csv:
        """Return a row for each claim."""
        return csv_of(
            self.verdicts,
            claim="claim.what",
            unit="claim.unit",
            claimed="claim.figure",
            measured="measured.median",
            low="measured.low",
            high="measured.high",
            verdict="verdict",
            phrase="step.phrase",
            why="why",
        )

    def tables(self) -> Sequence[Table]:
        """Return the claims and their verdicts, and with `why` the results behind each."""
        return [claims_table(self.found), *(claim_tables(self.found) if self.why else ())]


def _claim(j: ClaimVerdict) -> dict[str, Any]:
    limit = keyed(j.limit, "what", "rate_bytes_s") if j.limit else None
    of_claim = {
        n: f"claim.{n}"
        for n in ("what", "sustained", "steady", "up_to", "printed", "unit", "conditions")
    }
    return (
        keyed(j, **of_claim, claimed="claim.figure")
        | keyed(j, "measured", "share", "verdict", "why", "passes_to_settle")
        | keyed(j, phrase="step.phrase", run="step.run")
        | {"limit": limit, "candidates": [_candidate(c) for c in j.candidates]}
        | {"suggestion": j.suggestion.strip('"')}
    )


def _candidate(c: ClaimCandidate) -> dict[str, Any]:
    where = {k: f"result.conditions.{k}" for k in ("sample", "rig", "link")}
    return keyed(c, "measured", phrase="result.phrase", run="result.run", **where) | {
        "lacks": [str(x) for x in c.lacks],
        "not_chosen": str(c.drawback) if c.drawback is not None else None,
    }


def _suspects(found: SampleComparison) -> list[dict[str, Any]]:
    return [keyed(s, "sample", "evidence", "checks", unit="sample") for s in found.suspects]


@dataclass(frozen=True)
class RealWorkAnswer(Answer):
    """Streams, copies and programs as percentages of the advertised rate."""

    schema: ClassVar[str] = "real-work"

    found: RealWork

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        shares = [
            {"kind": KIND_WORDS[x.kind]}
            | keyed(x, "rate_bytes_s", "claimed_bytes_s", "share")
            | keyed(x.result, "phrase", "run")
            for x in self.found.shares
        ]
        sentence = real_work_sentence(self.found)
        return {"drive": self.found.drive, "sentence": sentence, "shares": shares}

    def tables(self) -> Sequence[Table]:
        """Return each step with its percentage of the advertised rate."""
        return [real_work_table(self.found)]


@dataclass(frozen=True)
class SamplesAnswer(Answer):
    """The samples of a drive side by side."""

    schema: ClassVar[str] = "samples"

    found: SampleComparison

    @property
    def status(self) -> int:
        """Return 1 if a sample is suspect."""
        return 1 if self.found.suspects else 0

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        samples = [
            keyed(f, "sample", "kind", "rate_bytes_s", "share", unit="sample", run="result.run")
            | {"class_bytes_s": keyed(f.band, "low", "high")}
            for f in self.found.figures
        ]
        suspects = _suspects(self.found)
        return {
            "drive": self.found.drive,
            "samples": samples,
            "units": samples,
            "suspects": suspects,
        }

    def tables(self) -> Sequence[Table]:
        """Return a row for each sample and step."""
        return [samples_table(self.found)]


def judge(
    shelf: Shelf, drive: str, margin: float = CLAIM_MARGIN, *, why: bool = False
) -> JudgeAnswer:
    """Compare the newest results of a drive with its claims.

    Parameters
    ----------
    margin : float
        How far below a claim still meets it, as a fraction.
    why : bool
        Whether the tables list the results behind each verdict.

    Raises
    ------
    UsageError
        It has no claims, or was not measured.

    Examples
    --------
    >>> [str(j.verdict) for j in jovik.judge(shelf, "Veldhaar Comet 2TB").verdicts][:2]
    ['met', 'untested']
    """
    return JudgeAnswer(claims_report(shelf, drive, margin), why)


def real_work(shelf: Shelf, drive: str) -> RealWorkAnswer:
    """Compare streams, copies and recorded programs of a drive with its advertised rate."""
    return RealWorkAnswer(real_work_of(shelf, drive))


def samples(shelf: Shelf, drive: str) -> SamplesAnswer:
    """Compare the samples of a drive with each other.

    Raises
    ------
    UsageError
        None was measured.
    """
    compared = samples_of(shelf, shelf.sheets.get(drive))
    if not compared.figures:
        raise UsageError(
            f"no sample of {compared.drive} was measured",
            f'measure one: jovik measure TARGET --drive "{compared.drive}"',
        )
    return SamplesAnswer(compared)
