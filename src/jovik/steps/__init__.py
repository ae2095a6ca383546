"""Step phrases and plans: the one line that is typed, stored, shown and compared.

`parse` reads a phrase, `Step.canonical` spells it one way, and `Step.kind` decides whether two
results are of the same sort. `registry` lists every sort of step.
"""

from jovik.steps.burst import BurstStep
from jovik.steps.copy import CopyStep
from jovik.steps.empty import EmptyStep
from jovik.steps.fill import FillStep
from jovik.steps.io_step import IoStep
from jovik.steps.parser import parse, parse_access, parse_all
from jovik.steps.plan import Plan, PlanEntry, load_plan, plan_names
from jovik.steps.precondition import PreconditionStep
from jovik.steps.purge import PurgeStep
from jovik.steps.rest import RestStep
from jovik.steps.scan import ScanStep
from jovik.steps.step import Step

__all__ = [
    "BurstStep",
    "CopyStep",
    "EmptyStep",
    "FillStep",
    "IoStep",
    "Plan",
    "PlanEntry",
    "PreconditionStep",
    "PurgeStep",
    "RestStep",
    "ScanStep",
    "Step",
    "load_plan",
    "parse",
    "parse_access",
    "parse_all",
    "plan_names",
]
