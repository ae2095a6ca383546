"""A run's writes to the shelf, as entries that may be repeated without effect.

An entry is a transaction. It holds column values only, so that it can wait in a file
(`jovik.shelf.spool`) while a server cannot be reached.
"""

from __future__ import annotations

import base64
import json
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from jovik.shelf.schema import one_pass, run, step


@dataclass(frozen=True)
class JournalEntry:
    """One change of a run: `sort` is ``step`` (begun), ``pass``, ``done`` (a step) or ``run``.

    `values` are columns.
    """

    sort: str
    values: dict[str, Any]
    position: int = 0

    def as_line(self) -> str:
        """Return the entry as a line of JSON. Bytes are base64 under ``bytes``."""
        return json.dumps(
            {"sort": self.sort, "position": self.position, "values": self.values},
            default=_bytes,
            allow_nan=False,
        )

    @classmethod
    def from_line(cls, line: str) -> JournalEntry:
        """Return the entry that `as_line` wrote.

        Raises
        ------
        ValueError
            The line is none.
        """
        entry = json.loads(
            line, object_hook=lambda d: base64.b64decode(d["bytes"]) if set(d) == {"bytes"} else d
        )
        if not isinstance(entry, dict) or set(entry) != {"sort", "position", "values"}:
            raise ValueError("no entry of a run")
        return cls(entry["sort"], entry["values"], entry["position"])


def _bytes(value: object) -> dict[str, str]:
    if not isinstance(value, bytes):
        raise TypeError(f"{type(value).__name__} is no column value")
    return {"bytes": base64.b64encode(value).decode()}


def make(c: sa.Connection, key: str, entry: JournalEntry) -> None:
    """Write an entry of the run `key`. Repeating it changes nothing."""
    step_id = sa.select(step.c.id).where(step.c.run_id == key, step.c.position == entry.position)
    match entry.sort:
        case "step":
            # Of a run that is resumed it may be there already, and keeps the conditions of its
            # first pass.
            if c.execute(step_id).first() is None:
                c.execute(
                    step.insert().values(entry.values | {"run_id": key, "position": entry.position})
                )
        case "pass":
            step_key = c.execute(step_id).scalar_one()
            # A step that is made whole or not at all, such as a scan, is made again when a run was
            # killed between its pass and its end.
            c.execute(
                one_pass.delete().where(
                    one_pass.c.step_id == step_key, one_pass.c.number == entry.values["number"]
                )
            )
            c.execute(one_pass.insert().values(entry.values | {"step_id": step_key}))
        case "done":
            c.execute(
                step.update()
                .where(step.c.run_id == key, step.c.position == entry.position)
                .values(entry.values)
            )
        case "run":
            c.execute(run.update().where(run.c.id == key).values(entry.values))
        case _:
            raise ValueError(f"no sort of entry: {entry.sort}")
