"""Where does each drive stand among the others?"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from jovik.analysis.comparability import long_write_of, steady_step
from jovik.analysis.lost_data import lost_by, lost_words
from jovik.analysis.program_time import ProgramTimes
from jovik.analysis.ranking import DriveRank, Exclusion, Ranking, rank_drives
from jovik.analysis.run_effect import PRIOR_ALONE, RunEffect, run_effect
from jovik.analysis.step_result import StepResult
from jovik.base.circumstances import TEMPORARY_KINDS
from jovik.base.errors import PhraseError, UsageError
from jovik.base.interval import Interval
from jovik.base.quantities import parse_size
from jovik.base.vocabulary import CLASS_PREFIX, ENERGY, ORDERS, SAMPLE_ORDERS
from jovik.queries.drive_class import ClassStanding, standing_in, standing_of
from jovik.queries.efficiency import efficiencies
from jovik.queries.evidence import NONE_PASSED_OVER, PassedOver, evidence
from jovik.queries.programs import program_called, program_times, times_by_twins
from jovik.sheets.drive_class import DriveClass, read_class
from jovik.sheets.load import read_load
from jovik.sheets.sheet import Drive
from jovik.shelf.change_log import Excluded
from jovik.shelf.store import Shelf
from jovik.steps import IoStep, parse
from jovik.steps.replay import ReplayStep

ACCESS_STEP = "random read 4KiB"
"""The step whose time is called a drive's access time."""


@dataclass(frozen=True)
class Filter:
    """Which drives to rank.

    Texts that interface and medium have in them, a capacity such as ``900GB..2TB``, a price, a
    date, and names of drives.
    """

    interface: str | None = None
    medium: str | None = None
    capacity: str | None = None
    max_price: float | None = None
    since: str | None = None
    names: tuple[str, ...] = ()

    def keeps(self, drive: Drive) -> bool:
        """Return True if a drive matches. Facts that its sheet lacks never match.

        Raises
        ------
        UsageError
            The capacity cannot be read.
        """
        low, high = 0, 2**63
        if self.capacity is not None:
            one, dots, two = self.capacity.partition("..")
            try:
                low = parse_size(one)
                high = parse_size(two) if dots else low
            except ValueError as error:
                raise UsageError(
                    f"--capacity {self.capacity}: {error}", "write 1TB or 900GB..2TB"
                ) from None
        good = self.interface is None or self.interface.casefold() in drive.interface.casefold()
        good &= self.medium is None or self.medium.casefold() in drive.medium.casefold()
        good &= self.capacity is None or (
            drive.capacity_bytes is not None and low <= drive.capacity_bytes <= high
        )
        good &= not self.names or drive.name in self.names
        return good and (
            self.max_price is None or (drive.price is not None and drive.price <= self.max_price)
        )


@dataclass(frozen=True)
class RankingReport:
    """A ranking in the order that was asked for, with the drives as sold.

    `kind` is the step it is by, where it is by one; `load` the load whose weights it has;
    `program` what a recorded program takes on each drive, measured or predicted;
    `passed_over` newer results that do not represent a drive; `effect` the differences between
    runs; `excluded` what was excluded of these drives; `standings` each drive's place in its class;
    `circumstances` what mattered on the machine when figures of a drive were made; `steady` whether
    it is of what was repeated until steady. By `ENERGY` every rate is bytes, or I/Os, for a joule,
    and `idle_watts` what a drive takes while nothing is asked of it.
    """

    ranking: Ranking
    drives: dict[str, Drive] = field(default_factory=dict)
    by: str = "drive"
    kind: str | None = None
    load: str | None = None
    effect: RunEffect = PRIOR_ALONE
    excluded: tuple[Excluded, ...] = ()
    standings: dict[str, ClassStanding] = field(default_factory=dict)
    circumstances: dict[str, tuple[str, ...]] = field(default_factory=dict)
    steady: bool = False
    idle_watts: Mapping[str, Interval] = field(default_factory=dict)
    passed_over: PassedOver = NONE_PASSED_OVER
    program: ProgramTimes | None = None


