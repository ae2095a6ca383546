"""A drive's twin: a model drive whose parameters are fitted to the results of a real one.

The parameters of `Behaviour` are fitted on the log scale to the rates of all steps at once, with
the usual figures of the drive's class as a prior: what no step determines stays there, and says so.
A black-box model knows a device by how it answers, as Wang and others (MASCOTS 2004) and Mesnier
and others (SIGMETRICS 2007) have shown for disks and arrays.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from jovik.analysis.comparability import figure_of, long_write_of, settled
from jovik.analysis.run_effect import PRIOR_SPREAD as RUN_SPREAD
from jovik.analysis.step_result import LimitSource, StepResult
from jovik.base.interval import Interval
from jovik.base.io_session import Workload
from jovik.base.long_work import tracked
from jovik.base.quantities import show_rate, show_size, show_time, significant
from jovik.sheets.drive_class import DriveClass
from jovik.sheets.sheet import Drive
from jovik.simulator.parameters import Behaviour, Platter
from jovik.simulator.robust_fit import robust_fit
from jovik.simulator.twin_from_others import Parameter, from_other_results
from jovik.steps import IoStep

Floats = npt.NDArray[np.float64]
CLASS_SPREAD = math.log(3)
"""Standard deviation of the log of a class's figure: a factor of three either way."""
DETERMINED = 0.5
"""A parameter is determined if its spread is at most this share of the prior's."""
WEIGHTY = 0.25
"""Steps count for a parameter from this share of the weightiest one's information on."""
LEAST_STEPS = 3
SAVED_UP = 0.1
"""By so much the rate of a short step may be above a control group's limit."""
OUTLYING = 3.0
"""Residuals beyond so many spreads count less than by their square."""
MOST_REACH = math.log(100)
"""No parameter is further than this from its value, on the log scale, however little is known."""
QUANTILE, LIKELY = 1.96, 1.645
"""Of the normal distribution: 95 % of a parameter, and 90 % of a prediction."""
TIMES = ("read_latency", "sequential_latency", "write_latency", "flush_time")
RATES = ("read_rate", "write_rate", "read_iops", "write_iops")
SOLID = (*TIMES, *RATES)
ARM_FREE_IOPS = 100_000
SPINNING = ("outer_rate", "settle", "queue_gain")


@dataclass(frozen=True)
class LeftOut:
    """A step, and what the other steps predict for it: rates in bytes a second.

    `alone` if no other step determines a parameter that this one does: what is predicted without it
    says more of the class than of the twin.
    """

    phrase: str
    kind: str
    measured: float
    predicted: float
    alone: bool

    @property
    def error(self) -> float:
        """Return by which share the prediction is off."""
        return self.predicted / self.measured - 1


@dataclass(frozen=True)
class Twin:
    """A fitted model drive.

    `fast` and `slow` have every parameter at the end of what the results allow, and are faster or
    slower by what steps that were left out were off.
    """

    drive: Drive
    behaviour: Behaviour
    parameters: tuple[Parameter, ...]
    left_out: tuple[LeftOut, ...]
    fast: Behaviour
    slow: Behaviour

    @property
    def typical_error(self) -> float:
        """Return the median share by which steps that were left out were mispredicted.

        Those that alone determine a parameter do not count, unless all do.
        """
        counted = [x for x in self.left_out if not x.alone] or self.left_out
        return float(np.median([abs(x.error) for x in counted]))

    @property
    def predictor(self) -> Predictor:
        """Return what predictions need of it."""
        return Predictor(self.drive, self.behaviour, self.fast, self.slow, self.typical_error)


@dataclass(frozen=True)
class Predictor:
    """A twin as it predicts: in the middle, and at both ends of what the results allow."""

    drive: Drive
    behaviour: Behaviour
    fast: Behaviour
    slow: Behaviour
    typical_error: float


