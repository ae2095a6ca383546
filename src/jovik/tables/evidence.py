"""Words on results that do not represent their drive, and on suspect samples."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jovik.analysis.claim_candidates import drawback_words
from jovik.analysis.cross_rig import RigSlowdown
from jovik.analysis.drive_faults import fault_words
from jovik.analysis.evidence import Drawback
from jovik.analysis.samples import SuspectSample
from jovik.base.errors import PhraseError
from jovik.base.findings import LostData
from jovik.base.plain_data import keyed, plain
from jovik.base.quantities import show_rate
from jovik.queries.evidence import PassedOver
from jovik.steps import parse


def passed_over_words(found: PassedOver, only: str | None = None) -> list[str]:
    """Return a line for each newer result, sample or rig that does not represent its drive."""
    words = [
        suspect_words(drive, s, others_represent=found.represented_by_others(drive, s.sample))
        for drive, suspects in found.suspects.items()
        if only in (None, drive)
        for s in suspects
    ]
    words += [_slow_words(s) for s in found.slowed() if only in (None, s.drive)]
    shown: dict[tuple[object, ...], list[str]] = {}
    for choice, other in found.newer:
        why, r = choice.why_not(other), other.result
        if why in (Drawback.RIG, Drawback.SUSPECT, Drawback.OLDER) or only not in (None, r.drive):
            continue
        figure = show_rate(r.rate.median)
        line = f"{r.drive}: not used: {figure} {drawback_words(r, why)}"
        shown.setdefault((r.drive, why, r.run), []).append(f"{line}, {r.step.label}")
    for lines in shown.values():
        more = f" and {len(lines) - 1} more" if len(lines) > 1 else ""
        words.append(lines[0] + more)
    return words


def fault_lines(found: PassedOver) -> list[str]:
    """Return a line for each failed I/O and disconnection, which belongs above everything else."""
    return [f"{drive} {words}" for drive, words in failures_of(found)]


def failures_of(found: PassedOver, only: str | None = None) -> list[tuple[str, str]]:
    """Return drives with what they failed, a sentence without its subject.

    Lost data has a headline of its own.
    """
    return [
        (drive, fault_words(x))
        for drive, faults in found.faults.items()
        if only in (None, drive)
        for x in faults
        if not isinstance(x, LostData)
    ]


def suspect_words(drive: str, found: SuspectSample, *, others_represent: bool) -> str:
    """Return a warning about a sample, and whether its results stand for the drive."""
    used = "its results are not used" if others_represent else "these figures may be the sample's"
    return (
        f"warning: {found.sample} of {drive} is suspect ({spoken_evidence(found.evidence[0])}); "
        f"{used}: jovik judge --samples"
    )


def _slow_words(s: RigSlowdown) -> str:
    steps = parse(s.kinds[0]).label + (f" and {len(s.kinds) - 1} more" if len(s.kinds) > 1 else "")
    return (
        f"warning: {s.drive}: results from rig '{s.rig}' are not used, because on "
        f"'{s.better_rig}' {s.sample} was clearly faster ({steps}): check the port, the cable and "
        f"the machine; jovik rank --sample '{s.sample}' --drive '{s.drive}' --by rig"
    )


def passed_over_json(found: PassedOver) -> dict[str, Any]:
    """Return the same as documented: rigs, results that are not used, and suspect samples."""
    not_used: Sequence[dict[str, Any]] = [
        keyed(o, drive="result.drive", phrase="result.phrase", run="result.run")
        | keyed(o, sample="result.conditions.sample", rig="result.conditions.rig")
        | keyed(o, link="result.conditions.link")
        | {"why": str(c.why_not(o))}
        for c, o in found.newer
    ]
    suspects = [
        {"drive": drive, **keyed(s, "sample", "evidence", "checks")}
        for drive, each in found.suspects.items()
        for s in each
    ]
    return {
        "held_by_rig": plain(tuple(found.slowed())),
        "not_used": not_used,
        "suspect_samples": suspects,
        "faults": faults_json(found),
    }


def faults_json(found: PassedOver) -> list[dict[str, str]]:
    """Return what makes each drive known for its faults, as documented."""
    faults = [(drive, x) for drive, each in found.faults.items() for x in each]
    return [{"drive": drive, "what": fault_words(x)} for drive, x in faults]


def spoken_evidence(evidence: str) -> str:
    """Return evidence with the step's label instead of its phrase."""
    kind, colon, rest = evidence.partition(": ")
    try:
        return f"{parse(kind).label}: {rest}" if colon else evidence
    except PhraseError:
        return evidence
