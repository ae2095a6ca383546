"""Whether to buy a drive, in one sentence."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.advice import EVERYDAY, MOST_NAMED, Advice, Rule
from jovik.analysis.drive_faults import DriveFault, fault_words
from jovik.analysis.suitability import Suitability
from jovik.base.findings import LostData
from jovik.base.interval import Interval
from jovik.base.quantities import significant
from jovik.queries.advice import Reservations


def advice_sentence(found: Advice, capacity_bytes: int | None = None) -> str:
    """Return the answer with its reason, for somebody who buys one drive in five years."""
    rule, answer = found.rule, str(found.answer).capitalize()
    match rule:
        case Rule.FAULTS:
            return f"{answer}: {fault_sentence(found.faults[0], capacity_bytes)}"
        case Rule.UNKNOWN:
            return f"{answer}: too little was measured"
        case Rule.FAR_BELOW:
            return f"{answer}: {_class_words(found)}"
        case Rule.NO_USE:
            return f"{answer}: it is too slow for all {len(found.bad)} uses"
        case Rule.FAULTY_SAMPLE:
            return f"{answer} you test yours at once: {bad_sample_words(found)}"
        case Rule.SOME_USES:
            bad = [u for u in found.bad if u.load.common <= EVERYDAY]
            return f"{answer} you need it for {_uses(found.good)}, not for {_uses(bad)}"
        case Rule.BELOW:
            return f"{answer} it is cheap: {_class_words(found)}"
    return f"{answer}: {_class_words(found)}, {_enough(found)}"


def fault_sentence(fault: DriveFault, capacity_bytes: int | None = None) -> str:
    """Return what a drive is known for, with its subject."""
    # What a drive holds is a fact about it; an error is one about a test.
    subject = "it" if isinstance(fault, LostData) else "in a test, it"
    return f"{subject} {fault_words(fault, capacity_bytes)}"


def bad_sample_words(found: Advice) -> str:
    """Return how many samples are not right, in words."""
    failed, slow, of = len(found.failed), len(found.slower), len(found.samples)
    words = [f"{failed} of {of} samples failed"] if failed else []
    if slow:
        others = "the other" if of - slow == 1 else "the others"
        count = str(slow) if failed else f"{slow} of {of} samples"
        words.append(f"{count} {'is' if slow == 1 else 'are'} far slower than {others}")
    return " and ".join(words)


def reservation_words(found: Reservations) -> list[str]:
    """Return what limits the trust in all figures of a drive, a line each."""
    words = []
    if found.circumstances:
        words.append(f"measured under conditions that matter: {', '.join(found.circumstances)}")
    if found.few:
        words.append(f"measured in only {found.measured} of {found.counted} steps")
    return words


def compared(ratio: Interval, with_what: str) -> str:
    """Return an index as a ratio in words: ``1.5 times Comet, between 1.0 and 2.3``."""
    words = f"{significant(ratio.median, 2)} times {with_what}"
    if not ratio.known:
        return words
    return f"{words}, between {significant(ratio.least, 2)} and {significant(ratio.most, 2)}"


def _class_words(found: Advice) -> str:
    assert found.index is not None
    index, usual = found.index, f"is usual for a {found.class_title}"
    if index.most < 100:
        low, median, high = (significant(x, 2) for x in (index.least, index.median, index.most))
        reach = f" ({low} to {high})" if index.known else ""
        what = f"the rates that are usual for a {found.class_title}"
        return f"it reaches {median} % of {what}{reach}"
    if index.least <= 100:
        return f"as fast as {usual}"
    return compared(index.scaled(0.01), f"as fast as {usual}")


def _enough(found: Advice) -> str:
    if not found.bad:
        return f"and fast enough for all {len(found.good)} uses that were tested"
    return f"and fast enough for {'everyday uses' if found.everyday else _uses(found.good)}"


def _inside(title: str) -> str:
    """Return a title inside a sentence: HD stays what it is."""
    return title if title[1:2].isupper() else title[:1].lower() + title[1:]


def _uses(uses: Sequence[Suitability]) -> str:
    named = dict.fromkeys(_inside(u.load.title.partition(",")[0]) for u in uses)
    return " and ".join(list(named)[:MOST_NAMED])
