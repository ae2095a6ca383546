"""Steady results that differ in block and mix only: a surface of I/Os a second."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.step_result import StepResult
from jovik.steps import IoStep, parse

FEWEST_CELLS = 6
"""Fewer are read as easily one below the other."""


@dataclass(frozen=True)
class Grid:
    """One surface.

    Attributes
    ----------
    label : str
        The common parts of its steps.
    mixes : tuple of int
        Percent of reads, most first.
    blocks : tuple of int
        Bytes, small ones first.
    cells : mapping from (mix, block) to StepResult
    """

    label: str
    mixes: tuple[int, ...]
    blocks: tuple[int, ...]
    cells: dict[tuple[int, int], StepResult]


def grids(results: Sequence[StepResult]) -> list[Grid]:
    """Return every surface of several mixes and blocks, each from one run.

    What a drive went through before decides what it does in use: cells of several runs make no
    surface. Of runs that give the same surface, that with most cells counts, of like ones the last.
    """
    by_run: dict[tuple[IoStep, str], dict[tuple[int, int], StepResult]] = {}
    for r in results:
        step = parse(r.kind)
        if isinstance(step, IoStep) and step.steady:
            rest = replace(step, read_percent=50, block_bytes=4096)
            by_run.setdefault((rest, r.run), {})[step.read_percent, step.block_bytes] = r
    largest: dict[IoStep, dict[tuple[int, int], StepResult]] = {}
    for (rest, _), cells in by_run.items():
        if len(cells) >= len(largest.get(rest, {})):
            largest[rest] = cells
    grids = []
    for rest, cells in largest.items():
        mixes = tuple(sorted({m for m, _ in cells}, reverse=True))
        blocks = tuple(sorted({b for _, b in cells}))
        if len(mixes) > 1 and len(blocks) > 1 and len(cells) >= FEWEST_CELLS:
            words = [p for p in rest.label.split(", ")[2:] if not p.startswith("until steady")]
            order = "random" if rest.random else "sequential"
            grids.append(Grid(", ".join([order, *words]), mixes, blocks, cells))
    return grids
