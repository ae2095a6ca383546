"""Runs on the shelf: begun, resumed, and read back with their passes."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from jovik.base.circumstances import Circumstance
from jovik.base.errors import ShelfError, UnknownNameError, UsageError
from jovik.base.trace import Trace
from jovik.hardware.rig import Rig
from jovik.shelf.records import DamagedRecord, check_run, read_circumstances, read_rig
from jovik.shelf.results import naming, of_drive, order_of, traces
from jovik.shelf.schema import drive, one_pass, rig, run, step
from jovik.shelf.sheets import drive_row
from jovik.shelf.spool import spool_name
from jovik.shelf.writer import RunWriter, insert_if_absent, next_arrival, utc_now

_RUNS = (
    sa.select(run, drive.c.name.label("drive"), rig.c.name.label("rig"))
    .join(drive, run.c.drive_id == drive.c.id)
    .join(rig)
)


@dataclass(frozen=True)
class RunRecord:
    """A run as the shelf holds it.

    `imported` names the archive that it came in, None if it was measured with this shelf;
    `excluded` is why it counts for nothing, None if it counts.
    """

    id: str
    drive: str
    rig: str
    target: dict[str, Any]
    plan: str
    seed: int
    started: str
    ended: str | None
    state: str
    laid_out_bytes: int
    device: dict[str, Any] | None
    health_before: dict[str, Any] | None
    health_after: dict[str, Any] | None
    notes: list[str] | None
    options: dict[str, Any]
    unit_id: int | None
    version: str
    imported: str | None = None
    excluded: str | None = None
    circumstances: tuple[Circumstance, ...] = ()


def _record(row: sa.RowMapping) -> RunRecord:
    check_run(row)
    values = {f: row[f] for f in RunRecord.__dataclass_fields__}
    return RunRecord(**(values | {"circumstances": read_circumstances(row["circumstances"])}))


@dataclass(frozen=True)
class RunFigures:
    """The figures of a run: measured steps, passes, their written bytes, and its sample."""

    steps: int
    passes: int
    written_bytes: int
    errors: int
    sample: str | None
    firmware: str | None
    excluded_steps: int = 0


@dataclass(frozen=True)
class StoredPass:
    """A pass of a run: its step's position from 0, its number from 1, and its trace.

    `whole` is True if its step is finished.
    """

    position: int
    number: int
    whole: bool
    trace: Trace


class Runs:
    """The runs of an open shelf, and the rigs that they were made on."""

    def __init__(self, engine: sa.Engine, writing: sa.Engine, where: str) -> None:
        self._engine, self._writing, self._where = engine, writing, where

    def begin(
        self,
        name: str,
        here: Rig,
        target: dict[str, Any],
        plan: str,
        seed: int,
        options: dict[str, Any],
        version: str,
        *,
        sample_id: int | None = None,
        device: dict[str, Any] | None = None,
        excluded: str | None = None,
        circumstances: list[dict[str, Any]] | None = None,
    ) -> RunWriter:
        """Open a run, and return the writer that takes its passes."""
        started = utc_now()
        day, clock = started[:10].replace("-", ""), started[11:19].replace(":", "")
        key = f"{day}-{clock}-{secrets.token_hex(3)}"
        with self._writing.begin() as c:
            insert_if_absent(c, rig, {"name": here.name, "facts": here.facts, "notes": here.notes})
            rig_key = c.execute(sa.select(rig.c.id).where(rig.c.name == here.name)).scalar_one()
            c.execute(
                rig.update()
                .where(rig.c.id == rig_key)
                .values(facts=here.facts, **({"notes": here.notes} if here.notes else {}))
            )
            c.execute(
                run.insert().values(
                    id=key,
                    drive_id=drive_row(c, name)["id"],
                    rig_id=rig_key,
                    target=target,
                    plan=plan,
                    seed=seed,
                    options=options,
                    started=started,
                    state="running",
                    laid_out_bytes=0,
                    version=version,
                    unit_id=sample_id,
                    device=device,
                    arrival=next_arrival(),
                    excluded=excluded,
                    circumstances=circumstances,
                )
            )
        return RunWriter(self._writing, spool_name(self._where), key)

    def resume(self, key: str, options: dict[str, Any]) -> RunWriter:
        """Open a run again that was not finished.

        What it gives back takes the passes that are left.
        """
        with self._writing.begin() as c:
            c.execute(
                run.update()
                .where(run.c.id == key)
                .values(state="running", ended=None, options=options)
            )
            laid_out = c.execute(
                sa.select(run.c.laid_out_bytes).where(run.c.id == key)
            ).scalar_one()
        return RunWriter(self._writing, spool_name(self._where), key, laid_out)

    def get(self, key: str) -> RunRecord:
        """Return one run.

        Raises
        ------
        UnknownNameError
            There is none of that name.
        ShelfError
            It is damaged.
        """
        with self._engine.connect() as c:
            row = c.execute(_RUNS.where(run.c.id == key)).mappings().first()
            if row is None:
                raise UnknownNameError("run", key, c.execute(sa.select(run.c.id)).scalars())
        try:
            return _record(row)
        except DamagedRecord as error:
            raise ShelfError(f"run {key} is damaged: {error}", "see jovik shelf check") from None

    def every(self, name: str | None = None) -> list[RunRecord]:
        """Return every run of a drive (or of all), oldest first.

        What is damaged is left out and named.
        """
        order = order_of(self._engine)
        records = []
        with self._engine.connect() as c:
            query = _RUNS.where(of_drive(name)).order_by(order, run.c.id)
            for row in c.execute(query).mappings():
                with contextlib.suppress(DamagedRecord), naming(f"run {row['id']}"):
                    records.append(_record(row))
        return records

    def figures(self, name: str | None = None) -> dict[str, RunFigures]:
        """Return the figures of each run of a drive, or of all.

        Runs without a pass are not among them.
        """
        query = (
            sa.select(
                step.c.run_id,
                sa.func.count(sa.distinct(step.c.id)).label("steps"),
                sa.func.count(one_pass.c.id).label("passes"),
                sa.func.sum(one_pass.c.written_bytes).label("written_bytes"),
                sa.func.sum(one_pass.c.errors).label("errors"),
                sa.func.count(
                    sa.distinct(sa.case((step.c.excluded.is_not(None), step.c.id)))
                ).label("excluded_steps"),
                sa.func.max(step.c.conditions["unit"].as_string()).label("unit"),
                sa.func.max(step.c.conditions["firmware"].as_string()).label("firmware"),
            )
            .join(one_pass, one_pass.c.step_id == step.c.id)
            .join(run, step.c.run_id == run.c.id)
            .join(drive, run.c.drive_id == drive.c.id)
            .where(of_drive(name))
            .group_by(step.c.run_id)
        )
        with self._engine.connect() as c:
            return {
                row["run_id"]: RunFigures(
                    row["steps"],
                    row["passes"],
                    int(row["written_bytes"] or 0),
                    int(row["errors"] or 0),
                    row["unit"],
                    row["firmware"],
                    row["excluded_steps"],
                )
                for row in c.execute(query).mappings()
            }

    def named(self, begun: str) -> str:
        """Return the run whose name begins or ends like that, or that has this name.

        Raises
        ------
        UsageError
            Several do.
        UnknownNameError
            None does.
        """
        with self._engine.connect() as c:
            keys = list(c.execute(sa.select(run.c.id).order_by(run.c.id)).scalars())
        if begun in keys:
            return begun
        fitting = [k for k in keys if k.startswith(begun) or k.endswith(begun)] if begun else []
        if len(fitting) == 1:
            return str(fitting[0])
        if fitting:
            shown = ", ".join(fitting[:3]) + (
                f" and {len(fitting) - 3} more" if fitting[3:] else ""
            )
            raise UsageError(f"'{begun}' may be {shown}", "write more of it; see jovik runs")
        raise UnknownNameError("run", begun, keys)

    def circumstances(self, keys: Sequence[str]) -> dict[str, tuple[Circumstance, ...]]:
        """Return the circumstances that mattered when each of these runs began."""
        query = sa.select(run.c.id, run.c.circumstances).where(
            run.c.id.in_(keys), run.c.circumstances.is_not(None)
        )
        by_run: dict[str, tuple[Circumstance, ...]] = {}
        with self._engine.connect() as c:
            for key, stored in c.execute(query):
                with contextlib.suppress(DamagedRecord):
                    mattered = tuple(x for x in read_circumstances(stored) if x.matters)
                    by_run |= {key: mattered} if mattered else {}
        return by_run

    def latest(self, states: Sequence[str] = ()) -> str | None:
        """Return the run that was begun last, of these states where any are named."""
        order = order_of(self._engine)
        query = sa.select(run.c.id).order_by(order.desc(), run.c.id.desc()).limit(1)
        if states:
            query = query.where(run.c.state.in_(states))
        with self._engine.connect() as c:
            return c.execute(query).scalar()

    def passes(self, key: str) -> Iterator[StoredPass]:
        """Yield the passes of a run in order, one at a time."""
        for row, trace in traces(self._engine, step.c.run_id == key):
            yield StoredPass(row["position"], row["number"], bool(row["whole"]), trace)

    def traces(self, key: str, phrase: str) -> list[Trace]:
        """Return the passes of every step of a run that has this phrase, with their series."""
        where = sa.and_(step.c.run_id == key, step.c.phrase == phrase, step.c.excluded.is_(None))
        return [trace for _, trace in traces(self._engine, where)]

    def rig(self, name: str) -> Rig:
        """Return a machine that drives were measured on.

        Raises
        ------
        UnknownNameError
            There is none of that name.
        """
        with self._engine.connect() as c:
            row = c.execute(sa.select(rig).where(rig.c.name == name)).mappings().first()
            if row is None:
                raise UnknownNameError("rig", name, c.execute(sa.select(rig.c.name)).scalars())
        try:
            with naming(f"the rig '{name}'"):
                return read_rig({k: row[k] for k in ("name", "facts", "notes")})
        except DamagedRecord:
            return Rig(name, {})
