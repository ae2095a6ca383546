"""Real work against the advertised speed: streams, copies and programs."""

from __future__ import annotations

from dataclasses import dataclass

from jovik.analysis.real_work import WorkShare, work_shares
from jovik.base.errors import UsageError
from jovik.queries.evidence import evidence
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class RealWork:
    """A drive's percentages of its advertised speed."""

    drive: str
    shares: tuple[WorkShare, ...]


def real_work(shelf: Shelf, name: str) -> RealWork:
    """Return streams, copies and recorded programs as fractions of the claimed rate.

    Raises
    ------
    UnknownNameError
        There is no such drive.
    UsageError
        The box says no sequential rate, or nothing that could be compared with it was measured.
    """
    sheet = shelf.sheets.get(name)
    drive = sheet.drive.name
    if not any(not c.random and c.unit == "bytes/s" for c in sheet.claims):
        raise UsageError(
            f"{drive} has no claims about sequential rates",
            f'write it down: jovik sheet claim "{drive}" "sequential read" FIGURE',
        )
    shares = work_shares(sheet.claims, evidence(shelf, drive).results)
    if not shares:
        raise UsageError(
            f"no stream, copy or program of {drive} was measured",
            f'measure some: jovik measure TARGET --drive "{drive}" \'replay "editor-start"\'',
        )
    return RealWork(drive, tuple(shares))
