"""Long writes made more than once: whether they fall at the same place."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.statistics import interval
from jovik.base.findings import CliffAgreement, LongWrite
from jovik.base.interval import Interval
from jovik.base.quantities import digits_for, show_size

AGREEING_FRACTION = 0.05
"""Positions that differ by less than this fraction agree, whatever their regions."""


def cliff_agreement(writes: Sequence[LongWrite]) -> CliffAgreement | None:
    """Return the cliffs of several long writes, or None if there are fewer than two writes.

    They agree if each fell and no two regions lie further apart than `AGREEING_FRACTION` of the
    position, or if none fell. The common position is then their median, with Student's interval
    of their logs.
    """
    if len(writes) < 2:
        return None
    cliffs = [w.cliff for w in writes]
    places = tuple(c.at_bytes if c is not None else None for c in cliffs)
    known = [c for c in cliffs if c is not None]
    if not known:
        return CliffAgreement(places, None, agree=True)
    lowest_high, highest_low = min(c.high_bytes for c in known), max(c.low_bytes for c in known)
    agree = len(known) == len(cliffs) and highest_low <= lowest_high * (1 + AGREEING_FRACTION)
    where = interval([float(c.at_bytes) for c in known]) if agree else None
    return CliffAgreement(places, where, agree)


def cliff_agreement_note(found: CliffAgreement) -> str:
    """For a reader."""
    positions = ", ".join(show_size(p) if p is not None else "no cliff" for p in found.places_bytes)
    if not found.agree:
        return f"the cliff of each write: {positions}: they do not agree"
    if found.place_bytes is None:
        return f"none of {len(found.places_bytes)} writes has a cliff"
    at_bytes = found.place_bytes
    return f"the cliff of each write: {positions}: they agree, at {_with_interval(at_bytes)}"


def _with_interval(place: Interval) -> str:
    if place.low is None or place.high is None:
        return show_size(place.median)
    digits = digits_for(place.low, place.high)
    low, high = show_size(place.low, digits), show_size(place.high, digits)
    return f"{show_size(place.median, digits)} ({low} to {high})"
