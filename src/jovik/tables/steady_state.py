"""Rounds until steady: the window of each step, and the tracked figure."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.comparability import rate_of, settled, steady_step
from jovik.analysis.steady_grid import Grid, grids
from jovik.analysis.step_result import StepResult
from jovik.base.quantities import show_time_or_dash, significant, spell_size
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.tables.table import Table, figure_words, interval_words

MOST_ROWS = 14
"""This many steps are listed one by one. Of more, only the decisive ones."""


def steady_tables(results: Sequence[StepResult]) -> list[Table]:
    """Return the tables of steps that were repeated until steady."""
    steady = [(n, r) for n, r in enumerate(results, 1) if steady_step(r)]
    tables = grid_tables([r for _, r in steady])
    return [*tables, steady_table(steady)] if steady else tables


def steady_table(found: Sequence[tuple[int, StepResult]]) -> Table:
    """Return the window of each step that was repeated until steady, with its number in the run."""
    tracked = {p for _, r in found if r.findings.steady for p in r.findings.steady.tracked}
    alone = all(r.findings.steady and r.findings.steady.tracked == (r.phrase,) for _, r in found)
    shown = list(found)
    if len(found) > MOST_ROWS:
        shown = [(n, r) for n, r in found if r.phrase in tracked or not settled(r)]
    shared = _shared_words([r.step.label for _, r in shown])
    rows = [_row(n, r, shared, mark=not alone and r.phrase in tracked) for n, r in shown]
    columns = ["", "step", "IOPS", "95 % interval", rate_unit(), "latency", "excursion", "slope"]
    return Table(
        "Steady state" + (f" ({shared})" if shared else ""),
        [*columns, "rounds", ""],
        rows,
        right=(0, 2, 3, 4, 5, 6, 7, 8),
        optional_columns=(5, 4),
        notes=_notes(shown, starred=not alone, left=len(found) - len(shown)),
    )


def grid_tables(results: Sequence[StepResult]) -> list[Table]:
    """IOPS by block and mix, of steps that are alike but for those two."""
    return [_grid_table(g) for g in grids(results)]


def _grid_table(grid: Grid) -> Table:
    rows = []
    drive = next(iter(grid.cells.values())).drive
    for block in grid.blocks:
        cells = [grid.cells.get((mix, block)) for mix in grid.mixes]
        name = spell_size(block).replace("B", " B").replace("Ki ", " Ki").replace("Mi ", " Mi")
        rows.append([name, *(_iops(r) for r in cells)])
    halves = [h for r in grid.cells.values() if (h := r.iops.half_width) is not None]
    notes = ["columns: percent of reads; ? not steady"]
    if halves:
        notes.append(f"95 % intervals: +/- {100 * min(halves):.1f} to {100 * max(halves):.1f} %")
    heads = [f"{mix} %" for mix in grid.mixes]
    right = tuple(range(len(heads) + 1))
    return Table(
        f"{drive}: steady IOPS, {grid.label}", ["block", *heads], rows, right=right, notes=notes
    )


def _iops(r: StepResult | None) -> str:
    if r is None or not r.passes:
        return "-"
    return significant(r.iops.median) + ("" if settled(r) else " ?")


def _shared_words(labels: Sequence[str]) -> str:
    """Return the common ending of all labels, from a comma on."""
    endings = [label.split(", ")[1:] for label in labels]
    shared = [part for part in endings[0] if all(part in e for e in endings)] if endings else []
    parts = [p for p in shared if not p.startswith("until steady")]
    return ", ".join(parts) if len(labels) > 1 else ""


def _row(number: int, r: StepResult, shared: str, *, mark: bool) -> list[str]:
    steady = r.findings.steady
    latency = all_latencies_ns(r)
    iops = r.iops
    left_out = {"until steady", "until steady latency", *shared.split(", ")}
    label = ", ".join(p for p in r.step.label.split(", ") if p not in left_out)
    head = [str(number), label + (" *" if mark else "")]
    figures = [
        # To the same place as its interval, or it may come to lie outside.
        figure_words(iops).partition(" (")[0],
        interval_words(iops),
        significant(rate_of(r).median * per_unit()),
        show_time_or_dash(latency["mean"] if latency else None),
    ]
    if steady is None:
        return [*head, *figures, "-", "-", "-", "not finished"]
    last = steady.first + steady.count - 1
    return [
        *head,
        *figures,
        f"{100 * steady.excursion:.1f} %",
        f"{100 * steady.slope:+.1f} %",
        f"{steady.first}-{last} of {steady.rounds}",
        "steady" if steady.steady else "not steady",
    ]


def _notes(found: Sequence[tuple[int, StepResult]], *, starred: bool, left: int) -> list[str]:
    notes = [
        "over the window; excursion: highest minus lowest round (20 % at most), slope: the "
        "rise of the "
        "line through them (10 % at most), as percentages of their mean"
    ]
    if left:
        notes.append(f"{left} more steps of these rounds are in the table above, or --format csv")
    if starred:
        notes.append("* tracked: the rounds ended when these were steady")
    figures = {r.findings.steady.figure for _, r in found if r.findings.steady is not None}
    if figures == {"latency"}:
        notes.append("steady by the mean latency")
    return notes
