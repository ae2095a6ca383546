"""Runs a plan on a session: passes, rests, fills, copies, when to stop repeating, what it costs, what goes to the shelf."""

from jovik.bench.context import Bench, Done, Observer, RunOptions, Setting, Sink
from jovik.bench.cost import ASSUMED_BYTES_S, Cost, cost_of, time_of
from jovik.bench.repeat import Repeat
from jovik.bench.run import check_plan, run_plan
from jovik.bench.task import Task, tasks_of, trim

__all__ = [
    "ASSUMED_BYTES_S", "Bench", "Cost", "Done", "Observer", "Repeat", "RunOptions", "Setting", "Sink", "Task", "check_plan", "cost_of", "run_plan",
    "tasks_of", "time_of", "trim",
]  # fmt: skip
