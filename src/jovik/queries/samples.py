"""Are the samples of a drive alike, and as drives of their class are?"""

from __future__ import annotations

from dataclasses import dataclass

from jovik.analysis.claims import Verdict, judge_claims
from jovik.analysis.samples import ClassLink, SampleFigure, SuspectSample, side_by_side, suspects
from jovik.hardware.link import named_link
from jovik.queries.evidence import evidence, of_each_sample
from jovik.sheets.sheet import Drive, Sheet
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class SampleComparison:
    """The samples of a drive compared step by step, and the suspect ones."""

    drive: str
    figures: tuple[SampleFigure, ...]
    suspects: tuple[SuspectSample, ...]

    @property
    def samples(self) -> list[str]:
        """Return names of the samples, in the order in which they were met."""
        return sorted({f.sample for f in self.figures})


def samples(shelf: Shelf, sheet: Sheet) -> SampleComparison:
    """Lay the samples of a drive side by side, each as the best of its rigs showed it.

    No figures where none was measured.
    """
    drive = sheet.drive
    every = evidence(shelf, drive.name)
    effect = every.effect
    results = of_each_sample(every.candidates, effect)
    peers = {
        n for n, other in shelf.sheets.drives().items() if n != drive.name and _alike(other, drive)
    }
    of_class = [r for r in evidence(shelf).results if r.drive in peers] if peers else []
    named = named_link(drive.interface)
    link = (
        ClassLink(named[0].now, named[0].rate_bytes_s, named[1])
        if named is not None and named[0].rate_bytes_s is not None
        else None
    )
    figures = side_by_side(
        results, of_class, link, solid="solid" in drive.medium.casefold(), effect=effect
    )
    short: list[tuple[str, str]] = []
    for sample in dict.fromkeys(f.sample for f in figures):
        own = [f.result for f in figures if f.sample == sample]
        short += [
            (sample, j.step.kind)
            for j in judge_claims(sheet.claims, own)
            if j.verdict is Verdict.SHORT and j.step is not None
        ]
    order = list(dict.fromkeys(f.kind for f in figures))
    return SampleComparison(
        drive.name,
        tuple(sorted(figures, key=lambda f: order.index(f.kind))),
        tuple(suspects(figures, short)),
    )


def _alike(one: Drive, two: Drive) -> bool:
    """Of one class: the same interface and medium."""
    return bool(one.interface) and (one.interface, one.medium) == (two.interface, two.medium)
