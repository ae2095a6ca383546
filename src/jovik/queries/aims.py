"""References for a running step: the claim, and the usual figure of the class."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.claim_candidates import tests_claim
from jovik.analysis.drive_class import class_of_phrase
from jovik.queries.drive_class import class_of
from jovik.sheets.drive_class import UsualFigure
from jovik.sheets.sheet import Claim, Sheet
from jovik.steps import IoStep, Step


@dataclass(frozen=True)
class Aim:
    """The claim that a step tests, and the usual figure of the class, or None."""

    claim: Claim | None = None
    usual: UsualFigure | None = None
    class_title: str = ""

    def claimed_bytes_s(self, block_bytes: int) -> float | None:
        """Return the claim as a rate, or None for an access time."""
        if self.claim is None or self.claim.unit == "ns":
            return None
        return self.claim.figure * (block_bytes if self.claim.unit == "IOPS" else 1)


def aims_of(sheet: Sheet, steps: Sequence[Step]) -> list[Aim]:
    """Return the references of each of these steps."""
    kind = class_of(sheet.drive)
    aims = []
    for step in steps:
        if not isinstance(step, IoStep) or not step.plain:
            aims.append(Aim())
            continue
        claim = next((c for c in sheet.claims if c.unit != "ns" and tests_claim(step, c)), None)
        what = class_of_phrase(step)
        usual = kind.figure(what) if kind is not None and what is not None else None
        aims.append(Aim(claim, usual, kind.title if kind is not None else ""))
    return aims
