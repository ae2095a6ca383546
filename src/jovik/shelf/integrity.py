"""Keeping a shelf: whether it is whole, and a copy of it while others write."""

from __future__ import annotations

from dataclasses import dataclass

import sqlalchemy as sa

from jovik.base.errors import PhraseError
from jovik.shelf.encoding import step_fault, unpack, unpack_latencies
from jovik.shelf.schema import drive, one_pass, run, step
from jovik.steps import parse


@dataclass(frozen=True)
class IntegrityReport:
    """How many records of each sort a shelf holds, and what is not right with it, in words."""

    counts: dict[str, int]
    faults: tuple[str, ...]


def check(engine: sa.Engine) -> IntegrityReport:
    """Look at a whole shelf.

    What the database says of itself, and every phrase, series and histogram.
    """
    faults: list[str] = []
    with engine.connect() as c:
        if engine.dialect.name == "sqlite":
            faults += [
                f"the database: {row[0]}"
                for row in c.exec_driver_sql("PRAGMA integrity_check")
                if row[0] != "ok"
            ]
            faults += [
                f"{row[0]} {row[1]} refers to a {row[2]} that is not there"
                for row in c.exec_driver_sql("PRAGMA foreign_key_check")
            ]
        counts = {
            f"{t.name}{'es' if t.name == 'pass' else 's'}": c.execute(
                sa.select(sa.func.count()).select_from(t)
            ).scalar_one()
            for t in (drive, run, step, one_pass)
        }
        for row in c.execute(
            sa.select(
                step.c.run_id,
                step.c.position,
                step.c.phrase,
                step.c.kind,
                step.c.conditions,
                step.c.limits,
                step.c.facts,
            )
        ).mappings():
            if fault := step_fault(dict(row)):
                at = f"run {row['run_id']}, step {row['position'] + 1}"
                faults.append(f"{at}: its findings cannot be read ({fault})")
            try:
                if parse(row["phrase"]).kind != row["kind"]:
                    faults.append(
                        f"run {row['run_id']}, step {row['position'] + 1}: '{row['phrase']}' is "
                        f"not of the kind '{row['kind']}'"
                    )
            except PhraseError as error:
                faults.append(f"run {row['run_id']}, step {row['position'] + 1}: {error.message}")
        query = sa.select(one_pass, step.c.run_id, step.c.position).join(
            step, one_pass.c.step_id == step.c.id
        )
        for row in c.execution_options(yield_per=500).execute(query).mappings():
            at = f"run {row['run_id']}, step {row['position'] + 1}, pass {row['number']}"
            try:
                slices, latencies = (
                    unpack(row["slices"])["slices"],
                    unpack_latencies(row["latencies"]),
                )
            except Exception as error:  # whatever NumPy and zlib call it
                faults.append(f"{at}: its series cannot be read ({error})")
                continue
            if slices.ndim != 2 or any(one.total < 0 for one in latencies.values()):
                faults.append(f"{at}: its series are none")
    return IntegrityReport(counts, tuple(faults))
