"""Differences between a sheet and its edited form."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.base.errors import UnknownNameError, UsageError
from jovik.sheets.drive_facts import DRIVE_FACTS
from jovik.sheets.sheet import Claim, Drive, Sheet


@dataclass(frozen=True)
class Change:
    """One change: the value before and after, or None if there was or is none."""

    what: str
    before: str | None
    after: str | None

    @property
    def words(self) -> str:
        """``price: 89 EUR, was 99 EUR``."""
        if self.after is None:
            return f"{self.what}: removed, was {self.before}"
        was = f", was {self.before}" if self.before is not None else ""
        return f"{self.what}: {self.after}{was}"


def differences(before: Sheet, after: Sheet) -> list[Change]:
    """Return everything that differs, the drive first, then its claims."""
    return [*_of_drive(before.drive, after.drive), *_of_claims(before.claims, after.claims)]


def _of_drive(before: Drive, after: Drive) -> list[Change]:
    spellings = [("name", before.name, after.name)]
    spellings += [(f.key, f.shown(before), f.shown(after)) for f in DRIVE_FACTS]
    return [Change(what, old or None, new or None) for what, old, new in spellings if old != new]


def _of_claims(before: Sequence[Claim], after: Sequence[Claim]) -> list[Change]:
    gone = [c for c in before if c not in after]
    changes = []
    for new in (c for c in after if c not in before):
        old = next((c for c in gone if same_claim(c, new)), None)
        if old is not None:
            gone.remove(old)
        changes.append(Change(_claim_name(new), _figure(old) if old else None, _figure(new)))
    return [*changes, *(Change(_claim_name(c), _figure(c), None) for c in gone)]


def _claim_name(claim: Claim) -> str:
    return f"claim {claim.label}" + (f" ({claim.printed})" if claim.printed else "")


def _figure(claim: Claim) -> str:
    return f"{'up to ' if claim.up_to else ''}{claim.shown()}"


def same_claim(one: Claim, other: Claim) -> bool:
    """Return True if two claims are of the same thing from the same place."""
    return (one.what, one.sustained, one.steady, one.printed.casefold()) == (
        other.what,
        other.sustained,
        other.steady,
        other.printed.casefold(),
    )


def with_claim(sheet: Sheet, claim: Claim) -> Sheet:
    """Return the sheet with a claim in the place of the same one, or at the end."""
    claims = list(sheet.claims)
    at = next((n for n, c in enumerate(claims) if same_claim(c, claim)), None)
    if at is None:
        claims.append(claim)
    else:
        claims[at] = claim
    return Sheet(sheet.drive, tuple(claims))


def without_claim(sheet: Sheet, what: str, printed: str | None = None) -> Sheet:
    """Return the sheet without the claim about `what`, in the words of a phrase.

    Parameters
    ----------
    printed : str, optional
        Where it says so; needed where several places do.

    Raises
    ------
    UnknownNameError
        There is no such claim.
    UsageError
        There are several.
    """
    wanted = " ".join(what.split()).casefold()
    names = [
        c.what + (" sustained" if c.sustained else "") + (" steady state" if c.steady else "")
        for c in sheet.claims
    ]
    fitting = [
        c
        for c, name in zip(sheet.claims, names, strict=True)
        if wanted in (name.casefold(), c.label.casefold())
        and (printed is None or c.printed.casefold() == printed.casefold())
    ]
    if not fitting:
        raise UnknownNameError("claim", what, names)
    if len(fitting) > 1:
        places = ", ".join(f"'{c.printed}'" for c in fitting)
        raise UsageError(
            f"{len(fitting)} claims of {sheet.drive.name} are about {what}: printed in {places}",
            "say which with --printed",
        )
    return Sheet(sheet.drive, tuple(c for c in sheet.claims if c is not fitting[0]))
