"""Simulated readings of a meter beside a model drive during a run on the shelf."""

from __future__ import annotations

import io

from jovik.base.errors import UsageError
from jovik.queries.temperature import run_passes
from jovik.shelf.store import Shelf
from jovik.simulator import load_model
from jovik.simulator.meters import METER_UNITS, MeteredPass, metered
from jovik.steps import IoStep, parse


def meter_table(shelf: Shelf, run: str, quantity: str) -> str:
    """Return a log as CSV: seconds, and values in the unit of `METER_UNITS`.

    Raises
    ------
    UsageError
        The run was on a real drive, has no passes, or its model drive does not say.
    """
    about = shelf.runs.get(run)
    if about.target.get("kind") != "model":
        raise UsageError(
            f"run {run} was on a real drive", "put a real meter beside it: jovik note DRIVE --log"
        )
    model = load_model(str(about.target["name"]))
    phrases = {p["position"]: str(p["phrase"]) for p in shelf.results.passes(key=run)}
    passes = [
        MeteredPass(p.start_s, p.trace, _goes_about(phrases[p.step - 1]))
        for p in run_passes(shelf, run)
    ]
    if not passes:
        raise UsageError(f"run {run} has no passes")
    seconds, values = metered(model.behaviour, quantity, passes, seed=about.seed)
    text = io.StringIO()
    text.write(f"seconds,{METER_UNITS[quantity]}\n")
    for s, v in zip(seconds, values, strict=True):
        text.write(f"{s:.2f},{v:.3f}\n")
    return text.getvalue()


def _goes_about(phrase: str) -> bool:
    """Return True if a step goes from place to place."""
    step = parse(phrase)
    return not isinstance(step, IoStep) or step.random
