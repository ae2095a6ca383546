"""Step phrases and plans: the one line that is typed, stored, shown and compared.

`parse` reads a phrase, `Step.canonical` spells it one way, and `Step.kind` is what decides whether two results
are of the same sort.
"""

from jovik.phrase.parser import parse
from jovik.phrase.plan import Plan, load_plan, plan_names
from jovik.phrase.step import Step

__all__ = ["Plan", "Step", "load_plan", "parse", "plan_names"]
