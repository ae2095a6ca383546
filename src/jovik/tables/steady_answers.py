"""The answer to a steady-state plan's question, in a sentence each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.comparability import long_write_of, rate_of, settled, steady_step
from jovik.analysis.demand import FEWEST_POINTS, demand_points, enough_of
from jovik.analysis.recovery import PauseGain, pause_gains, recoveries
from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval
from jovik.base.quantities import show_size, show_time, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.steps import IoStep, parse
from jovik.tables.table import figure_words


def steady_answers(results: Sequence[StepResult]) -> list[str]:
    """Return the answers of a run to its plan's question, or none without such a plan."""
    every = [*_demand(results), *_recovered(results), *_pauses(results), *_used(results)]
    return every or list(_tracked(results))


def _demand(results: Sequence[StepResult]) -> Iterator[str]:
    points = demand_points(results)
    if len(points) < FEWEST_POINTS:
        return
    enough, last = enough_of(points), points[-1]
    what = _name(enough.result, "depth", "workers")
    words = f"{what}: {significant(enough.iops.median)} IOPS at {enough.in_flight} in flight"
    if last.in_flight == enough.in_flight:
        yield f"{words}: more load than that was not asked for, and may bring more"
        return
    line = f"{words}; more load adds less than 5 %"
    if enough.rare_ns and last.rare_ns and last.rare_ns > enough.rare_ns:
        line += (
            f", and the slowest of 100,000 takes {show_time(last.rare_ns)} instead of "
            f"{show_time(enough.rare_ns)} (at {last.in_flight})"
        )
    yield line


def _recovered(results: Sequence[StepResult]) -> Iterator[str]:
    for one in recoveries(results):
        what, other = _name(one.after), _name(one.between)
        yield f"{what}, after {other}: {_of_before(one.ratio)}"


def _of_before(ratio: Interval) -> str:
    """Return a rate as a percentage of its former value, or nothing if it may be chance."""
    head, _, reach = figure_words(ratio, 100).partition(" (")
    share = f"{head} % ({reach.rstrip(')')} %)" if reach else f"{head} %"
    if ratio.holds(1):
        return f"no measurable change: {share}"
    return f"{share} of its former value"


def _pauses(results: Sequence[StepResult]) -> Iterator[str]:
    gains = pause_gains(results)
    if not gains:
        return
    what = _name(gains[0].steady)
    sure = [g for g in gains if g.ratio.above(1)]
    if sure:
        first, best = sure[0], max(sure, key=lambda g: g.ratio.median)
        yield f"{what}: {_gain(first)}" + (f"; {_gain(best)}" if best is not first else "")
        return
    known = [g for g in gains if g.ratio.high is not None]
    if known:
        most = max(g.ratio.high or 0.0 for g in known)
        yield (
            f"{what}: a pause of up to {show_time(gains[-1].pause_ns)} restores nothing "
            f"measurable, at most {100 * max(most - 1, 0.0):.2g} %"
        )


def _gain(one: PauseGain) -> str:
    return f"{figure_words(one.ratio, 1)} times as fast after a pause of {show_time(one.pause_ns)}"


def _used(results: Sequence[StepResult]) -> Iterator[str]:
    """From new to used, of random writes over several spans."""
    for r in results:
        step, written = parse(r.kind), long_write_of(r)
        if not isinstance(step, IoStep) or not step.amount_spans or written is None:
            continue
        new, used = written.parts[0], written.parts[-1]
        if len(written.parts) == 1 and written.steady_from_s is not None:
            yield f"{_name(r)}: {_iops(new.rate_bytes_s, step)} IOPS from the first to the last"
        elif written.steady_from_s is None or written.steady_bytes is None:
            yield f"{_name(r)}: not steady after all that was written, it may get slower still"
        elif new.rate_bytes_s is not None:
            share = written.steady_bytes.median / new.rate_bytes_s.median
            yield (
                f"{_name(r)}: {_iops(new.rate_bytes_s, step)} IOPS new, "
                f"{_iops(written.steady_bytes, step)} used ({significant(100 * share)} %), "
                f"from {show_size(used.start_bytes)} written on"
            )


def _iops(rate: Interval | None, step: IoStep) -> str:
    return figure_words(rate, 1 / step.block_bytes) if rate is not None else "?"


def _tracked(results: Sequence[StepResult]) -> Iterator[str]:
    """Yield the steady figure of each step that decided when the rounds ended."""
    steady = [r for r in results if steady_step(r) and r.passes]
    tracked = {p for r in steady if r.findings.steady for p in r.findings.steady.tracked}
    for r in steady:
        if r.phrase in tracked:
            yield f"{_name(r)}: {_figure(r) if settled(r) else 'not steady'}"


def _figure(r: StepResult) -> str:
    """Return the decisive figure of a step: latency if it was tracked, otherwise a rate or IOPS."""
    step, iops = parse(r.kind), r.iops
    mean = (all_latencies_ns(r) or {}).get("mean")
    if r.findings.steady is not None and r.findings.steady.figure == "latency" and mean:
        if iops.low is None or iops.high is None:
            return show_time(mean)
        # A single request at a time takes the longer, the fewer are done.
        low, high = (show_time(mean * iops.median / x) for x in (iops.high, iops.low))
        return f"{show_time(mean)} ({low} to {high})"
    if isinstance(step, IoStep) and not step.random:
        return f"{figure_words(rate_of(r), per_unit())} {rate_unit()}"
    return f"{figure_words(iops, 1)} IOPS"


def _name(r: StepResult, *more: str) -> str:
    """``random write, 4 KiB, depth 32``: the label without how long and where, and without more."""
    left_out = ("until steady", "within", "after a", "over", *more)
    return ", ".join(p for p in r.step.label.split(", ") if not p.startswith(left_out))
