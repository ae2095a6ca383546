"""Placing drives among each other.

Like with like, ties where the noise says so, and an index against a yardstick.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from jovik.analysis.comparability import differences, figure_of, long_write_of, rate_of, settled
from jovik.analysis.statistics import LogFigure, combine, interval, ratio_interval
from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.interval import Interval
from jovik.base.step_result import StepResult
from jovik.steps import parse


@dataclass(frozen=True)
class Rank:
    """A rank, which is a range where the noise allows no finer one."""

    first: int
    last: int

    def __str__(self) -> str:
        return f"{self.first}" if self.first == self.last else f"{self.first}-{self.last}"


@dataclass(frozen=True)
class StepRank:
    """One drive in the ranking of one kind of step."""

    drive: str
    kind: str
    place: Rank
    rate_bytes_s: Interval
    iops: Interval
    passes: int
    result: StepResult
    index: Interval | None = None


@dataclass(frozen=True)
class DriveRank:
    """One drive in the ranking overall.

    `index` is None where it shares no step with the yardstick.
    """

    drive: str
    place: Rank | None
    index: Interval | None
    steps: tuple[StepRank, ...]


@dataclass(frozen=True)
class Exclusion:
    """A result that was not compared, and why."""

    drive: str
    kind: str
    why: str


@dataclass(frozen=True)
class Ranking:
    """The whole table, best first."""

    yardstick: str
    drives: tuple[DriveRank, ...]
    kinds: tuple[str, ...]
    left_out: tuple[Exclusion, ...]


def rank(
    results: Sequence[StepResult],
    yardstick: str | None = None,
    weight_of: Callable[[str], float] | None = None,
) -> Ranking:
    """Rank every drive that has results.

    Parameters
    ----------
    results : sequence of StepResult
        At most one for each drive and kind, oldest drive first.
    yardstick : str, optional
        The drive that the index calls 100; the one measured first unless given.
    weight_of : callable, optional
        What a kind of step counts in the index, 0 for nothing; all count alike unless given.

    Raises
    ------
    UnknownNameError
        The yardstick has no results.
    UsageError
        There is nothing to rank.
    """
    drives = list(dict.fromkeys(r.drive for r in results))
    if not drives:
        raise UsageError(
            "no drive on this shelf has results yet",
            "measure one: jovik measure TARGET --drive NAME",
        )
    if yardstick is not None and yardstick not in drives:
        raise UnknownNameError("drive with results", yardstick, drives)
    measure = yardstick or drives[0]
    compared, left_out = _like_with_like(results, measure)
    figures: dict[str, dict[str, LogFigure]] = defaultdict(dict)
    for r in compared:
        figures[r.drive][r.kind] = figure_of(r)
    kinds = tuple(dict.fromkeys(r.kind for r in compared))
    steps = [
        s
        for kind in kinds
        for s in _rank_step([r for r in compared if r.kind == kind], figures, measure)
    ]
    weight = weight_of or (lambda _: 1.0)
    indexes = {d: _against(figures[d], figures[measure], weight) for d in drives}
    placed = [d for d in drives if indexes[d] is not None]
    places = dict(zip(placed, _places([figures[d] for d in placed], weight), strict=True))
    rows = [
        DriveRank(
            d,
            places.get(d),
            ratio_interval(index).scaled(100) if (index := indexes[d]) is not None else None,
            tuple(s for s in steps if s.drive == d),
        )
        for d in drives
    ]
    rows.sort(
        key=lambda row: (row.index is None, -(row.index.median if row.index else 0.0), row.drive)
    )
    return Ranking(measure, tuple(rows), kinds, tuple(left_out))


def _like_with_like(
    results: Sequence[StepResult], yardstick: str
) -> tuple[list[StepResult], list[Exclusion]]:
    """Keep the largest comparable group of each kind, and explain the exclusions."""
    kept: list[StepResult] = []
    left_out: list[Exclusion] = []
    by_kind: dict[str, list[StepResult]] = defaultdict(list)
    for result in results:
        if any(p.rate_bytes_s <= 0 for p in result.passes) or not result.passes:
            left_out.append(
                Exclusion(result.drive, result.kind, "a pass in which nothing completed")
            )
        elif not settled(result):
            left_out.append(Exclusion(result.drive, result.kind, _unsettled(result)))
        else:
            by_kind[result.kind].append(result)
    for kind, members in by_kind.items():
        groups: list[list[StepResult]] = []
        for member in members:
            for group in groups:
                if not differences(group[0], member):
                    group.append(member)
                    break
            else:
                groups.append([member])
        best = max(groups, key=lambda g: (len(g), any(r.drive == yardstick for r in g)))
        kept += best
        for group in groups:
            if group is not best:
                why = "; ".join(differences(best[0], group[0]))
                left_out += [Exclusion(r.drive, kind, why) for r in group]
    return kept, left_out


def _unsettled(result: StepResult) -> str:
    found = long_write_of(result)
    assert found is not None
    return f"no sustained rate: {found.sustained}"


def _rank_step(
    members: Sequence[StepResult], figures: dict[str, dict[str, LogFigure]], yardstick: str
) -> list[StepRank]:
    kind = members[0].kind
    names = [r.drive for r in members]
    places = dict(
        zip(names, _places([{kind: figures[n][kind]} for n in names], lambda _: 1.0), strict=True)
    )
    rows = []
    for r in members:
        index = None
        if r.drive == yardstick:
            index = Interval(100.0, 100.0, 100.0)
        elif kind in figures[yardstick]:
            index = ratio_interval(
                combine([(1, figures[r.drive][kind]), (-1, figures[yardstick][kind])])
            ).scaled(100)
        rates = rate_of(r)
        rows.append(
            StepRank(
                r.drive,
                kind,
                places[r.drive],
                rates,
                interval([p.iops for p in r.passes]),
                len(r.passes),
                r,
                index,
            )
        )
    return sorted(rows, key=lambda s: -s.rate_bytes_s.median)


def _against(
    mine: dict[str, LogFigure], theirs: dict[str, LogFigure], weight: Callable[[str], float]
) -> LogFigure | None:
    """The geometric mean of the ratios over the steps both have.

    Exactly 1 for the yardstick against itself.
    """
    if mine is theirs:
        return LogFigure(0.0, 0.0, float("inf"))
    return _ratio_over_common(mine, theirs, weight)


def _ratio_over_common(
    mine: dict[str, LogFigure], theirs: dict[str, LogFigure], weight: Callable[[str], float]
) -> LogFigure | None:
    """The weighted geometric mean of the ratios.

    What was made in one pass has no interval, and would take the whole mean's; it counts only where
    there is nothing else.
    """
    common = [k for k in mine if k in theirs and weight(k) > 0]
    known = [k for k in common if mine[k].known and theirs[k].known]
    used = known or common
    if not used:
        return None
    whole = sum(weight(k) for k in used)
    return combine([(weight(k) / whole, combine([(1, mine[k]), (-1, theirs[k])])) for k in used])


def lead_over_next(places: Sequence[StepRank]) -> list[Interval | None]:
    """The lead of each drive over the next, best first, with its interval; None for the last."""
    found: list[Interval | None] = []
    for one, two in zip(places, [*places[1:], None], strict=True):
        found.append(
            None
            if two is None
            else ratio_interval(combine([(1, figure_of(one.result)), (-1, figure_of(two.result))]))
        )
    return found


def rank_sentence(ranking: Ranking, drive: str) -> str:
    """The place of one drive in a sentence: overall, and where it is surely first, level or last.

    Raises
    ------
    UnknownNameError
        It has no results.
    """
    row = next((d for d in ranking.drives if d.drive == drive), None)
    if row is None:
        raise UnknownNameError("drive with results", drive, [d.drive for d in ranking.drives])
    many = sum(d.place is not None for d in ranking.drives)
    if row.place is None or many < 2:
        return f"{drive}: there is no other drive to place it among"
    parts = [f"{_ordinal(row.place)} of {many}"]
    level = [
        d.drive
        for d in ranking.drives
        if d.drive != drive and d.place is not None and _overlap(d.place, row.place)
    ]
    shown = level if len(level) <= 4 else [*level[:3], f"{len(level) - 3} others"]
    parts += [f"level with {' and '.join(shown)}"] if level else []
    count = {k: sum(s.kind == k for d in ranking.drives for s in d.steps) for k in ranking.kinds}
    first = [s for s in row.steps if s.place == Rank(1, 1) and count[s.kind] > 1]
    last = [s for s in row.steps if s.place.first == s.place.last == count[s.kind] > 1]
    parts += [f"first in {_labels(first)}"] if first else []
    parts += [f"last in {_labels(last)}"] if last else []
    return f"{drive}: {', '.join(parts)}"


def _labels(steps: Sequence[StepRank]) -> str:
    shown = [parse(s.kind).label for s in steps]
    return "; ".join(shown) if len(shown) <= 3 else f"{len(shown)} steps"


def _ordinal(place: Rank) -> str:
    def one(n: int) -> str:
        teens = n % 100 in (11, 12, 13)
        return f"{n}{'th' if teens else {1: 'st', 2: 'nd', 3: 'rd'}.get(n % 10, 'th')}"

    return (
        one(place.first)
        if place.first == place.last
        else f"{one(place.first)} to {one(place.last)}"
    )


def _overlap(one: Rank, two: Rank) -> bool:
    return one.first <= two.last and two.first <= one.last


def _places(figures: Sequence[dict[str, LogFigure]], weight: Callable[[str], float]) -> list[Rank]:
    """Ranks from the ratios of all pairs, over the kinds that each pair has in common.

    Two tie where the interval of their ratio includes 1; so the first place a drive may hold is
    behind those surely better, the last one before those surely worse. All pairs at once: a shelf
    of hundreds of drives has tens of thousands (the sums are those of `statistics.combine`,
    weighted by kind).
    """
    from scipy.special import stdtrit

    count = len(figures)
    means, spread, below = (np.zeros((count, count)) for _ in range(3))
    whole = np.zeros((count, count))
    for kind in dict.fromkeys(k for f in figures for k in f):
        share = weight(kind)
        mine = [f.get(kind) for f in figures]
        known = np.array([m is not None and m.known for m in mine])
        mean, variance, rest = (
            np.array([getter(m) if m is not None and m.known else 0.0 for m in mine])
            for getter in (_mean, _variance, _rest)
        )
        both = np.outer(known, known) * share
        whole += both
        means += both * np.subtract.outer(mean, mean)
        spread += both * share * np.add.outer(variance, variance)
        below += both * share**3 * np.add.outer(rest, rest)
    with np.errstate(divide="ignore", invalid="ignore"):
        freedom = np.where(below > 0, spread**2 / below, np.inf)
        reach = np.where(
            spread > 0,
            stdtrit(np.where(np.isfinite(freedom), freedom, 1e9), 0.975) * np.sqrt(spread),
            0.0,
        )
    ahead = (means - reach > 0) & (whole > 0)
    np.fill_diagonal(ahead, False)
    return [Rank(1 + int(ahead[:, i].sum()), count - int(ahead[i].sum())) for i in range(count)]


def _mean(figure: LogFigure) -> float:
    return figure.mean


def _variance(figure: LogFigure) -> float:
    return figure.variance


def _rest(figure: LogFigure) -> float:
    return figure.variance**2 / figure.freedom if figure.freedom else 0.0
