"""Steady state by the test of the SNIA Solid State Storage Performance Test Specification.

Over a window of rounds, no round lies more than 20 % of the window's mean away from any other, and
the line fitted through them rises or falls by no more than 10 % of the mean.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from jovik.base.findings import Decay, SteadyState
from jovik.base.quantities import show_rate

STEADY_WINDOW = 5
STEADY_RANGE = 0.20
STEADY_SLOPE = 0.10


def excursion(rounds: Sequence[float]) -> float:
    """Highest less lowest round, as a share of their mean."""
    mean = float(np.mean(rounds))
    return (max(rounds) - min(rounds)) / mean if mean > 0 else math.inf


def slope(rounds: Sequence[float]) -> float:
    """Return the rise of the fitted line over all rounds, as a fraction of their mean."""
    mean = float(np.mean(rounds))
    if mean <= 0 or len(rounds) < 2:
        return math.inf if mean <= 0 else 0.0
    fitted = float(np.polyfit(np.arange(len(rounds)), np.asarray(rounds, dtype=np.float64), 1)[0])
    return fitted * (len(rounds) - 1) / mean


def is_steady(rounds: Sequence[float]) -> bool:
    """Return True if one window of rounds is steady."""
    return excursion(rounds) <= STEADY_RANGE and abs(slope(rounds)) <= STEADY_SLOPE


def last_window(rounds: Sequence[float]) -> Sequence[float]:
    """Return the last rounds that make a window, or all of them if there are fewer."""
    return rounds[-STEADY_WINDOW:]


def steady_notes(found: SteadyState) -> list[str]:
    """Return the notes on rounds that were to become steady."""
    rounds = f"{found.rounds} round{'s' if found.rounds != 1 else ''}"
    if found.steady:
        return _decay_notes(found)
    short = " (at least five are needed)" if found.rounds < STEADY_WINDOW else ""
    return [
        f"not steady after {rounds}{short}: no sustained figure, and it settles no claim "
        f"(over the last {found.count}: excursion {100 * found.excursion:.0f} %, slope "
        f"{100 * found.slope:+.0f} %)"
    ]


def _decay_notes(found: SteadyState) -> list[str]:
    """Return the note on rounds that pass the test and still fall."""
    if found.decay is None:
        return []
    level = found.decay.level
    return [decay_words(found.decay, show_rate(level) if level is not None else "")]


def decay_words(found: Decay, level: str) -> str:
    """Return the note on a rate that is steady by the rule and still falls.

    `level` is the level that it approaches, in words, or empty if there is none in sight.
    """
    towards = f", towards about {level}" if level else ", and no level is in sight"
    return f"steady by the rule, but still falling: by {100 * found.fall:.0f} % meanwhile{towards}"


def steady_from(rounds: Sequence[float]) -> int | None:
    """Return the first round from which on all rounds to the end pass the test as one window.

    Looking at windows of five one after the other would let a rate creep away by a little in each.
    None if even the last five do not pass.
    """
    for first in range(len(rounds) - STEADY_WINDOW + 1):
        if is_steady(rounds[first:]):
            return first
    return None
