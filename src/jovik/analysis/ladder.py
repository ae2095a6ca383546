"""Ladders: results that differ in one number only, as a curve with its knee and its best point."""

from __future__ import annotations

import math
import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.comparability import passes_differ
from jovik.analysis.statistics import ratio
from jovik.analysis.step_result import LimitSource, StepResult
from jovik.base.interval import Interval
from jovik.base.quantities import show_rate, significant, spell_size
from jovik.steps import IoStep, parse

AXES = {
    "depth": "depth",
    "block_bytes": "block",
    "workers": "workers",
    "read_percent": "percentage of reads",
    "compressible_percent": "compressible percentage",
    "span_bytes": "span",
    "amount_bytes": "amount",
    "amount_free_percent": "percentage of free space",
}
"""Fields of an access that a ladder may vary, and their names."""
SIZES = ("block_bytes", "span_bytes", "amount_bytes")
LEAST_RUNGS = 2
LEAST_SINGLE_STEPS = 3
"""Steps that no ladder's phrase asked for are one from so many on."""
NEAR_BEST = 0.05
"""The knee is the smallest value whose rate is surely within this share of the best."""
NO_DIFFERENCE = 0.10
"""Where whole intervals lie within this share, a difference matters to nobody."""


@dataclass(frozen=True)
class Rung:
    """One point: the number, the rate and the I/Os a second with their intervals."""

    value: int
    rate_bytes_s: Interval
    iops: Interval
    result: StepResult

    @property
    def doubt(self) -> str:
        """Return the reasons to doubt this rung.

        Passes that differ, or a limit other than the drive. Empty without any.
        """
        doubts = (
            ["passes differ"] if passes_differ([p.rate_bytes_s for p in self.result.passes]) else []
        )
        doubts += [f"limited by the {x.what}" for x in self.result.limits[:1]]
        doubts += [f"{self.result.errors} errors"] if self.result.errors else []
        return " and ".join(doubts)


@dataclass(frozen=True)
class Ladder:
    """Results that differ in `axis` only, by rising number.

    `best` holds every number of the axis that no other is surely better than, by bytes a second:
    none where a single pass or heat leaves that open. `knee` is the smallest number surely within 5
    % of the best, None if it is one of the best itself.
    """

    axis: str
    step: IoStep
    rungs: tuple[Rung, ...]
    knee: int | None
    best: tuple[int, ...]

    @property
    def name(self) -> str:
        """Return the name of the axis."""
        return AXES[self.axis]

    @property
    def label(self) -> str:
        """Return the parts that all rungs have in common, and the axis."""
        return f"{self._common()}, over {self.name}"

    def doubts(self) -> list[str]:
        """Return each doubt with the points that it is of: ``passes differ at 8 and 16``."""
        by_words: dict[str, list[str]] = {}
        for rung in self.rungs:
            if rung.doubt:
                by_words.setdefault(rung.doubt, []).append(self.spell(rung.value))
        every = len(self.rungs)
        return [
            f"{doubt} {'throughout' if len(at) == every else 'at ' + ', '.join(at)}"
            for doubt, at in by_words.items()
        ]

    @property
    def bent_by_heat(self) -> bool:
        """Return whether heat held a rung down, so that the curve's shape is not the drive's."""
        return any(x.what is LimitSource.HEAT for r in self.rungs for x in r.result.limits)

    def _common(self) -> str:
        base = {"depth": 1, "workers": 1, "compressible_percent": 0, "span_bytes": None}
        if self.axis in ("amount_bytes", "amount_free_percent"):
            return replace(self.step, amount_bytes=None, amount_free_percent=None).label
        step = replace(self.step, **{self.axis: base.get(self.axis, getattr(self.step, self.axis))})
        words = step.label.split(", ")
        if self.axis == "block_bytes":
            del words[1]
        if self.axis == "read_percent":
            words[0] = f"{'random' if step.random else 'sequential'} mixed"
        return ", ".join(words)

    def spell(self, value: int) -> str:
        """Return a number of the axis for people."""
        if self.axis in SIZES:
            return (
                re.sub(r"(?<=\d)(?=[A-Za-z])", " ", spell_size(value))
                if value >= 1024
                else f"{value} B"
            )
        return f"{value} %" if self.axis.endswith("percent") else str(value)

    def words(self) -> str:
        """Knee and best point in a sentence, as far as the intervals allow one."""
        if self.bent_by_heat:
            return "heat limited some of them, so no best is named"
        if not self.best:
            return "one pass each has no interval, so no best is named"
        if self.axis.endswith("percent"):
            return self._share_words()
        if len(self.best) == len(self.rungs):
            return f"{self.name} makes no difference that these passes could detect"
        best = f"best at {self.name} {self._range(self.best)} with {self._figure(self.best[0])}"
        if len(self.best) > 1:
            rates = {r.value: r.rate_bytes_s.median for r in self.rungs}
            by_rate = sorted(self.best, key=rates.__getitem__)
            best = (
                f"highest at {self.name} {self._range(self.best)}, "
                f"{self._figure(by_rate[0])} to {self._figure(by_rate[-1])}, which these passes "
                "cannot distinguish"
            )
        if self.knee is None:
            return best
        return (
            f"{best}; {self.name} {self.spell(self.knee)} is the smallest surely within "
            f"{100 * NEAR_BEST:g} % of it, with {self._figure(self.knee)}"
        )

    def _share_words(self) -> str:
        """Return the effect of a rising percentage: none, some, or undecided."""
        first, last = self.rungs[0], self.rungs[-1]
        ratios = [_ratio(r, first) for r in self.rungs[1:]]
        off = max(max(abs(x.least - 1), abs(x.most - 1)) for x in ratios)
        if off <= NO_DIFFERENCE:
            return f"{self.name} makes no difference: within {math.ceil(100 * off)} %"
        ends = (
            f"{self._figure(first.value)} at {self.spell(first.value)}, "
            f"{self._figure(last.value)} at {self.spell(last.value)}"
        )
        times = ratios[-1]
        if times.holds(1):
            return f"{ends}: too close to call"
        return ends

    def _figure(self, value: int) -> str:
        rung = next(r for r in self.rungs if r.value == value)
        small = self.step.block_bytes <= 64 * 1024 and self.axis != "block_bytes"
        return (
            f"{significant(rung.iops.median)} IOPS"
            if small
            else show_rate(rung.rate_bytes_s.median)
        )

    def _range(self, values: Sequence[int]) -> str:
        """``8``, or ``8 to 32`` where all numbers between are meant too, else each."""
        every = [r.value for r in self.rungs]
        if len(values) < 2:
            return self.spell(values[0])
        first, last = every.index(values[0]), every.index(values[-1])
        if last - first + 1 == len(values):
            return f"{self.spell(values[0])} to {self.spell(values[-1])}"
        return ", ".join(self.spell(v) for v in values)


