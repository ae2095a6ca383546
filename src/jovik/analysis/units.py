"""Samples of one drive side by side, and those that are not right: far from their siblings, from their claim, and from their class."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.statistics import interval, ratio
from jovik.results import Interval, StepResult

FAR = 0.80
"""A unit is far below when the whole interval of its ratio to its siblings lies below this."""
CLASS_SHARE = 0.60
"""Below this share of the slowest other drive of its class, a unit does not belong there."""


@dataclass(frozen=True)
class UnitFigure:
    """One unit in one kind of step; `share` is of the best of its siblings, None where there is none."""

    unit: str
    kind: str
    rate_bytes_s: Interval
    share: Interval | None
    result: StepResult


@dataclass(frozen=True)
class Suspect:
    """A unit that is not right: what tells so, and what to check, the likeliest first."""

    unit: str
    evidence: tuple[str, ...]
    checks: tuple[str, ...]


def side_by_side(results: Sequence[StepResult]) -> list[UnitFigure]:
    """Every unit in every kind of step that at least one has, in the order of the results.

    Parameters
    ----------
    results : sequence of StepResult
        Of one drive, at most one for each unit and kind.
    """
    found = []
    for result in results:
        mine = [p.rate_bytes_s for p in result.passes]
        others = [r for r in results if r.kind == result.kind and r.conditions.unit != result.conditions.unit and _good(r)]
        others = [r for r in others if not r.conditions.differences(result.conditions)]
        best = max(others, key=lambda r: statistics.median(p.rate_bytes_s for p in r.passes), default=None)
        share = ratio(mine, [p.rate_bytes_s for p in best.passes]) if best is not None and _good(result) else None
        found.append(UnitFigure(result.conditions.unit or "unknown unit", result.kind, interval(mine), share, result))
    return found


def suspects(figures: Sequence[UnitFigure], of_class: Sequence[StepResult], short_kinds: Sequence[tuple[str, str]] = ()) -> list[Suspect]:
    """Units that are not right.

    Parameters
    ----------
    figures : from `side_by_side`
    of_class : sequence of StepResult
        Of other drives with the same interface and medium.
    short_kinds : sequence of (unit, kind)
        What fell short of its claim.
    """
    found = []
    for unit in dict.fromkeys(f.unit for f in figures):
        mine = [f for f in figures if f.unit == unit]
        evidence = [_sibling_words(f) for f in mine if f.share is not None and (f.share.high or f.share.median) < FAR]
        for f in mine:
            peers = [statistics.median(p.rate_bytes_s for p in r.passes) for r in of_class if r.kind == f.kind and _good(r)]
            if peers and f.rate_bytes_s.median < CLASS_SHARE * min(peers):
                evidence.append(f"{f.kind}: {100 * f.rate_bytes_s.median / min(peers):.0f} % of the slowest other drive of its class")
        errors = sum(f.result.errors for f in mine)
        evidence += [f"{errors} errors"] if errors else []
        if not evidence:
            continue
        evidence += [f"{kind}: short of its claim" for who, kind in short_kinds if who == unit]
        found.append(Suspect(unit, tuple(evidence), tuple(_checks(mine, figures))))
    return found


def _sibling_words(figure: UnitFigure) -> str:
    assert figure.share is not None
    return f"{figure.kind}: {100 * figure.share.median:.0f} % of its best sibling"


def _checks(mine: Sequence[UnitFigure], every: Sequence[UnitFigure]) -> list[str]:
    """What to check, by what the results themselves point at, then by what is usual: the way to the drive before the drive."""
    checks = []
    limits = {x.what: x for f in mine for x in f.result.limits}
    if "link" in limits:
        checks.append(f"cable and port: the link held it back ({limits['link'].note})")
    links = {f.result.conditions.link for f in mine}
    other_links = {f.result.conditions.link for f in every} - links
    if any(other_links):
        checks.append(f"port: its siblings ran on {', '.join(sorted(str(x) for x in other_links if x))}")
    if "heat" in limits:
        checks.append(f"cooling: {limits['heat'].note}")
    if any("disturbed" in n for f in mine for n in f.result.notes):
        checks.append("the machine: others used the drive or the cores during the test")
    firmware = {f.result.conditions.firmware for f in mine} ^ {f.result.conditions.firmware for f in every if f not in mine}
    if len(firmware) > 1:
        checks.append(f"firmware: {', '.join(sorted(str(x) for x in firmware))}")
    checks.append("the same steps with another cable, port or slot, enclosure (jovik repeat RUN --target ...)")
    checks.append("the sample itself: its log (jovik health), and another sample of the drive")
    return checks


def _good(result: StepResult) -> bool:
    return bool(result.passes) and all(p.rate_bytes_s > 0 for p in result.passes)