def ranking_report(
    shelf: Shelf,
    *,
    yardstick: str | None = None,
    by: str = "drive",
    load: str | None = None,
    only: Filter = Filter(),
    steady: bool = False,
) -> RankingReport:
    """Rank the drives of a shelf, comparing like with like.

    Parameters
    ----------
    yardstick : str, optional
        The drive whose index is 100; the one measured first unless given.
    by : str
        One of `ORDERS`, or a step's phrase.
    load : str, optional
        A load (`jovik.sheets.load.read_load`) to weigh the steps by.
    steady : bool
        Rank by results that were repeated until steady, or by all others. The two are never mixed.
        Where nothing else was measured it is the steady state all the same.

    Raises
    ------
    UsageError
        `by` is neither, nothing was measured, or nothing is like the filter; with the command that
        would help.
    UnknownNameError
        No drive is called like the yardstick, or no load like `load`.
    """
    if by == ENERGY:
        return _by_energy(shelf, yardstick, load, only)
    called = program_called(load) if load is not None else None
    if shelf.twin_files:
        return _of_twins(shelf, called, only)
    if called is not None:
        # A recorded program is no weight of steps: its own time is what ranks.
        by, load = called.canonical, None
    kind = kind_of(by)
    drives = shelf.sheets.drives()
    of_class = None
    if yardstick is not None and yardstick.startswith(CLASS_PREFIX):
        of_class = read_class(yardstick.removeprefix(CLASS_PREFIX))
    named = shelf.sheets.get(yardstick).drive.name if yardstick and of_class is None else None
    # The kind of a replay has lost the path of its file.
    asked_by = parse(by) if kind is not None else None
    replay = asked_by if isinstance(asked_by, ReplayStep) else None
    # Twins have the spread of latencies.
    found = evidence(shelf, with_latencies=replay is not None)
    steady, results = _of_one_state(found.results, kind, steady)
    selected = {name for name, drive in drives.items() if only.keeps(drive)}
    since = _date(only.since) if only.since is not None else ""
    counted = [r for r in results if r.drive in selected and r.started >= since]
    if not counted and (results or len(selected) < len(drives)) and only != Filter():
        raise UsageError(
            "no measured drive on this shelf is like that",
            "jovik sheet list shows all drives; omit a filter",
        )
    counted, lost = _without_losers(counted, drives)
    if lost and not counted:
        return RankingReport(Ranking("", (), (), tuple(lost)), drives, by, kind, load)
    effect = run_effect([r for r in found.candidates if r.drive in selected])
    program = program_times(replay, counted, drives) if replay is not None else None
    if program is not None and program.times and all(p.predicted for p in program.times):
        nothing = Ranking("", (), (), tuple(lost))
        return RankingReport(nothing, drives, by, kind, load, program=program)
    report = placed(counted, named, drives, by, load, effect=effect)
    whole = replace(report.ranking, left_out=(*report.ranking.left_out, *lost))
    aside = tuple(x for x in shelf.changes.excluded() if x.drive in selected)
    if of_class is not None:
        whole = _against_class(whole, of_class, counted, effect)
    standings = _standings(whole, drives, counted, effect)
    return replace(
        report,
        steady=steady,
        ranking=whole,
        passed_over=found.passed_over().of(selected),
        excluded=aside,
        standings=standings,
        circumstances=_circumstances(shelf, whole),
        program=program,
    )


def _of_one_state(
    results: Sequence[StepResult], kind: str | None, steady: bool
) -> tuple[bool, list[StepResult]]:
    """Return whether a ranking is of steady states, and its results.

    Where a steady step is asked for, or nothing else was measured, it is of them all the same.
    """
    if kind is not None:
        asked = parse(kind)
        steady = isinstance(asked, IoStep) and bool(asked.steady)
    steady = steady or (bool(results) and all(steady_step(r) for r in results))
    alike = [r for r in results if steady_step(r) == steady]
    if results and not alike:
        raise UsageError(
            "no drive on this shelf was measured until steady",
            "do it: jovik measure TARGET --plan steady-iops",
        )
    return steady, alike


def _of_twins(shelf: Shelf, program: ReplayStep | None, only: Filter) -> RankingReport:
    """Rank the drives of an archive of twins by a recorded program."""
    if program is None:
        raise UsageError(
            f"{shelf.where} holds twins, which are ranked by a recorded program",
            "add --load RECORDING; jovik record -- PROGRAM makes one",
        )
    times, drives = times_by_twins(program, shelf.twin_files, only.keeps)
    kind = program.pinned().kind
    nothing = Ranking("", (), (), ())
    return RankingReport(nothing, drives, program.canonical, kind, program=times)


