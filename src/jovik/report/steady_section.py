"""The steady state in a review: the surface of mixes and blocks, its rounds, saturation, demand."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from jovik.analysis.comparability import settled, steady_step
from jovik.analysis.steady_grid import grids
from jovik.analysis.step_result import StepResult
from jovik.base.errors import UsageError
from jovik.charts.steady_state import demand_chart, mixes_chart, rounds_chart, saturation_chart
from jovik.queries.steady_state import demand_of, rounds_of, saturation_of
from jovik.report.document import Block, Paragraph, Picture, Section
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf
from jovik.tables.steady_answers import steady_answers
from jovik.tables.steady_state import steady_tables
from jovik.tables.wear import wear_table

T = TypeVar("T")


def steady_section(
    shelf: Shelf,
    drive: str,
    runs: Sequence[tuple[RunRecord, tuple[StepResult, ...]]],
    results: Sequence[StepResult],
) -> Section:
    """Return the results of a drive in use, or nothing if it was not measured until steady."""
    steady = [r for r in results if steady_step(r)]
    blocks: list[Block] = [Paragraph(line) for _, of_run in runs for line in steady_answers(of_run)]
    if steady:
        count = sum(settled(r) for r in steady)
        blocks.append(
            Paragraph(
                f"{count} of {len(steady)} steps were steady, by the test of the SNIA "
                "specification: the highest and the lowest of five rounds are within 20 % of their "
                "mean, and the rounds rise or fall by no more than 10 %. A short test of a "
                "fresh drive "
                "shows higher figures. The two are never mixed."
            )
        )
        every = [r for _, found in reversed(runs) for r in found]
        for number, grid in enumerate(grids(every), 1):
            blocks.append(Picture(f"mixes-{number}", mixes_chart(grid)))
        rounds = _known(lambda: rounds_of(shelf, drive))
        if rounds:
            blocks.append(Picture("rounds", rounds_chart(rounds)))
    saturation = _known(lambda: saturation_of(shelf, drive))
    if saturation:
        blocks.append(Picture("saturation", saturation_chart([saturation])))
    demand = _known(lambda: demand_of(shelf, drive))
    if demand:
        blocks.append(Picture("demand", demand_chart(demand)))
    for _, found in runs:
        blocks += steady_tables(found)
        worn = wear_table(found)
        blocks += [worn] if worn.rows else []
    return Section("steady", "Once it is in use", tuple(blocks))


def _known(ask: Callable[[], T]) -> T | None:
    """Return the result of a query, or None if the drive was not measured for it."""
    try:
        return ask()
    except UsageError:
        return None
