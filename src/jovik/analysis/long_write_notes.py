"""The findings of a long write in sentences."""

from __future__ import annotations

import math
from itertools import pairwise

from jovik.analysis.level_cuts import MATERIAL_CHANGE
from jovik.analysis.long_write import SEEN_SHARE
from jovik.analysis.steady_state import decay_words
from jovik.base.findings import Level, LongWrite, NotSustained, RateDrop, Shape
from jovik.base.quantities import show_rate, show_size, show_time, significant

MOST_TOLD = 3
"""This many falls are listed one by one. The others are summarised."""


def _shown(found: LongWrite, value: float, ios: bool) -> str:
    return f"{significant(value / found.block_bytes)} IOPS" if ios else show_rate(value)


def fall_note(found: LongWrite, fall: RateDrop, *, ios: bool = False) -> str:
    """Return one fall for a reader."""
    if fall is found.cliff:
        name = "the cliff"
    elif found.cliff is not None and fall.at_bytes > found.cliff.at_bytes:
        name = "it falls again"
    else:
        name = "a small fall"
    near = (fall.high_bytes - fall.low_bytes) / 2
    best = fall.best_bytes_s
    from_best = (
        f" (its best level was {_shown(found, best, ios)})"
        if fall is found.cliff
        and best is not None
        and best > fall.before_bytes_s * (1 + MATERIAL_CHANGE)
        else ""
    )
    return (
        f"{name}: after {show_size(fall.at_bytes)} (within {show_size(near)}) and "
        f"{show_time(fall.at_s * 1e9)} it falls from "
        f"{_shown(found, fall.before_bytes_s, ios)} to {_shown(found, fall.after_bytes_s, ios)}"
        f"{from_best}"
    )


def fall_notes(found: LongWrite, *, ios: bool = False) -> list[str]:
    """Falls, slopes and saw-teeth for a reader, in the order in which they came."""
    sentences: list[tuple[float, str]] = [
        (f.at_s, fall_note(found, f, ios=ios)) for f in found.falls[:MOST_TOLD]
    ]
    more = found.falls[MOST_TOLD:]
    if more:
        last = more[-1]
        sentences.append(
            (
                more[0].at_s,
                f"{len(more)} more {'fall' if len(more) == 1 else 'falls'}, the last after "
                f"{show_size(last.at_bytes)} to {_shown(found, last.after_bytes_s, ios)}",
            )
        )
    sentences += [
        (p.start_s, words) for p in found.parts if (words := shape_note(found, p, ios=ios))
    ]
    return [words for _, words in sorted(sentences, key=lambda x: x[0])]


def shape_note(found: LongWrite, part: Level, *, ios: bool = False) -> str:
    """Return a slope or a saw-tooth in words, or an empty string for a level."""
    if part.from_bytes_s is None or part.to_bytes_s is None:
        return ""
    one, two = _shown(found, part.from_bytes_s, ios), _shown(found, part.to_bytes_s, ios)
    if part.shape is Shape.ALTERNATING and part.period_s is not None:
        return (
            f"alternates between {one} and {two} every {show_time(part.period_s * 1e9)}, "
            f"mean {_shown(found, part.rate_bytes_s.median, ios)}"
            + (f", from {show_size(part.start_bytes)} on" if part.start_bytes else "")
        )
    word = "declines" if part.to_bytes_s < part.from_bytes_s else "rises"
    start = show_size(part.start_bytes) if part.start_bytes else "0"
    return f"{word} from {one} to {two} between {start} and {show_size(part.end_bytes)}"


def long_write_notes(found: LongWrite, *, ios: bool = False) -> list[str]:
    """Return the notes on a write over an amount."""
    notes = fall_notes(found, ios=ios)
    if found.cliff is None:
        notes.append(_no_cliff(found))
    notes += _rises(found, ios)
    steady = found.steady_bytes
    if steady is None or found.steady_from_s is None:
        notes.append("not steady at its end (SNIA test): a longer write may show more")
    elif len(found.parts) > 1 or found.parts[-1].shape is Shape.ALTERNATING:
        notes.append(
            f"steady from {show_time(found.steady_from_s * 1e9)} on (SNIA test), mean "
            f"{_shown(found, steady.median, ios)}"
            + (
                ", too short for a sustained figure"
                if found.sustained is NotSustained.SHORT
                else ""
            )
        )
    if found.decay is not None:
        level = found.decay.level
        words = _shown(found, level, ios) if level is not None else ""
        notes.append(decay_words(found.decay, words))
    return notes


def _no_cliff(found: LongWrite) -> str:
    evidence = (
        f"a step down by {math.ceil(100 * found.would_see)} % or more that lasted "
        f"{show_size(SEEN_SHARE * found.total_bytes)} would have been seen"
    )
    head = found.would_see_head_s
    if head:
        evidence += f", and a write cache that lasted {show_time(head * 1e9)}"
    slope = found.slope
    if slope is not None:
        return f"no cliff, but a decline: {evidence}"
    return f"no cliff within {show_size(found.total_bytes)}: {evidence}"


def _rises(found: LongWrite, ios: bool) -> list[str]:
    """Return a slow start, and a recovery after a fall.

    A rise before any fall is no recovery.
    """
    fallen = min((f.at_s for f in found.falls), default=math.inf)
    fallen = min(
        [fallen, *(p.end_s for p in found.parts if p.shape is Shape.SLOPE and _declines(p))]
    )
    notes = []
    levels = [p for p in found.parts if p.shape is not Shape.SLOPE]
    for one, two in pairwise(levels):
        if two.rate_bytes_s.median <= one.rate_bytes_s.median * (1 + MATERIAL_CHANGE):
            continue
        reached = _shown(found, two.rate_bytes_s.median, ios)
        if two.start_s <= fallen:
            notes.append(
                f"it starts slowly: {_shown(found, one.rate_bytes_s.median, ios)}, and "
                f"{reached} after {show_time(two.start_s * 1e9)}"
            )
        else:
            notes.append(f"it recovers after {show_size(two.start_bytes)} to {reached}")
        break
    return notes


def _declines(part: Level) -> bool:
    return (part.to_bytes_s or 0.0) < (part.from_bytes_s or 0.0)
