"""Settle the verdicts that are too close to call, by measuring (`jovik judge --settle`)."""

from __future__ import annotations

import click

from jovik.analysis.claims import Verdict
from jovik.cli.run_flow import run_order
from jovik.queries.claims import ClaimsReport, even_from_the_start
from jovik.runs import request_for_undecided
from jovik.runs.request import SETTLING_WRITE_NS
from jovik.shelf.store import Shelf


def settle(shelf: Shelf, found: ClaimsReport, target: str) -> bool:
    """Repeat steps that are too close to call. Return True if there were any."""
    request = request_for_undecided(
        found.verdicts,
        target,
        found.margin,
        lambda j: even_from_the_start(shelf, j, SETTLING_WRITE_NS),
    )
    if request is None:
        click.echo(_nothing_to_settle(found), err=True)
        return False
    run_order(shelf, found.sheet, request, "table")
    return True


def _nothing_to_settle(found: ClaimsReport) -> str:
    """Why no pass is made: nothing is open, or nothing that more passes could settle."""
    undecided = [j.claim.what for j in found.verdicts if j.verdict is Verdict.CLOSE]
    if not undecided:
        return "no claim is too close to call"
    return f"more passes cannot settle {', '.join(undecided)}: see the reason and the remedy below"
