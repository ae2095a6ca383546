"""Which results of the shelf a chart is of."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from jovik.analysis.step_result import StepResult
from jovik.base.errors import UsageError
from jovik.charts.canvas import MOST_DRIVES
from jovik.queries.evidence import evidence
from jovik.shelf.store import Shelf
from jovik.steps import parse


def results_of_each(
    shelf: Shelf,
    drives: Sequence[str],
    fits: Callable[[StepResult], bool],
    what: str,
    phrase: str,
    **options: Any,
) -> list[list[StepResult]]:
    """Return the fitting results of each drive.

    Raises
    ------
    UsageError
        There are too many drives, or one has no such result. The hint names a `phrase` for it.
    """
    refuse_too_many(drives)
    by_drive = []
    for drive in drives:
        name = shelf.sheets.get(drive).drive.name
        results = [r for r in evidence(shelf, name, **options).results if fits(r)]
        if not results:
            raise UsageError(
                f"{name} has no {what}",
                f'measure one: jovik measure TARGET --drive "{name}" "{phrase}"',
            )
        by_drive.append(results)
    return by_drive


def refuse_too_many(drives: Sequence[str]) -> None:
    """Raise a UsageError if there are more drives than distinguishable lines."""
    if len(drives) > MOST_DRIVES:
        raise UsageError(
            f"{len(drives)} drives are too many for one picture",
            f"name {MOST_DRIVES} at most",
        )


def same_kind(
    found: Sequence[Sequence[StepResult]], wanted: str | None, what: str
) -> list[StepResult]:
    """Return one result of each drive, all of the wanted kind, else of the first that all have.

    Raises
    ------
    UsageError
        There is no such kind.
    """
    kinds = [
        r.kind for r in found[0] if all(any(o.kind == r.kind for o in other) for other in found)
    ]
    kind = parse(wanted).kind if wanted is not None else (kinds[0] if kinds else None)
    if kind is None or kind not in kinds:
        has = sorted({r.kind for results in found for r in results})
        these = "this drive has" if len(found) == 1 else "all of these drives have"
        raise UsageError(
            f"there is no {what} that {these} with that phrase",
            f"there is: {'; '.join(has[:5])}",
        )
    return [next(r for r in results if r.kind == kind) for results in found]
