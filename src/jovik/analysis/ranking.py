"""Placing drives among each other.

Like with like, ties where the noise says so, and an index against a yardstick.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

from jovik.analysis.comparability import (
    crossed_cliff,
    differences,
    figure_of,
    long_write_of,
    rate_of,
    settled,
)
from jovik.analysis.rank_intervals import Rank, RankIntervals, rank_intervals
from jovik.analysis.run_effect import PRIOR_ALONE, RunEffect
from jovik.analysis.step_result import StepResult
from jovik.base.errors import UnknownNameError, UsageError
from jovik.base.interval import Interval
from jovik.steps import parse


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

    `index` is None if it shares no step with the yardstick. `level` names the drives that it
    does not surely differ from, `missing` the kinds of step in the index that it lacks; `runs` is
    how many runs its figures are from, at most.
    """

    drive: str
    place: Rank | None
    index: Interval | None
    steps: tuple[StepRank, ...]
    level: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    runs: int = 1


@dataclass(frozen=True)
class Exclusion:
    """A result that was not compared, with the reason. Without a kind, all results of the drive."""

    drive: str
    kind: str | None
    why: str


@dataclass(frozen=True)
class Ranking:
    """The whole table, best first.

    `counted` are the kinds that make the index, `places` the scale that the index and the overall
    places are both read from, and `by_kind` that of each kind of step.
    """

    yardstick: str
    drives: tuple[DriveRank, ...]
    kinds: tuple[str, ...]
    left_out: tuple[Exclusion, ...]
    counted: tuple[str, ...] = ()
    rank_intervals: RankIntervals | None = None
    by_kind: Mapping[str, RankIntervals] = field(default_factory=dict)

    def lead(self, kind: str, one: str, two: str) -> Interval:
        """Return how many times the rate of one drive is of another's in a kind of step."""
        return self.by_kind[kind].ratio(one, two)


