"""Ladders: results that differ in one number only, as a curve with its knee and its best point."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.comparability import passes_differ
from jovik.analysis.statistics import interval
from jovik.base.interval import Interval
from jovik.base.quantities import spell_size
from jovik.base.step_result import StepResult
from jovik.steps import IoStep, parse

AXES = {
    "depth": "depth",
    "block_bytes": "block",
    "workers": "workers",
    "read_percent": "share of reads",
    "compressible_percent": "compressible share",
}
"""Fields of an access that a ladder may walk, and what they are called."""
LEAST_RUNGS = 3
NEAR_BEST = 0.05
"""The knee is the smallest value whose rate is within this share of the best."""


@dataclass(frozen=True)
class SweepPoint:
    """One point: the number, the rate and the I/Os a second with their intervals."""

    value: int
    rate_bytes_s: Interval
    iops: Interval
    result: StepResult

    @property
    def doubt(self) -> str:
        """What makes one hesitate at this point.

        Passes that differ, or what held it back that is not the drive; empty where nothing does.
        """
        said = (
            ["passes differ"] if passes_differ([p.rate_bytes_s for p in self.result.passes]) else []
        )
        said += [f"limited by the {x.what}" for x in self.result.limits[:1]]
        said += [f"{self.result.errors} errors"] if self.result.errors else []
        return " and ".join(said)


@dataclass(frozen=True)
class Sweep:
    """Results that differ in `axis` only, by rising number.

    `knee` and `best` are numbers of the axis. Over depth and workers, I/Os a second decide; over
    blocks and the rest, bytes a second.
    """

    axis: str
    step: IoStep
    rungs: tuple[SweepPoint, ...]
    knee: int
    best: int

    @property
    def name(self) -> str:
        """What the axis is called."""
        return AXES[self.axis]

    @property
    def label(self) -> str:
        """What all rungs have in common, and the axis."""
        return f"{self._common()}, over {self.name}"

    def doubts(self) -> list[str]:
        """Each doubt with the points that it is of: ``passes differ at 8 and 16``."""
        found: dict[str, list[str]] = {}
        for rung in self.rungs:
            if rung.doubt:
                found.setdefault(rung.doubt, []).append(self.spell(rung.value))
        every = len(self.rungs)
        return [
            f"{doubt} {'throughout' if len(at) == every else 'at ' + ', '.join(at)}"
            for doubt, at in found.items()
        ]

    def _common(self) -> str:
        base = {"depth": 1, "workers": 1, "compressible_percent": 0}
        step = replace(self.step, **{self.axis: base.get(self.axis, getattr(self.step, self.axis))})
        words = step.label.split(", ")
        if self.axis == "block_bytes":
            del words[1]
        if self.axis == "read_percent":
            words[0] = f"{'random' if step.random else 'sequential'} mixed"
        return ", ".join(words)

    def spell(self, value: int) -> str:
        """A number of the axis for people."""
        if self.axis == "block_bytes":
            return (
                spell_size(value).replace("KiB", " KiB").replace("MiB", " MiB")
                if value >= 1024
                else f"{value} B"
            )
        return f"{value} %" if self.axis.endswith("percent") else str(value)

    def words(self) -> str:
        """Knee and best point in a sentence."""
        at = {r.value: r for r in self.rungs}
        from jovik.base.quantities import show_rate, significant

        def figure(value: int) -> str:
            rung = at[value]
            small = self.step.block_bytes <= 64 * 1024 and self.axis != "block_bytes"
            return (
                f"{significant(rung.iops.median)} IOPS"
                if small
                else show_rate(rung.rate_bytes_s.median)
            )

        if self.axis.endswith("percent"):
            first, last = self.rungs[0].value, self.rungs[-1].value
            return f"{figure(first)} at {self.spell(first)}, {figure(last)} at {self.spell(last)}"
        best = f"best at {self.name} {self.spell(self.best)} with {figure(self.best)}"
        if self.knee == self.best:
            return best
        return (
            f"{best}; {self.name} {self.spell(self.knee)} is the smallest within "
            f"{100 * NEAR_BEST:g} % of it, with {figure(self.knee)}"
        )


def curves(results: Sequence[StepResult]) -> list[Sweep]:
    """Every sweep among results of one drive under one set of conditions, in order.

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
        if not isinstance(step, IoStep) or not result.passes or step.fresh:
            continue
        for axis in AXES:
            if axis == "compressible_percent" and not step.writes:
                continue
            key = (
                axis,
                _without(step, axis),
                result.conditions.filled_percent,
                result.findings.sweep,
            )
            groups[key][getattr(step, axis)] = result
    found = []
    for (axis, *_), by_value in groups.items():
        if len(by_value) < LEAST_RUNGS:
            continue
        found.append(_curve(axis, by_value))
    order = {id(r): i for i, r in enumerate(results)}
    return sorted(found, key=lambda c: min(order[id(r.result)] for r in c.rungs))


def _without(step: IoStep, axis: str) -> IoStep:
    """A step with the same number in `axis` for every rung of a ladder.

    What two rungs then share makes them one ladder.
    """
    same: dict[str, int] = {
        "depth": 1,
        "workers": 1,
        "read_percent": 50,
        "compressible_percent": 0,
        "block_bytes": 4096,
    }
    return replace(step, **{axis: same[axis], "span_bytes": step.span})  # type: ignore[arg-type]


def _curve(axis: str, by_value: dict[int, StepResult]) -> Sweep:
    rungs = tuple(
        SweepPoint(
            v, interval([p.rate_bytes_s for p in r.passes]), interval([p.iops for p in r.passes]), r
        )
        for v, r in sorted(by_value.items())
    )
    figure = {r.value: r.rate_bytes_s.median for r in rungs}
    best = max(figure, key=lambda v: figure[v])
    knee = min(v for v, rate in figure.items() if rate >= (1 - NEAR_BEST) * figure[best])
    first = parse(rungs[0].result.kind)
    assert isinstance(first, IoStep)
    return Sweep(axis, first, rungs, knee, best)