@dataclass(frozen=True)
class Observation:
    """A step and its workload, with its rate on the log scale and the spread of that."""

    step: IoStep
    work: Workload
    log_rate: float
    spread: float

    def predicted(self, behaviour: Behaviour) -> float:
        """Return the log of what a model drive does in this step."""
        return math.log(behaviour.iops(self.work) * self.work.block_bytes)

    @property
    def kind(self) -> str:
        """Return ``random read``, ``sequential write`` and so on."""
        order = "random" if self.step.random else "sequential"
        how = {100: "read", 0: "write"}.get(self.step.read_percent, "mixed")
        return f"{order} {how}"


def observations_of(results: Sequence[StepResult]) -> list[Observation]:
    """Return the results for a fit: settled short steps at full pace.

    The write cache was empty, and the drive cool: heat has parameters of its own.
    """
    found = []
    for r in results:
        step = r.step
        if not isinstance(step, IoStep) or step.steady or step.pause_ns is not None:
            continue
        if (
            step.rate_bytes_s is not None
            or step.rate_iops is not None
            or not r.conditions.direct
            or r.findings.write_cache_full
        ):
            continue
        if long_write_of(r) is not None or not r.passes or not settled(r):
            continue
        if any(x.what is LimitSource.HEAT for x in r.limits):
            continue
        figure = figure_of(r)
        variance = 0.0 if math.isnan(figure.variance) else figure.variance
        limited = any(x.what.of_group for x in r.limits)
        spread = math.sqrt(variance + RUN_SPREAD**2 + (SAVED_UP**2 if limited else 0.0))
        found.append(Observation(step, step.workload(0), figure.mean, spread))
    return found


def fitted(drive: Drive, results: Sequence[StepResult], usual: DriveClass) -> Twin | None:
    """Return the twin of a drive, or None if fewer than `LEAST_STEPS` steps can be used.

    Parameters
    ----------
    results : sequence of StepResult
        Those that represent the drive, also of a filled one, and with their latencies.
    usual : DriveClass
        Its class.
    """
    plain = [r for r in results if r.conditions.filled_percent is None]
    seen = observations_of(plain)
    if len(seen) < LEAST_STEPS:
        return None
    limits = _group_limits(plain)
    start = _prior(drive, usual).model_copy(
        update={p.name: p.value.median for p in limits},
    )
    names = _names(start, seen)
    one = _solved(seen, start, names)
    covered, rest = from_other_results(results, one.behaviour)
    behaviour = one.behaviour.model_copy(update=covered)
    known = {p.name for p in rest}
    by_steps = _parameters(one, names, seen, start)
    parameters = (*(p for p in by_steps if p.name not in known), *rest, *limits)
    left_out = []
    for n, o in enumerate(tracked(seen, "steps", len(seen))):
        others = [x for m, x in enumerate(seen) if m != n]
        without = _solved(others, start, names, one.values)
        left_out.append(
            LeftOut(
                o.step.canonical,
                o.kind,
                math.exp(o.log_rate),
                math.exp(o.predicted(without.behaviour)),
                bool((one.determined & ~without.determined).any()),
            )
        )
    counted = [x for x in left_out if not x.alone] or left_out
    off = math.sqrt(sum(math.log1p(x.error) ** 2 for x in counted) / len(counted))
    spread = np.sqrt(np.diag(one.covariance) + off**2 + RUN_SPREAD**2)
    reach = np.minimum(spread * LIKELY, MOST_REACH)
    slower = np.array([1.0 if n in (*TIMES, "settle") else -1.0 for n in names]) * reach
    fast, slow = (
        _with(start, names, one.values + way * slower).model_copy(
            update=covered | {p.name: _end(p, way * (1 if p.name in TIMES else -1)) for p in rest}
        )
        for way in (-1, 1)
    )
    return Twin(drive, _whole(behaviour), parameters, tuple(left_out), fast, slow)


