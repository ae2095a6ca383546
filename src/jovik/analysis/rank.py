"""Placing drives among each other: like with like, ties where the noise says so, and an index against a yardstick."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.statistics import LogFigure, combine, geometric_mean, interval, ratio_interval
from jovik.errors import Misuse, UnknownName
from jovik.results import Interval, StepResult


@dataclass(frozen=True)
class Place:
    """A rank, which is a range where the noise allows no finer one."""

    first: int
    last: int

    def __str__(self) -> str:
        return f"{self.first}" if self.first == self.last else f"{self.first}-{self.last}"


@dataclass(frozen=True)
class StepPlace:
    """One drive in the ranking of one kind of step."""

    drive: str
    kind: str
    place: Place
    rate_bytes_s: Interval
    iops: Interval
    passes: int
    result: StepResult
    index: Interval | None = None


@dataclass(frozen=True)
class DrivePlace:
    """One drive in the ranking overall; `index` is None where it shares no step with the yardstick."""

    drive: str
    place: Place | None
    index: Interval | None
    steps: tuple[StepPlace, ...]


@dataclass(frozen=True)
class LeftOut:
    """A result that was not compared, and why."""

    drive: str
    kind: str
    why: str


@dataclass(frozen=True)
class Ranking:
    """The whole table, best first."""

    yardstick: str
    drives: tuple[DrivePlace, ...]
    kinds: tuple[str, ...]
    left_out: tuple[LeftOut, ...]


def rank(results: Sequence[StepResult], yardstick: str | None = None) -> Ranking:
    """Rank every drive that has results.

    Parameters
    ----------
    results : sequence of StepResult
        At most one for each drive and kind, oldest drive first.
    yardstick : str, optional
        The drive that the index calls 100; the one measured first unless given.

    Raises
    ------
    UnknownName
        The yardstick has no results.
    Misuse
        There is nothing to rank.
    """
    drives = list(dict.fromkeys(r.drive for r in results))
    if not drives:
        raise Misuse("no drive on this shelf has results yet", "measure one: jovik measure TARGET --drive NAME")
    if yardstick is not None and yardstick not in drives:
        raise UnknownName("drive with results", yardstick, drives)
    measure = yardstick or drives[0]
    compared, left_out = _like_with_like(results, measure)
    figures: dict[str, dict[str, LogFigure]] = defaultdict(dict)
    for r in compared:
        figures[r.drive][r.kind] = LogFigure.of([p.rate_bytes_s for p in r.passes])
    kinds = tuple(dict.fromkeys(r.kind for r in compared))
    steps = [s for kind in kinds for s in _rank_step([r for r in compared if r.kind == kind], figures, measure)]
    indexes = {d: _against(figures[d], figures[measure]) for d in drives}
    placed = [d for d in drives if indexes[d] is not None]
    places = _places({a: {b: _ratio_over_common(figures[a], figures[b]) for b in placed if b != a} for a in placed})
    rows = [
        DrivePlace(
            d,
            places.get(d),
            ratio_interval(index).scaled(100) if (index := indexes[d]) is not None else None,
            tuple(s for s in steps if s.drive == d),
        )
        for d in drives
    ]
    rows.sort(key=lambda row: (row.index is None, -(row.index.median if row.index else 0.0), row.drive))
    return Ranking(measure, tuple(rows), kinds, tuple(left_out))


def _like_with_like(results: Sequence[StepResult], yardstick: str) -> tuple[list[StepResult], list[LeftOut]]:
    """Keep, for each kind, the largest group whose conditions agree, and say of the others what keeps them apart."""
    kept: list[StepResult] = []
    left_out: list[LeftOut] = []
    by_kind: dict[str, list[StepResult]] = defaultdict(list)
    for result in results:
        if any(p.rate_bytes_s <= 0 for p in result.passes) or not result.passes:
            left_out.append(LeftOut(result.drive, result.kind, "a pass in which nothing completed"))
        else:
            by_kind[result.kind].append(result)
    for kind, members in by_kind.items():
        groups: list[list[StepResult]] = []
        for member in members:
            for group in groups:
                if not group[0].conditions.differences(member.conditions):
                    group.append(member)
                    break
            else:
                groups.append([member])
        best = max(groups, key=lambda g: (len(g), any(r.drive == yardstick for r in g)))
        kept += best
        for group in groups:
            if group is not best:
                why = "; ".join(best[0].conditions.differences(group[0].conditions))
                left_out += [LeftOut(r.drive, kind, why) for r in group]
    return kept, left_out


def _rank_step(members: Sequence[StepResult], figures: dict[str, dict[str, LogFigure]], yardstick: str) -> list[StepPlace]:
    kind = members[0].kind
    names = [r.drive for r in members]
    places = _places({a: {b: combine([(1, figures[a][kind]), (-1, figures[b][kind])]) for b in names if b != a} for a in names})
    rows = []
    for r in members:
        index = None
        if r.drive == yardstick:
            index = Interval(100.0, 100.0, 100.0)
        elif kind in figures[yardstick]:
            index = ratio_interval(combine([(1, figures[r.drive][kind]), (-1, figures[yardstick][kind])])).scaled(100)
        rates = interval([p.rate_bytes_s for p in r.passes])
        rows.append(StepPlace(r.drive, kind, places[r.drive], rates, interval([p.iops for p in r.passes]), len(r.passes), r, index))
    return sorted(rows, key=lambda s: -s.rate_bytes_s.median)


def _against(mine: dict[str, LogFigure], theirs: dict[str, LogFigure]) -> LogFigure | None:
    """The geometric mean of the ratios over the steps both have; exactly 1 for the yardstick against itself."""
    if mine is theirs:
        return LogFigure(0.0, 0.0, float("inf"))
    return _ratio_over_common(mine, theirs)


def _ratio_over_common(mine: dict[str, LogFigure], theirs: dict[str, LogFigure]) -> LogFigure | None:
    common = [k for k in mine if k in theirs]
    if not common:
        return None
    return geometric_mean([combine([(1, mine[k]), (-1, theirs[k])]) for k in common])


def _places(ratios: dict[str, dict[str, LogFigure | None]] | dict[str, dict[str, LogFigure]]) -> dict[str, Place]:
    """A place for each name from the ratios of each to every other.

    Two tie where the interval of their ratio includes 1; so the first place a drive may hold is behind those surely
    better, the last one before those surely worse.
    """
    places = {}
    for name, others in ratios.items():
        better = worse = 0
        for figure in others.values():
            if figure is None or not figure.known:
                continue
            span = ratio_interval(figure)
            better += span.high is not None and span.high < 1
            worse += span.low is not None and span.low > 1
        places[name] = Place(1 + better, len(ratios) - worse)
    return places
