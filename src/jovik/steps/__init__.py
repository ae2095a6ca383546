"""Step phrases and plans: the one line that is typed, stored, shown and compared.

`parse` reads a phrase, `Step.canonical` spells it one way, and `Step.kind` is what decides whether
two results are of the same sort.
"""

from jovik.steps.access import IoStep
from jovik.steps.others import CopyStep, DiscardStep, FillStep, IdleStep, ScanStep
from jovik.steps.parser import parse, parse_access, parse_all
from jovik.steps.plan import Plan, PlanEntry, load_plan, plan_names
from jovik.steps.step import Step

__all__ = [
    "CopyStep",
    "DiscardStep",
    "FillStep",
    "IdleStep",
    "IoStep",
    "Plan",
    "PlanEntry",
    "ScanStep",
    "Step",
    "load_plan",
    "parse",
    "parse_access",
    "parse_all",
    "plan_names",
]