@dataclass(frozen=True)
class _Solution:
    behaviour: Behaviour
    values: Floats
    covariance: npt.NDArray[np.floating[Any]]
    weights: Floats

    @property
    def determined(self) -> npt.NDArray[np.bool_]:
        """Return which parameters steps determined."""
        narrow = np.sqrt(np.diag(self.covariance)) <= DETERMINED * CLASS_SPREAD
        drawn: npt.NDArray[np.bool_] = narrow & (self.weights.max(axis=0) > 0)
        return drawn


def _solved(
    seen: Sequence[Observation],
    start: Behaviour,
    names: Sequence[str],
    near: Floats | None = None,
) -> _Solution:
    """Return the most probable parameters, on the log scale, with their covariance.

    The search begins `near` a solution, or at the class's figures. Residuals beyond their spread
    widen the covariance: then the model itself is off.
    """
    prior = np.log([_get(start, n) for n in names])

    def residuals(values: Floats) -> Floats:
        behaviour = _with(start, names, values)
        off = [(o.predicted(behaviour) - o.log_rate) / o.spread for o in seen]
        return np.array([*off, *((values - prior) / CLASS_SPREAD)])

    found, jacobian = robust_fit(residuals, prior if near is None else near, OUTLYING)
    covariance = np.linalg.inv(jacobian.T @ jacobian)
    off = residuals(found)[: len(seen)]
    freedom = max(len(seen) - len(names), 1)
    scale = max(float(off @ off) / freedom, 1.0)
    return _Solution(
        _with(start, names, found),
        found,
        covariance * scale,
        np.square(jacobian[: len(seen)], dtype=np.float64),
    )


def _parameters(
    one: _Solution, names: Sequence[str], seen: Sequence[Observation], start: Behaviour
) -> tuple[Parameter, ...]:
    spreads = np.sqrt(np.diag(one.covariance))
    made = []
    for n, name in enumerate(names):
        middle, spread = one.values[n], spreads[n]
        interval = Interval(*(math.exp(middle + k * QUANTILE * spread) for k in (0, -1, 1)))
        weights = one.weights[:, n]
        phrases: tuple[str, ...] = ()
        if one.determined[n]:
            heavy = weights >= WEIGHTY * weights.max()
            phrases = tuple(
                dict.fromkeys(o.step.canonical for o, h in zip(seen, heavy, strict=True) if h)
            )
        made.append(Parameter(name, interval, phrases, _get(start, name)))
    return tuple(made)


def _prior(drive: Drive, usual: DriveClass) -> Behaviour:
    """Return a model drive with the usual figures of a class."""

    def figure(what: str, otherwise: float) -> float:
        found = usual.figure(what)
        return found.usual if found is not None else otherwise

    read, write = figure("sequential read", 5e8), figure("sequential write", 4e8)
    one_read, many_reads = figure("random read 4KiB", 1e4), figure("random read 4KiB depth 32", 1e5)
    one_write = figure("random write 4KiB", 2e4)
    many_writes = figure("random write 4KiB depth 32", 1e5)
    sustained = figure("sustained write", write / 3)
    platter = None
    if usual.name.startswith("hdd"):
        rpm = int(usual.name.removeprefix("hdd-"))
        settle = max(1e9 / one_read - 30e9 / rpm, 1e6)
        platter = Platter.model_construct(
            outer_rate=read,
            inner_rate=read / 2,
            rpm=rpm,
            seek=14_000_000,
            settle=settle,
            queue_gain=0.22,
        )
    capacity = drive.capacity_bytes or 10**12
    return Behaviour.model_construct(
        **{name: field.default for name, field in Behaviour.model_fields.items()}
        | {
            "read_latency": 1e9 / one_read,
            "write_latency": 1e9 / one_write,
            "sequential_latency": 0.3e9 / one_read,
            "read_rate": read,
            "write_rate": write,
            # A disk's arm bounds it, not what its electronics can handle.
            "read_iops": 1.2 * many_reads if platter is None else ARM_FREE_IOPS,
            "write_iops": 1.2 * many_writes if platter is None else ARM_FREE_IOPS,
            "direct_write_rate": sustained,
            "drain_rate": sustained / 2,
            "capacity": capacity,
            "cache_size": 0 if platter is not None else capacity // 100,
            "platter": platter,
        }
    )


