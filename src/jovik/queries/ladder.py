"""Which results a picture of one kind is of."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.ladder import Ladder, ladders_in
from jovik.analysis.step_result import StepResult
from jovik.shelf.store import Shelf


def ladders_of(shelf: Shelf, latest: Sequence[StepResult]) -> list[Ladder]:
    """Return every ladder among a drive's newest runs.

    Rungs stay together, where the newest of each kind alone would tear them apart.

    Parameters
    ----------
    latest : sequence of StepResult
        The drive's newest results, ladders included.
    """
    ladders: dict[tuple[str, str], Ladder] = {}
    # Of the same ladder made twice the newer one counts; runs are named by when they began.
    for key in sorted(dict.fromkeys(r.run for r in latest)):
        counted = shelf.results.of_run(key, counted=True)
        results = [r for r in counted if r.conditions.filled_percent is None]
        ladders |= {(c.axis, c.label): c for c in ladders_in(results)}
    return list(ladders.values())
