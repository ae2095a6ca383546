"""Where every drive stands: the answer of `jovik rank`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

from jovik.analysis.ranking import DriveRank, Ranking, lead_over_next, rank_sentence
from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.errors import UsageError
from jovik.base.plain_data import keyed, plain
from jovik.base.vocabulary import ENERGY, SAMPLE_ORDERS
from jovik.queries.ranking import (
    Filter,
    RankingReport,
    access_time_ns,
    index_for_money,
    price_for_terabyte,
    ranking_report,
    ranking_report_within,
)
from jovik.shelf.store import Shelf
from jovik.tables.drive_class import standing_json
from jovik.tables.evidence import passed_over_json
from jovik.tables.ranking import (
    overall_table,
    ranking_findings,
    ranking_foot,
    ranking_of,
    steps_table,
)
from jovik.tables.replay import program_times_table
from jovik.tables.table import Table


@dataclass(frozen=True)
class RankAnswer(Answer):
    """A ranking, its order, and the drive whose place a sentence states."""

    schema: ClassVar[str] = "ranking"

    found: RankingReport
    by: str = "drive"
    load: str | None = None
    reviewed: str | None = None
    steps: bool = True

    @property
    def ranking(self) -> Ranking:
        """Return the ranking itself."""
        return self.found.ranking

    @property
    def sentence(self) -> str | None:
        """Return the place of the reviewed drive."""
        return rank_sentence(self.ranking, self.reviewed) if self.reviewed is not None else None

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        program = self.found.program
        data = ranking_data(self.ranking, energy=self.by == ENERGY)
        drives = zip(data["drives"], self.ranking.drives, strict=True)
        return data | {
            "drives": [row | self._worth(d) for row, d in drives],
            **passed_over_json(self.found.passed_over),
            "excluded": plain(self.found.excluded),
            "programs": [
                keyed(t, "drive", "elapsed_s", "predicted", "typical_error")
                for t in (program.times if program is not None else ())
            ],
            "classes": [
                {"drive": d} | (standing_json(s) or {}) for d, s in self.found.standings.items()
            ],
            "recorded": keyed(program, "recorded_s", "recorded_on") if program else None,
            "by": self.by,
            "for": self.load,
            "sentence": self.sentence,
        }

    def _worth(self, d: DriveRank) -> dict[str, Any]:
        """Return what a drive is ordered by besides its index (`jovik rank --by`)."""
        drive = self.found.drives.get(d.drive)
        return {
            "access_ns": None if self.by == ENERGY else access_time_ns(d),
            "price_per_tb": price_for_terabyte(drive),
            "currency": drive.currency if drive is not None else "",
            "index_per_price": index_for_money(d, drive),
            "endurance_bytes": drive.endurance_bytes if drive is not None else None,
        }

    def csv(self) -> Csv:
        """Return each drive's index, then each step's rate."""
        rate = "bytes_per_joule" if self.by == ENERGY else "rate_bytes_s"
        rows: list[dict[str, Any]] = [
            {"kind": "overall", "place": str(d.place or ""), "of": d, "rate": None, "passes": None}
            for d in self.ranking.drives
        ]
        rows += [
            {"kind": s.kind, "place": str(s.place), "of": s, "rate": s.rate_bytes_s}
            | {"passes": s.passes}
            for kind in self.ranking.kinds
            for s in ranking_of(self.ranking, kind)
        ]
        return csv_of(
            rows,
            *("kind", "place"),
            drive="of.drive",
            **{rate: "rate.median", "low": "rate.low", "high": "rate.high"},
            index="of.index.median",
            passes="passes",
            index_low="of.index.low",
            index_high="of.index.high",
        )

    def tables(self) -> Sequence[Table]:
        """Return the overall ranking and each step's. A ranking by a step begins with it."""
        overall, kind = overall_table(self.found), self.found.kind
        tables = [overall] if kind is None else [replace(overall, verdict=())]
        if (kind is not None or self.steps) and self.ranking.drives:
            by_step = steps_table(self.found, None if kind is None else [kind])
            tables = [by_step, *tables] if kind is not None else [*tables, by_step]
        program = self.found.program
        if program is not None and any(t.predicted for t in program.times):
            # The step's own table has the measured drives only.
            whole = [replace(overall, verdict=())] if self.ranking.drives else []
            tables = [program_times_table(program), *whole]
        findings = ranking_findings(self.found)
        small = [line for line in ranking_foot(self.found) if line not in findings]
        tables[-1] = replace(tables[-1], notes=[*tables[-1].notes, *findings], small=small)
        return tables

    def notes(self) -> Sequence[str]:
        """Return the sentence on the reviewed drive."""
        return [self.sentence] if self.sentence is not None else []


