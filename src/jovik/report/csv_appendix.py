"""The raw figures of a review: every pass of every step, to be taken along."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields

from jovik.analysis.step_result import PassFigures, StepResult
from jovik.base.terminal_text import csv_text, file_name
from jovik.report.document import CsvAttachment
from jovik.shelf.runs import RunRecord

HEADER = (
    "run",
    "started",
    "drive",
    "unit",
    "rig",
    "link",
    "engine",
    "direct",
    "filled_percent",
    "phrase",
    "pass",
)


def raw_figures(
    drive: str, runs: Sequence[tuple[RunRecord, tuple[StepResult, ...]]]
) -> CsvAttachment:
    """Return one line for each pass: rates in bytes a second, times in nanoseconds."""
    names = [f.name for f in fields(PassFigures)]
    rows = []
    for run, results in runs:
        for r in results:
            c = r.conditions
            shared = (
                run.id,
                r.started,
                drive,
                c.sample,
                c.rig,
                c.link,
                c.engine,
                c.direct,
                c.filled_percent,
                r.phrase,
            )
            rows += [
                (*shared, number, *(getattr(p, n) for n in names))
                for number, p in enumerate(r.passes, 1)
            ]
    what = f"{len(rows)} passes, one a line: rates in bytes a second, times in nanoseconds"
    return CsvAttachment(f"{file_name(drive)}.csv", csv_text((*HEADER, *names), rows), what)
