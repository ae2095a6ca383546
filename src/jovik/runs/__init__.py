"""Runs from an order to the shelf.

The request, its cost, and carrying it out.
"""

from jovik.runs.enrolment import EnrolledBy, Enrolment, sheet_for
from jovik.runs.open_session import open_session
from jovik.runs.prepare import PreparedRun, fit_budget, prepared
from jovik.runs.request import (
    RunRequest,
    request_for,
    request_for_undecided,
    request_from_run,
    resume_request,
)
from jovik.runs.run_lifecycle import RunOutcome, StartedRun, execute, start_run

__all__ = [
    "EnrolledBy",
    "Enrolment",
    "PreparedRun",
    "RunOutcome",
    "RunRequest",
    "StartedRun",
    "execute",
    "fit_budget",
    "open_session",
    "prepared",
    "request_for",
    "request_for_undecided",
    "request_from_run",
    "resume_request",
    "sheet_for",
    "start_run",
]