def _group_limits(results: Sequence[StepResult]) -> list[Parameter]:
    """Return the limits of control groups, bytes a second, that held results back."""
    held = [
        (limit.rate_bytes_s, r.step.read_percent, r.phrase)
        for r in results
        for limit in r.limits
        if limit.what is LimitSource.GROUP_BYTES and isinstance(r.step, IoStep)
    ]
    limits = []
    for name, share in (("read_limit", 100), ("write_limit", 0)):
        of_kind = [(rate, phrase) for rate, percent, phrase in held if percent == share]
        if of_kind:
            rate, phrase = max(of_kind)
            limits.append(Parameter(name, Interval(rate), (phrase,)))
    return limits


def _names(start: Behaviour, seen: Sequence[Observation]) -> tuple[str, ...]:
    """Return the parameters to fit."""
    if start.platter is not None:
        return SPINNING
    mixed = any(0 < o.step.read_percent < 100 for o in seen)
    return (*SOLID, "mixed_share") if mixed else SOLID


def _get(behaviour: Behaviour, name: str) -> float:
    own = behaviour.platter if name in SPINNING else behaviour
    return float(getattr(own, name))


def _with(start: Behaviour, names: Sequence[str], values: Floats) -> Behaviour:
    """Return a behaviour with parameters given by their logs."""
    new = dict(zip(names, np.exp(np.clip(values, -60, 60)).tolist(), strict=True))
    if start.platter is not None:
        return start.model_copy(update={"platter": start.platter.model_copy(update=new)})
    return start.model_copy(update=new)


def _whole(behaviour: Behaviour) -> Behaviour:
    """Return the same with whole nanoseconds, bytes and I/Os."""
    whole: dict[str, Any] = {
        name: round(getattr(behaviour, name))
        for name in (*TIMES, "read_iops", "write_iops", "cache_size", "file_time", "flash_size")
    }
    platter = behaviour.platter
    if platter is not None:
        whole["platter"] = platter.model_copy(update={"settle": round(platter.settle)})
    return behaviour.model_copy(update=whole)


def predicted_s(
    twins: Sequence[Predictor], seconds: Callable[[Sequence[Behaviour]], Sequence[float]]
) -> list[Interval]:
    """Return a prediction with its 90 % interval by each twin.

    Parameters
    ----------
    seconds : callable
        What each of many model drives takes, in seconds.
    """
    each = [b for twin in twins for b in (twin.behaviour, twin.fast, twin.slow)]
    took = iter(seconds(each))
    return [
        Interval(middle, min(low, middle), max(high, middle))
        for middle, low, high in zip(took, took, took, strict=True)
    ]


def _end(parameter: Parameter, way: int) -> float:
    """Return the upper end of a parameter, or the lower one if `way` is below 0."""
    value = parameter.value
    end = value.high if way > 0 else value.low
    return value.median if end is None else max(end, value.median / 100)


def errors_by_kind(left_out: Sequence[LeftOut]) -> Mapping[str, list[LeftOut]]:
    """Return the steps that were left out in turn, by their kind, but those that stand alone."""
    by_kind: dict[str, list[LeftOut]] = {}
    for x in (x for x in left_out if not x.alone):
        by_kind.setdefault(x.kind, []).append(x)
    return by_kind


def shown(name: str, value: float) -> str:
    """Return the value of a parameter for people."""
    if name in (*TIMES, "file_time", "settle", "time"):
        return show_time(value)
    if name in ("idle", "full", "throttle_at", "resume_at"):
        return f"{value:.1f} °C"
    if name.endswith(("_rate", "_limit")):
        return show_rate(value)
    if name in ("cache_size", "flash_size"):
        return show_size(value)
    return f"{significant(value)} IOPS" if name.endswith("_iops") else significant(value)
