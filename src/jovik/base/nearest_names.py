"""Suggestions for a mistyped name."""

from __future__ import annotations

import difflib
from collections.abc import Sequence

MAX_SUGGESTIONS = 3
MIN_SIMILARITY = 0.5
"""Minimum similarity of two names (`difflib.SequenceMatcher.ratio`)."""


def nearest(name: str, known: Sequence[str], least: float = MIN_SIMILARITY) -> list[str]:
    """Up to three of the known names: those that hold this one, then those that look like it.

    `least` is the similarity from which on two look alike.
    """
    folded = {n.casefold(): n for n in known}
    # A part of a name is how people often say it; what only looks alike comes after.
    parts = [n for n in folded if name.casefold() in n] if name else []
    alike = difflib.get_close_matches(name.casefold(), folded, n=MAX_SUGGESTIONS, cutoff=least)
    return [folded[n] for n in dict.fromkeys(parts + alike)][:MAX_SUGGESTIONS]
