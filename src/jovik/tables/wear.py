"""The cost of a run by the drive's own counters: bytes from the host, and to the medium."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.step_result import StepResult
from jovik.base.findings import Wear
from jovik.base.quantities import show_size, significant
from jovik.steps import parse
from jovik.tables.table import Table


def wear_table(results: Sequence[StepResult]) -> Table:
    """Return a row for each phase: a step, or rounds together.

    Without rows where the drive counts not.
    """
    phases = [
        worn
        for phase in _phases(results)
        if (worn := [(n, r) for n, r in phase if r.findings.wear and r.findings.wear.host_bytes])
    ]
    rows = [_row(row_phase) for row_phase in phases]
    amplified = [row for row in rows if row[3] != "-"]
    if not amplified and not any(r.findings.steady for r in results):
        # What was written to it is in every run's last line.
        rows = []
    return Table(
        "Cost to the drive",
        ["", "phase", "written to it", "by it to its medium", "amplification"]
        if amplified
        else ["", "phase", "written to it"],
        [row if amplified else row[:3] for row in rows],
        right=(2, 3, 4) if amplified else (2,),
        notes=[
            "by the drive's own counters; an endurance rating counts bytes written to it, under "
            "JEDEC's mixed workload (JESD219): if more goes to the medium, it wears sooner"
        ]
        if amplified
        else [],
    )


def _phases(results: Sequence[StepResult]) -> list[list[tuple[int, StepResult]]]:
    """Return steps with their numbers, those that took turns together.

    They have the same tracked steps, follow each other, and no step is among them twice.
    """
    phases: list[list[tuple[int, StepResult]]] = []
    for number, r in enumerate(results, 1):
        before = phases[-1] if phases else []
        steady = r.findings.steady
        theirs = before[-1][1].findings.steady if before else None
        if (
            steady is not None
            and theirs is not None
            and steady.tracked == theirs.tracked
            and all(r.phrase != b.phrase for _, b in before)
        ):
            before.append((number, r))
        else:
            phases.append([(number, r)])
    return phases


def _row(found: Sequence[tuple[int, StepResult]]) -> list[str]:
    worn = [r.findings.wear for _, r in found if r.findings.wear is not None]
    host = sum(w.host_bytes for w in worn)
    known = [w.medium_bytes for w in worn if w.medium_bytes is not None]
    medium = sum(known) if len(known) == len(worn) else None
    whole = Wear(host, medium)
    first, last = found[0][0], found[-1][0]
    steady = found[0][1].findings.steady
    rounds = f", {steady.rounds} rounds" if steady is not None else ""
    name = parse(found[0][1].kind).label if len(found) == 1 else f"{len(found)} steps"
    return [
        str(first) if first == last else f"{first}-{last}",
        name + rounds,
        show_size(host),
        "-" if medium is None else show_size(medium),
        "-" if whole.amplification is None else significant(whole.amplification),
    ]
