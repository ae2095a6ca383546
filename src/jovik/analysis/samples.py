"""Samples of one drive side by side, and those that are not right.

Far from their siblings, from their claim, and from their class.
"""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.evidence import held_by_link
from jovik.analysis.run_effect import PRIOR_ALONE, RunEffect, ratio_across
from jovik.analysis.statistics import interval, ratio_interval
from jovik.analysis.step_result import LimitSource, StepResult
from jovik.base.interval import Interval
from jovik.steps import IoStep, parse

UNKNOWN_SAMPLE = "unknown sample"
"""The name of a sample whose serial number was not read."""
FAR_BELOW = 0.80
"""A sample is far below when the whole interval of its ratio to its siblings lies below this."""
CLASS_SHARE = 0.60
"""Below this share of the slowest other drive of its class, a sample does not belong there.

Nor, in a stream, below this share of what the link of the generation before carries: nobody sells a
drive with a link that it has no use for.
"""
LINK_TOLERANCE = 1.06
"""Tolerance above a link's payload: noise, and 512-byte instead of 256-byte packets (4.5 %)."""
STREAM_BLOCK = 128 * 1024
"""From this block size on, link and medium bound a sequential read, not commands."""


@dataclass(frozen=True)
class ClassLink:
    """The link that drives of a class are sold with.

    What it carries, and what the generation before did (None: there was none).
    """

    name: str
    rate_bytes_s: float
    before_bytes_s: float | None = None


@dataclass(frozen=True)
class ExpectedRange:
    """Where a drive of a class is expected in one kind of step, in bytes a second.

    `by` says who set the lower and the upper end.
    """

    low: float | None
    high: float | None
    by: tuple[str, str] = ("", "")


def expected_band(
    kind: str, peers: Sequence[StepResult], link: ClassLink | None, *, solid: bool
) -> ExpectedRange:
    """Return the expected range of a drive, from its peers and from the physics of its link.

    Parameters
    ----------
    kind : str
        Of step.
    peers : sequence of StepResult
        Of other drives with the same interface and medium.
    link : ClassLink, optional
        Possible connections of drives of this class.
    solid : bool
        Whether the medium is solid state. A spinning one is slower than any link of its time.
    """
    step = parse(kind)
    slowest = min((_median(r) for r in peers if r.kind == kind and _good(r)), default=None)
    low, by_low = (
        (CLASS_SHARE * slowest, "the slowest other drive of its class")
        if slowest is not None
        else (None, "")
    )
    high, by_high = None, ""
    if link is not None and isinstance(step, IoStep) and step.plain:
        # A mixture runs both ways at once, and a link carries as much each way.
        high, by_high = link.rate_bytes_s * (1 if step.read_percent in (0, 100) else 2), link.name
        stream = not step.random and step.read_percent == 100 and step.block_bytes >= STREAM_BLOCK
        floor = (
            CLASS_SHARE * link.before_bytes_s
            if link.before_bytes_s is not None and solid and stream
            else None
        )
        if floor is not None and (low is None or floor > low):
            low, by_low = floor, "the link of the previous generation"
    return ExpectedRange(low, high, (by_low, by_high))


@dataclass(frozen=True)
class SampleFigure:
    """One sample in one kind of step.

    `share` is of the best of its siblings, None if there is none; `band` is its class's;
    `held_by_link` whether a sibling does more than this sample's link carries.
    """

    sample: str
    kind: str
    rate_bytes_s: Interval
    share: Interval | None
    result: StepResult
    band: ExpectedRange = ExpectedRange(None, None)
    held_by_link: bool = False


@dataclass(frozen=True)
class SuspectSample:
    """A suspect sample: the evidence, and the checks to make, the likeliest first.

    `kinds` are the kinds of step that tell so, and `slower` is True if it is far below another
    sample.
    """

    sample: str
    evidence: tuple[str, ...]
    checks: tuple[str, ...]
    kinds: tuple[str, ...] = ()
    slower: bool = False


def side_by_side(
    results: Sequence[StepResult],
    of_class: Sequence[StepResult] = (),
    link: ClassLink | None = None,
    *,
    solid: bool = False,
    effect: RunEffect = PRIOR_ALONE,
) -> list[SampleFigure]:
    """Return every sample in every kind of step that at least one has, in the order of the results.

    Parameters
    ----------
    results : sequence of StepResult
        Of one drive, at most one for each sample and kind.
    of_class, link, solid
        See `expected_band`.
    effect : RunEffect
        The differences between runs.
    """
    figures = []
    for result in results:
        others = [
            r
            for r in results
            if r.kind == result.kind
            and r.conditions.sample != result.conditions.sample
            and _good(r)
        ]
        others = [r for r in others if not r.conditions.differences(result.conditions)]
        best = max(others, key=_median, default=None)
        rates = [p.rate_bytes_s for p in result.passes]
        share = (
            ratio_interval(ratio_across(result, best, effect))
            if best is not None and _good(result)
            else None
        )
        peers = [r for r in of_class if not r.conditions.differences(result.conditions)]
        # What went through the system's cache is bounded by memory, not by the link.
        band = expected_band(
            result.kind, peers, link if result.conditions.direct else None, solid=solid
        )
        figures.append(
            SampleFigure(
                result.conditions.sample or UNKNOWN_SAMPLE,
                result.kind,
                interval(rates),
                share,
                result,
                band,
                held_by_link(result, others),
            )
        )
    return figures


