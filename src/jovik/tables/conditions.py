"""Differing conditions of compared drives: rigs, links, firmware, a quiet machine."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.step_result import StepResult

MOST_DRIVES = 6


def conditions_words(results: Sequence[StepResult]) -> list[str]:
    """Return a line if rigs or links differ, and one for each mixed firmware.

    Parameters
    ----------
    results : sequence of StepResult
        All that a comparison is made of.
    """
    by_drive: dict[str, list[StepResult]] = {}
    for r in results:
        by_drive.setdefault(r.drive, []).append(r)
    words = []
    wheres = {d: tuple(dict.fromkeys(_where(r) for r in rs)) for d, rs in by_drive.items()}
    if len({w for where in wheres.values() for w in where}) > 1:
        differing = [f"{d} on {' and '.join(where)}" for d, where in wheres.items()]
        more = f" and {len(differing) - MOST_DRIVES} more" if len(differing) > MOST_DRIVES else ""
        words.append(f"not all on one rig and link: {'; '.join(differing[:MOST_DRIVES])}{more}")
    for drive, rs in by_drive.items():
        firmware = sorted({f for r in rs if (f := r.conditions.firmware) is not None})
        samples = {r.conditions.sample for r in rs}
        if len(firmware) > 1 and len(samples) == 1:
            words.append(f"{drive}: figures of firmware {' and '.join(firmware)} together")
    return words + disturbed_words(results)


def _where(result: StepResult) -> str:
    c = result.conditions
    return f"'{c.rig or 'unknown rig'}'" + (f" ({c.link})" if c.link else "")


def disturbed_words(results: Sequence[StepResult]) -> list[str]:
    """Return a warning for each drive that was measured on a machine that was far from quiet."""
    bad: dict[str, list[str]] = {}
    for r in results:
        if any(d.bad for d in r.findings.disturbed):
            bad.setdefault(r.drive, []).append(r.step.label)
    return [
        f"warning: {drive} was badly disturbed in {kinds[0]}"
        + (f" and {len(kinds) - 1} more" if len(kinds) > 1 else "")
        + ": other work on the drive or the machine; repeat it when they are idle"
        for drive, kinds in bad.items()
    ]
