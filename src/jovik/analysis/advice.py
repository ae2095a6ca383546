"""Whether to buy a drive: one answer, by stated rules over findings.

The rules are in the order of `Rule`, and the first that applies decides. docs/review.md states them
for readers. No rule reads a sentence.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from jovik.analysis.drive_faults import DriveFault
from jovik.analysis.suitability import Suitability
from jovik.base.findings import LostData
from jovik.base.interval import Interval

EVERYDAY = 4
"""Loads up to this place among uses are those of nearly every buyer."""
ENOUGH = 1.3
"""A drive is good for a load from this headroom on; below it there is no room for anything else."""
FAR_BELOW, BELOW = 50.0, 90.0
"""A class index that surely lies below these, where 100 is usual for the class."""
LEAST_FIGURES = 3
"""So many of the usual figures of its class have to be measured for an answer, with an interval."""
MOST_NAMED = 2
"""Uses that an answer names."""


class Answer(StrEnum):
    """The answer."""

    BUY = "buy"
    IF = "buy if"
    AVOID = "avoid"
    OPEN = "no answer yet"


class Rule(StrEnum):
    """Rules in their order."""

    FAULTS = "it lost data, failed or disconnected"
    UNKNOWN = "too little was measured"
    FAR_BELOW = "far below what is usual for its class"
    NO_USE = "it can sustain none of the uses"
    FAULTY_SAMPLE = "one of several samples is not right"
    SOME_USES = "it can sustain some everyday uses and not others"
    BELOW = "below what is usual for its class"
    GOOD = "as fast as usual for its class or faster"


ANSWERS = {
    Rule.FAULTS: Answer.AVOID,
    Rule.UNKNOWN: Answer.OPEN,
    Rule.FAR_BELOW: Answer.AVOID,
    Rule.NO_USE: Answer.AVOID,
    Rule.FAULTY_SAMPLE: Answer.IF,
    Rule.SOME_USES: Answer.IF,
    Rule.BELOW: Answer.IF,
    Rule.GOOD: Answer.BUY,
}


@dataclass(frozen=True)
class Advice:
    """The answer about a drive, with the findings that its reason is made of.

    Attributes
    ----------
    rule : Rule
        The rule that decided.
    faults : tuple of DriveFault
        Faults of all samples.
    samples, failed, slower : tuple of str
        The samples that were measured, those with faults, and others that are far below the rest.
    index : Interval or None
        Of its class, where 100 is usual.
    class_title : str
        The class, empty if it is unknown.
    good, bad : tuple of Suitability
        Uses that it is good for and those that it cannot sustain, the commonest first.
    everyday : bool
        It is good for every everyday use; false if one is unknown.
    """

    rule: Rule
    faults: tuple[DriveFault, ...] = ()
    samples: tuple[str, ...] = ()
    failed: tuple[str, ...] = ()
    slower: tuple[str, ...] = ()
    index: Interval | None = None
    class_title: str = ""
    good: tuple[Suitability, ...] = ()
    bad: tuple[Suitability, ...] = ()
    everyday: bool = False

    @property
    def answer(self) -> Answer:
        """Return the answer."""
        return ANSWERS[self.rule]

    @property
    def bad_samples(self) -> tuple[str, ...]:
        """Return the samples that are not right."""
        return (*self.failed, *self.slower)


def advice(
    faults: Mapping[str, Sequence[DriveFault]],
    slower: Sequence[str],
    index: Interval | None,
    figures: int,
    class_title: str,
    uses: Sequence[Suitability],
) -> Advice:
    """Return the answer about a drive.

    Parameters
    ----------
    faults : mapping of sample to sequence of DriveFault
        Of every measured sample, empty for those without any.
    slower : sequence of str
        Samples that are far below the others.
    index : Interval, optional
        Of its class.
    figures : int
        Figures that the index is made of.
    uses : sequence of Suitability
        How the loads fit the drive.
    """
    ordered = sorted((u for u in uses if u.headroom is not None), key=lambda u: u.load.common)
    failed = tuple(s for s in faults if faults[s])
    slow = tuple(s for s in faults if s in slower and s not in failed)
    every = tuple(dict.fromkeys(f for found in faults.values() for f in found))
    good = tuple(u for u in ordered if u.carried and (u.headroom or 0) >= ENOUGH)
    bad = tuple(u for u in ordered if not u.carried)
    everyday = [u for u in ordered if u.load.common <= EVERYDAY]
    known = index is not None and index.known and figures >= LEAST_FIGURES and bool(everyday)
    minority = 2 * len(failed) < len(faults)

    def applies(rule: Rule) -> bool:
        match rule:
            case Rule.FAULTS:
                # A drive that holds less than it says is a fake, and no sample is unlucky.
                return bool(every) and (not minority or any(_is_fake(f) for f in every))
            case Rule.UNKNOWN:
                return not known
            case Rule.FAR_BELOW:
                return index is not None and index.below(FAR_BELOW)
            case Rule.NO_USE:
                return not good
            case Rule.FAULTY_SAMPLE:
                return bool(failed or slow)
            case Rule.SOME_USES:
                return any(not u.carried for u in everyday)
            case Rule.BELOW:
                return index is not None and index.below(BELOW)
        return True

    decided = next(rule for rule in Rule if applies(rule))
    usual = all(u in good for u in uses if u.load.common <= EVERYDAY)
    samples = tuple(faults), failed, slow
    return Advice(decided, every, *samples, index, class_title, good, bad, usual)


def _is_fake(fault: DriveFault) -> bool:
    return isinstance(fault, LostData) and fault.holds_bytes is not None
