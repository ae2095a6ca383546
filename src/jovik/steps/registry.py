"""Every sort of step, a row each. An I/O phrase begins with none of their words."""

from __future__ import annotations

from jovik.steps.burst import BurstStep
from jovik.steps.claims import ClaimsStep
from jovik.steps.copy import CopyStep
from jovik.steps.empty import EmptyStep
from jovik.steps.fill import FillStep
from jovik.steps.precondition import PreconditionStep
from jovik.steps.purge import PurgeStep
from jovik.steps.replay import ReplayStep
from jovik.steps.rest import RestStep
from jovik.steps.scan import ScanStep
from jovik.steps.step import Step

STEPS: tuple[type[Step], ...] = (
    ScanStep,
    CopyStep,
    BurstStep,
    FillStep,
    EmptyStep,
    RestStep,
    PurgeStep,
    PreconditionStep,
    ClaimsStep,
    ReplayStep,
)