def rank_drives(
    results: Sequence[StepResult],
    yardstick: str | None = None,
    weight_of: Callable[[StepResult], float] | None = None,
    *,
    effect: RunEffect = PRIOR_ALONE,
) -> Ranking:
    """Rank every drive that has results.

    Parameters
    ----------
    results : sequence of StepResult
        At most one for each drive and kind, oldest drive first.
    yardstick : str, optional
        The drive that the index calls 100; the one measured first unless given.
    weight_of : callable, optional
        The weight of a result's kind of step in the index, 0 to exclude it. Default: equal
        weights, of which the rungs of a ladder share one.
    effect : RunEffect
        The differences between runs.

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
    cells: dict[str, dict[str, StepResult]] = {d: {} for d in drives}
    for r in compared:
        cells[r.drive][r.kind] = r
    kinds = tuple(dict.fromkeys(r.kind for r in compared))
    by_kind = {
        kind: rank_intervals(
            {d: {kind: c[kind]} for d, c in cells.items() if kind in c},
            {kind: 1.0},
            effect,
        )
        for kind in kinds
    }
    ranked = {kind: dict(zip(p.drives, p.ranks, strict=True)) for kind, p in by_kind.items()}
    weights = _weights_of(cells, kinds, weight_of or (lambda _: 1.0))
    overall = _overall(cells, measure, weights, effect)
    rows = [_row(d, cells[d], by_kind, ranked, overall, measure) for d in drives]
    rows.sort(
        key=lambda row: (row.index is None, -(row.index.median if row.index else 0.0), row.drive)
    )
    return Ranking(measure, tuple(rows), kinds, tuple(left_out), tuple(weights), overall, by_kind)


def _weights_of(
    cells: Mapping[str, Mapping[str, StepResult]],
    kinds: Sequence[str],
    weight_of: Callable[[StepResult], float],
) -> dict[str, float]:
    """Return the kinds of the index, which most drives have, with their weights.

    What only some have, such as the steps of their own claims, would make all others uncertain. Two
    have to have it in any case.
    One pass has no interval and would take the whole index's; such steps count where there is
    nothing else.
    """
    of_kind = {k: [c[k] for c in cells.values() if k in c] for k in kinds}
    # A ladder of eight rungs would outweigh all other steps.
    shared = [k for k, rs in of_kind.items() if len(rs) > 1]
    common = [k for k in shared if 2 * len(of_kind[k]) > len(cells)] or shared
    ladders = {k: _ladder_of(of_kind[k]) for k in common}
    rungs = Counter(x for x in ladders.values() if x is not None)
    weights = {
        k: w / (rungs[ladder] if ladder is not None else 1)
        for k, ladder in ladders.items()
        if (w := weight_of(of_kind[k][0])) > 0
    }
    sure = {
        k: w
        for k, w in weights.items()
        if all(figure_of(c[k]).known for c in cells.values() if k in c)
    }
    return sure or weights


def _ladder_of(results: Sequence[StepResult]) -> str | None:
    """Return the ladder that a kind of step is a rung of for every drive, or None."""
    ladders = {r.findings.ladder for r in results}
    return ladders.pop() if len(ladders) == 1 else None


def _overall(
    cells: Mapping[str, Mapping[str, StepResult]],
    yardstick: str,
    weights: Mapping[str, float],
    effect: RunEffect,
) -> RankIntervals | None:
    """Return all drives that steps connect with the yardstick, on one scale."""
    weighted = {d: {k: c[k] for k in weights if k in c} for d, c in cells.items()}
    reached, linked = {yardstick}, set(weighted[yardstick])
    while True:
        more = {d for d, c in weighted.items() if d not in reached and linked & set(c)}
        if not more:
            break
        reached |= more
        linked |= {k for d in more for k in weighted[d]}
    connected = {d: c for d, c in weighted.items() if d in reached and c}
    used = {k: w for k, w in weights.items() if k in linked}
    return rank_intervals(connected, used, effect) if yardstick in connected else None


def _row(
    drive: str,
    cells: Mapping[str, StepResult],
    by_kind: Mapping[str, RankIntervals],
    ranked: Mapping[str, Mapping[str, Rank]],
    overall: RankIntervals | None,
    yardstick: str,
) -> DriveRank:
    steps = []
    for kind, result in cells.items():
        scale = by_kind[kind]
        steps.append(
            StepRank(
                drive,
                kind,
                ranked[kind][drive],
                rate_of(result),
                result.iops,
                len(result.passes),
                result,
                scale.ratio(drive, yardstick).scaled(100) if yardstick in scale.drives else None,
            )
        )
    runs = max((len(r.from_runs) for r in cells.values()), default=1)
    if overall is None or drive not in overall.drives:
        alone = Interval(100.0, 100.0, 100.0) if drive == yardstick else None
        place = Rank(1, 1) if drive == yardstick else None
        return DriveRank(drive, place, alone, tuple(steps), runs=runs)
    at = overall.place_of[drive]
    ahead = overall.ahead
    level = tuple(
        d for i, d in enumerate(overall.drives) if i != at and not ahead[at, i] and not ahead[i, at]
    )
    return DriveRank(
        drive,
        overall.ranks[at],
        overall.ratio(drive, yardstick).scaled(100),
        tuple(steps),
        level,
        overall.missing[at],
        runs,
    )


def _like_with_like(
    results: Sequence[StepResult], yardstick: str
) -> tuple[list[StepResult], list[Exclusion]]:
    """Keep the largest comparable group of each kind, and explain the exclusions."""
    comparable: list[StepResult] = []
    left_out: list[Exclusion] = []
    by_kind: dict[str, list[StepResult]] = defaultdict(list)
    for result in results:
        if any(p.rate_bytes_s <= 0 for p in result.passes) or not result.passes:
            left_out.append(Exclusion(result.drive, result.kind, "no I/O completed in a pass"))
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
        comparable += best
        for group in groups:
            if group is not best:
                why = "; ".join(differences(best[0], group[0]))
                left_out += [Exclusion(r.drive, kind, why) for r in group]
    return comparable, left_out


def _unsettled(result: StepResult) -> str:
    if crossed_cliff(result) is not None:
        return "it ran across the cliff, so that its mean is of two rates"
    written = long_write_of(result)
    reason = written.sustained if written is not None else "its rounds were not steady"
    return f"no sustained rate: {reason}"


def lead_over_next(ranking: Ranking, rows: Sequence[StepRank]) -> list[Interval | None]:
    """Return the lead of each drive over the next, best first, with its interval.

    None for the last.

    The interval is the one that places go by, so that the two never contradict each other.
    """
    leads: list[Interval | None] = [
        ranking.lead(one.kind, one.drive, two.drive) for one, two in pairwise(rows)
    ]
    return [*leads, None]


def rank_sentence(ranking: Ranking, drive: str) -> str:
    """Return one drive's place in words: overall, and where it is first, level or last."""
    row = next((d for d in ranking.drives if d.drive == drive), None)
    if row is None:
        return f"{drive}: not ranked, because it has no result that this ranking compares"
    many = sum(d.place is not None for d in ranking.drives)
    if row.place is None or many < 2:
        return f"{drive}: not placed, because there is no other drive"
    parts = [f"{_ordinal(row.place)} of {many}"]
    level = [d.drive for d in ranking.drives if d.drive in row.level]
    shown = level if len(level) <= 4 else [*level[:3], f"{len(level) - 3} others"]
    parts += [f"not distinguishable from {' and '.join(shown)}"] if level else []
    count = {k: sum(s.kind == k for d in ranking.drives for s in d.steps) for k in ranking.kinds}
    first = [s for s in row.steps if s.place == Rank(1, 1) and count[s.kind] > 1]
    last = [s for s in row.steps if s.place.first == s.place.last == count[s.kind] > 1]
    parts += [f"first in {_labels(first)}"] if first else []
    parts += [f"last in {_labels(last)}"] if last else []
    if row.missing:
        parts += [f"without {_kind_labels(row.missing)}, which it was not measured in"]
    return f"{drive}: {', '.join(parts)}"


def _kind_labels(kinds: Sequence[str]) -> str:
    shown = [parse(k).label for k in kinds]
    return "; ".join(shown) if len(shown) <= 3 else f"{len(shown)} of the index's steps"


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