def suspects(
    figures: Sequence[SampleFigure], short_kinds: Sequence[tuple[str, str]] = ()
) -> list[SuspectSample]:
    """Units that are not right.

    Parameters
    ----------
    figures : from `side_by_side`
    short_kinds : sequence of (sample, kind)
        Steps that missed a claim.
    """
    samples = list(dict.fromkeys(f.sample for f in figures))
    # What every sample misses is the claim's fault, or the drive's, and no sample's.
    of_all = {
        kind
        for _, kind in short_kinds
        if len(samples) > 1
        and {who for who, k in short_kinds if k == kind}
        >= {f.sample for f in figures if f.kind == kind}
    }
    suspects = []
    for sample in samples:
        own = [f for f in figures if f.sample == sample]
        guilty: list[SampleFigure] = []
        evidence = []
        for f in own:
            words = _evidence_of(f)
            evidence += words
            guilty += [f] if words else []
        if not evidence:
            continue
        evidence += [
            f"{kind}: short of its claim"
            for who, kind in short_kinds
            if who == sample and kind not in of_all
        ]
        suspects.append(
            SuspectSample(
                sample,
                tuple(evidence),
                tuple(_checks(guilty, figures)),
                tuple(f.kind for f in guilty),
                any(_far_below(f) for f in own),
            )
        )
    return suspects


def _evidence_of(figure: SampleFigure) -> list[str]:
    """Return the evidence of one figure against its sample."""
    evidence = []
    if _far_below(figure):
        evidence.append(_sibling_words(figure))
    if not (explained(figure.result) or figure.held_by_link):
        evidence += _band_words(figure)
    errors = figure.result.errors
    return evidence + ([f"{figure.kind}: {errors:,} errors"] if errors else [])


def _far_below(figure: SampleFigure) -> bool:
    """Return True if a sample is far below its best sibling without a reason that was seen."""
    if explained(figure.result) or figure.held_by_link or figure.share is None:
        return False
    return figure.share.most < FAR_BELOW


def explained(result: StepResult) -> bool:
    """Return whether something was seen that makes a figure low without any fault of the sample.

    Heat, its link, a control group, or a write cache that steps before it had filled.
    """
    outside = (LimitSource.HEAT, LimitSource.LINK)
    limited = any(x.what in outside or x.what.of_group for x in result.limits)
    return limited or result.findings.write_cache_full


def _band_words(figure: SampleFigure) -> list[str]:
    rate, band = figure.rate_bytes_s, figure.band
    if band.low is not None and rate.median < band.low:
        return [
            f"{figure.kind}: {100 * CLASS_SHARE * rate.median / band.low:.0f} % of {band.by[0]}"
        ]
    if band.high is not None and rate.least > LINK_TOLERANCE * band.high:
        return [f"{figure.kind}: {100 * rate.median / band.high:.0f} % of the rate of {band.by[1]}"]
    return []


def _sibling_words(figure: SampleFigure) -> str:
    assert figure.share is not None
    return f"{figure.kind}: {100 * figure.share.median:.0f} % of its best sibling"


def _checks(mine: Sequence[SampleFigure], every: Sequence[SampleFigure]) -> list[str]:
    """Return the checks to make: first those that the results suggest, then the usual ones.

    The way to the drive before the drive.
    """
    checks = []
    if any(
        f.band.high is not None and (f.rate_bytes_s.low or 0) > LINK_TOLERANCE * f.band.high
        for f in mine
    ):
        checks.append(
            "the measurement: a cache answered instead of the drive, or the sheet names "
            "another interface than it has"
        )
    limits = {x.what: x for f in mine for x in f.result.limits}
    if LimitSource.LINK in limits:
        checks.append(f"cable and port: the link limited it ({limits[LimitSource.LINK].note})")
    links = {f.result.conditions.link for f in mine}
    other_links = {f.result.conditions.link for f in every} - links
    if any(other_links):
        checks.append(
            f"port: its siblings ran on {', '.join(sorted(str(x) for x in other_links if x))}"
        )
    if LimitSource.HEAT in limits:
        checks.append(f"cooling: {limits[LimitSource.HEAT].note}")
    if any(f.result.findings.disturbances for f in mine):
        checks.append("the machine: others used the drive or the cores during the test")
    firmware = {f.result.conditions.firmware for f in mine} ^ {
        f.result.conditions.firmware for f in every if f not in mine
    }
    if len(firmware) > 1:
        checks.append(f"firmware: {', '.join(sorted(str(x) for x in firmware))}")
    checks.append(
        "the same steps with another cable, port or slot, enclosure (jovik repeat RUN --target ...)"
    )
    checks.append("the sample itself: its log (jovik health), and another sample of the drive")
    return checks


def _median(result: StepResult) -> float:
    return statistics.median(p.rate_bytes_s for p in result.passes)


def _good(result: StepResult) -> bool:
    return bool(result.passes) and all(p.rate_bytes_s > 0 for p in result.passes)
