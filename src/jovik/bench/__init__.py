"""Runs a plan on a session: passes, when to stop repeating, what it costs, what goes to the shelf."""

from jovik.bench.cost import Cost, cost_of
from jovik.bench.repeat import Repeat
from jovik.bench.run import Observer, RunOptions, Setting, Sink, run_plan

__all__ = ["Cost", "Observer", "Repeat", "RunOptions", "Setting", "Sink", "cost_of", "run_plan"]