def _by_energy(
    shelf: Shelf, yardstick: str | None, load: str | None, only: Filter
) -> RankingReport:
    drives = shelf.sheets.drives()
    selected = {name for name, drive in drives.items() if only.keeps(drive)}
    since = _date(only.since) if only.since is not None else ""
    energy = efficiencies(shelf)
    results = [r for r in energy.results if r.drive in selected and r.started >= since]
    if not results:
        raise UsageError(
            "no drive like that has a power log", "jovik rank --by efficiency shows those that have"
        )
    named = shelf.sheets.get(yardstick).drive.name if yardstick is not None else None
    report = placed(results, named, drives, ENERGY, load)
    idle = {d.drive: w for d in report.ranking.drives if (w := energy.idle_watts.get(d.drive))}
    return replace(report, idle_watts=idle)


def _circumstances(shelf: Shelf, ranking: Ranking) -> dict[str, tuple[str, ...]]:
    """Return, by drive, the circumstances that mattered for the counted results."""
    by_run = {s.result.run: d.drive for d in ranking.drives for s in d.steps}
    by_words: dict[str, dict[str, None]] = {}
    for run, circumstances in shelf.runs.circumstances(list(by_run)).items():
        by_words.setdefault(by_run[run], {}).update(
            dict.fromkeys(c.value for c in circumstances if c.kind not in TEMPORARY_KINDS)
        )
    return {drive: tuple(values) for drive, values in by_words.items() if values}


def _standings(
    ranking: Ranking,
    drives: Mapping[str, Drive],
    results: Sequence[StepResult],
    effect: RunEffect,
) -> dict[str, ClassStanding]:
    """Return where each ranked drive lies in its class."""
    standings = {}
    of_drive = _by_drive(results)
    for d in ranking.drives:
        drive = drives.get(d.drive)
        figures = of_drive.get(d.drive, [])
        standing = standing_of(drive, figures, effect) if drive is not None else None
        if standing is not None:
            standings[d.drive] = standing
    return standings


def _by_drive(results: Sequence[StepResult]) -> dict[str, list[StepResult]]:
    by_drive: dict[str, list[StepResult]] = {}
    for r in results:
        by_drive.setdefault(r.drive, []).append(r)
    return by_drive


def _against_class(
    ranking: Ranking, of: DriveClass, results: Sequence[StepResult], effect: RunEffect
) -> Ranking:
    """Return the ranking with the usual figures of a class as its yardstick. Places stay the same.

    Each drive's index is over the classes of step that it was measured in.
    """
    rows = []
    of_drive = _by_drive(results)
    for d in ranking.drives:
        standing = standing_in(of, of_drive.get(d.drive, []), effect)
        by_kind = {f.result.kind: f for f in standing.figures} if standing is not None else {}
        steps = tuple(
            replace(
                s,
                index=by_kind[s.kind].value.scaled(100 / by_kind[s.kind].usual.usual)
                if s.kind in by_kind
                else None,
            )
            for s in d.steps
        )
        rows.append(replace(d, index=standing.index if standing else None, steps=steps))
    return replace(ranking, drives=tuple(rows), yardstick=of.title)


def _without_losers(
    results: Sequence[StepResult], drives: Mapping[str, Drive]
) -> tuple[list[StepResult], list[Exclusion]]:
    """Return the results of drives that lost no data.

    Nothing else makes up for that.
    """
    lost = {}
    for name in dict.fromkeys(r.drive for r in results):
        losses = lost_by([r for r in results if r.drive == name])
        if losses is not None:
            size = drives[name].capacity_bytes if name in drives else None
            lost[name] = Exclusion(name, None, lost_words(losses, size))
    remaining = [r for r in results if r.drive not in lost]
    return remaining, list(lost.values())