def rank(
    shelf: Shelf,
    *,
    yardstick: str | None = None,
    by: str = "drive",
    load: str | None = None,
    review: str | None = None,
    interface: str | None = None,
    medium: str | None = None,
    capacity: str | None = None,
    max_price: float | None = None,
    since: str | None = None,
    sample: str | None = None,
    drive: str | None = None,
    steady: bool = False,
    steps: bool = True,
) -> RankAnswer:
    """Rank the drives of a shelf, comparing like with like.

    Parameters
    ----------
    yardstick : str, optional
        The drive with an index of 100; by default the one measured first.
    by : str
        ``drive`` (its index), ``price``, ``money``, ``endurance``, ``latency``, ``efficiency``, a
        step's phrase, or with `sample` ``rig`` or ``firmware``.
    load : str, optional
        A load that weighs the steps, or a recorded program.
    review : str, optional
        A drive whose place the answer says in a sentence.
    interface, medium, capacity, max_price, since
        Which drives (`jovik.queries.ranking.Filter`).
    sample, drive : str, optional
        The sample that was measured on several rigs, and its drive.
    steady : bool
        Rank by the steady state, which is never mixed with anything else.
    steps : bool
        Whether the tables show each step besides the overall ranking.

    Raises
    ------
    UsageError
        Nothing was measured, or no drive fits.

    Examples
    --------
    >>> [(d.drive, str(d.place)) for d in jovik.rank(shelf).ranking.drives]
    [('Veldhaar Comet 2TB', '1')]
    """
    if (by in SAMPLE_ORDERS) != (sample is not None):
        raise UsageError(
            "--by rig, or --by firmware, and --sample go together",
            "jovik rank --sample 'sample 1' --by rig",
        )
    if sample is not None:
        report = ranking_report_within(shelf, sample, by, drive, yardstick=yardstick, load=load)
    else:
        only = Filter(interface, medium, capacity, max_price, since)
        report = ranking_report(
            shelf, yardstick=yardstick, by=by, load=load, only=only, steady=steady
        )
    reviewed = shelf.sheets.get(review).drive.name if review is not None else None
    return RankAnswer(report, by, load, reviewed, steps)


def ranking_data(ranking: Ranking, *, energy: bool = False) -> dict[str, Any]:
    """Return a ranking as documented, with places as ``"2"`` or ``"2-3"`` and as numbers.

    Parameters
    ----------
    energy : bool
        Whether its rates are bytes and I/Os per joule.
    """
    leads: Leads = {}
    for kind in ranking.kinds:
        rows = ranking_of(ranking, kind)
        for n, (s, lead) in enumerate(zip(rows, lead_over_next(ranking, rows), strict=True)):
            first = ranking.lead(kind, rows[0].drive, s.drive) if n else None
            leads[s.drive, kind] = {"lead": plain(lead), "behind_first": plain(first)}
    return {
        "yardstick": ranking.yardstick,
        "counted": list(ranking.counted),
        "drives": [_drive(d, leads, energy=energy) for d in ranking.drives],
        "left_out": [keyed(x, "drive", "kind", "why") for x in ranking.left_out],
    }


def _place(of: Any) -> dict[str, Any]:
    numbers = keyed(of, place_first="place.first", place_last="place.last")
    return {"place": str(of.place) if of.place else None} | numbers


Leads = dict[tuple[str, str], dict[str, Any]]
"""By drive and kind of step: the lead over the next drive, and that of the first over this one."""


def _drive(d: DriveRank, leads: Leads, *, energy: bool) -> dict[str, Any]:
    rate, ios = ("bytes_per_joule", "ios_per_joule") if energy else ("rate_bytes_s", "iops")
    none = {"rate_bytes_s": None, "iops": None} if energy else {}
    steps = [
        keyed(s, "kind", phrase="result.phrase")
        | _place(s)
        | none
        | keyed(s, **{rate: "rate_bytes_s", ios: "iops"})
        | keyed(
            s, "index", "passes", elapsed_s="result.findings.replay.elapsed_s", run="result.run"
        )
        | leads[d.drive, s.kind]
        for s in d.steps
    ]
    about = keyed(d, "index", "missing", "runs", level_with="level")
    return {"drive": d.drive} | _place(d) | about | {"steps": steps}