def ladders_in(results: Sequence[StepResult]) -> list[Ladder]:
    """Return every sweep among results of one drive under one set of conditions, in order.

    Parameters
    ----------
    results : sequence of StepResult
        What came of one ladder's phrase stays together; single steps make a ladder all the same
        where there are enough of them.
    """
    groups: dict[tuple[str, IoStep, int | None, str | None], dict[int, StepResult]] = defaultdict(
        dict
    )
    for result in results:
        step = parse(result.kind)
        if not isinstance(step, IoStep) or not result.passes:
            continue
        for axis in AXES:
            if not _walks(axis, step):
                continue
            key = (
                axis,
                _without(step, axis),
                result.conditions.filled_percent,
                result.findings.ladder,
            )
            groups[key][_value(step, axis)] = result
    ladders = []
    for (axis, *_, phrase), by_value in groups.items():
        if len(by_value) < (LEAST_SINGLE_STEPS if phrase is None else LEAST_RUNGS):
            continue
        ladders.append(_curve(axis, by_value))
    order = {id(r): i for i, r in enumerate(results)}
    return sorted(ladders, key=lambda c: min(order[id(r.result)] for r in c.rungs))


def _walks(axis: str, step: IoStep) -> bool:
    """Return True if a step has a number on an axis."""
    if axis == "compressible_percent":
        return step.writes
    if axis == "span_bytes":
        return not step.fresh
    if axis.startswith("amount"):
        return getattr(step, axis) is not None
    # What is written into fresh space goes by its amount alone.
    return not step.fresh


def _value(step: IoStep, axis: str) -> int:
    if axis == "span_bytes":
        return step.span_bytes or step.span
    value: int = getattr(step, axis)
    return value


def _without(step: IoStep, axis: str) -> IoStep:
    """Return a step with the same number in `axis` for every rung of a ladder.

    What two rungs then share makes them one ladder. The span stays as it was asked for: what it
    comes to is a multiple of the block, which would part the rungs of a ladder over blocks.
    """
    same: dict[str, int | None] = {
        "depth": 1,
        "workers": 1,
        "read_percent": 50,
        "compressible_percent": 0,
        "block_bytes": 4096,
        "span_bytes": None,
        "amount_bytes": 2**30,
        "amount_free_percent": 50,
    }
    return replace(step, **{axis: same[axis]})  # type: ignore[arg-type]


def _ratio(one: Rung, two: Rung) -> Interval:
    rates = [[p.rate_bytes_s for p in x.result.passes] for x in (one, two)]
    if min(min(r) for r in rates) <= 0:
        return Interval(0.0)
    return ratio(*rates)


def _curve(axis: str, by_value: dict[int, StepResult]) -> Ladder:
    rungs = tuple(Rung(v, r.rate, r.iops, r) for v, r in sorted(by_value.items()))
    first = parse(rungs[0].result.kind)
    assert isinstance(first, IoStep)
    curve = Ladder(axis, first, rungs, None, ())
    if curve.bent_by_heat or not all(r.rate_bytes_s.known for r in rungs):
        return curve
    top = max(rungs, key=lambda r: r.rate_bytes_s.median)
    against = {r.value: _ratio(r, top) for r in rungs if r is not top}
    level = [v for v, x in against.items() if not x.below(1)]
    best = tuple(sorted([top.value, *level]))
    near = [v for v, x in against.items() if x.above(1 - NEAR_BEST)]
    knee = min(near, default=best[0])
    return replace(curve, best=best, knee=knee if knee < best[0] else None)