def ranking_report_within(
    shelf: Shelf,
    unit: str,
    by: str,
    drive: str | None = None,
    *,
    yardstick: str | None = None,
    load: str | None = None,
) -> RankingReport:
    """Return the same sample on each rig, or with each firmware: they take the drives' place.

    Parameters
    ----------
    by : str
        One of `SAMPLE_ORDERS`.

    Raises
    ------
    UnknownNameError, UsageError
        See `Shelf.results_of_sample`.
    """

    def of(result: StepResult) -> str | None:
        return result.conditions.rig if by == "rig" else result.conditions.firmware

    results = [
        replace(r, drive=of(r) or f"unknown {by}")
        for r in shelf.results.of_sample(unit, drive, by=of)
    ]
    return placed(results, yardstick, {}, by, load)


def placed(
    results: Sequence[StepResult],
    yardstick: str | None,
    drives: Mapping[str, Drive],
    by: str = "drive",
    load: str | None = None,
    *,
    effect: RunEffect = PRIOR_ALONE,
) -> RankingReport:
    """Rank these results in an order. For `effect` see `jovik.analysis.ranking.rank_drives`."""
    kind = kind_of(by)
    weights = _weights(load) if load is not None else None
    ranking = rank_drives(results, yardstick, weights, effect=effect)
    if kind is not None and kind not in ranking.kinds:
        raise UsageError(
            f"no drive was measured with '{kind}'",
            f'measure it: jovik measure TARGET --drive NAME "{kind}"',
        )
    return RankingReport(
        _ordered(ranking, by, kind, drives), dict(drives), by, kind, load, effect=effect
    )


def kind_of(by: str) -> str | None:
    """Return the kind of step that an order names, or None for one of the other orders.

    Raises
    ------
    UsageError
        It is neither.
    """
    if by in (*ORDERS, "index"):
        return None
    try:
        return parse(by).pinned().kind
    except PhraseError as error:
        raise UsageError(
            f"--by {by}: neither one of {', '.join(ORDERS)} nor a step", error.hint
        ) from None


def _date(text: str) -> str:
    try:
        return datetime.date.fromisoformat(text).isoformat()
    except ValueError:
        raise UsageError(f"'{text}' is not a date", "write 2026-11-23") from None


def _weights(load_name: str) -> Callable[[StepResult], float]:
    """Return the weight of a result's kind of step for a load, by its class.

    Copies and steps without a class have no weight.
    """
    weights = read_load(load_name).weights

    def weight(result: StepResult) -> float:
        step = parse(result.kind)
        if not isinstance(step, IoStep) or not step.plain:
            return 0.0
        if long_write_of(result) is not None:
            return weights.get("sustained write", 0.0)
        direction = {100: "read", 0: "write"}.get(step.read_percent)
        return (
            weights.get(f"{'random' if step.random else 'sequential'} {direction}", 0.0)
            if direction
            else 0.0
        )

    return weight


def price_for_terabyte(drive: Drive | None) -> float | None:
    """Return the price of a terabyte."""
    return (
        drive.price / (drive.capacity_bytes / 1e12)
        if drive is not None and drive.price and drive.capacity_bytes
        else None
    )


def index_for_money(row: DriveRank, drive: Drive | None) -> float | None:
    """Index points for each unit of money."""
    return (
        row.index.median / drive.price
        if row.index is not None and drive is not None and drive.price
        else None
    )


def access_time_ns(row: DriveRank) -> float | None:
    """Return nanoseconds from the request to the answer of a small random read on its own."""
    single = next((s for s in row.steps if s.kind == ACCESS_STEP), None)
    return 1e9 / single.iops.median if single is not None and single.iops.median else None


def _ordered(ranking: Ranking, by: str, kind: str | None, drives: Mapping[str, Drive]) -> Ranking:
    """Return the drives in another order than by their index. Unknown values come last."""

    def key(row: DriveRank) -> tuple[bool, float]:
        drive = drives.get(row.drive)
        value: float | None
        if by == "price":
            value = price_for_terabyte(drive)
        elif by == "money":
            value = -money if (money := index_for_money(row, drive)) is not None else None
        elif by == "endurance":
            value = (
                -float(drive.endurance_bytes)
                if drive is not None and drive.endurance_bytes
                else None
            )
        elif by == "latency":
            value = access_time_ns(row)
        else:
            value = next((-s.iops.median for s in row.steps if s.kind == kind), None)
        return (value is None, value or 0.0)

    if by in ("drive", "index", ENERGY, *SAMPLE_ORDERS):
        return ranking
    return replace(ranking, drives=tuple(sorted(ranking.drives, key=key)))
