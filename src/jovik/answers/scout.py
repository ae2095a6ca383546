"""Attached drives and the obstacles to testing them: the answer of `jovik scout`."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

from jovik.answers.answer import Answer, Csv
from jovik.base.errors import JovikError
from jovik.hardware.block_trace import left_on
from jovik.hardware.target import MODEL, devices_under, mount_under
from jovik.queries.readiness import (
    DriveReadiness,
    claims_of_model,
    readiness_of,
    readiness_of_model,
)
from jovik.runs.identification import stuck_sensors, system_drive
from jovik.sheets.sheet import Claim
from jovik.shelf.store import Shelf
from jovik.tables.circumstances import circumstances_table
from jovik.tables.readiness import readiness_json, readiness_table
from jovik.tables.table import Table

COLUMNS = (
    *("node", "kind", "maker", "model", "serial", "firmware", "capacity_bytes", "medium", "link"),
    "temperature_c",
)


@dataclass(frozen=True)
class ScoutAnswer(Answer):
    """Drives with their obstacles.

    `serials` shows serial numbers in full, `everything` all circumstances.
    """

    schema: ClassVar[str] = "drives-here"

    drives: tuple[DriveReadiness, ...]
    tracing_left_on: int = 0
    serials: bool = False
    everything: bool = False

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        return {"drives": self._rows(), "tracing_left_on": self.tracing_left_on}

    def csv(self) -> Csv:
        """Return a row for each drive."""
        rows = [r | {"link": r["link"]["now"] if r["link"] else None} for r in self._rows()]
        return Csv(COLUMNS, [[r[k] for k in COLUMNS] for r in rows])

    def tables(self) -> Sequence[Table]:
        """Return the drives, and the circumstances of each on request."""
        tables = [readiness_table(self._rows())]
        if self.everything:
            tables += [
                circumstances_table(d.circumstances, f"Circumstances of {d.device.node}")
                for d in self.drives
            ]
        return tables

    def notes(self) -> Sequence[str]:
        """Return a note on recordings that ended without switching kernel tracing off."""
        count = self.tracing_left_on
        if not count:
            return ()
        return [
            f"kernel tracing is still on: {count} {'recording' if count == 1 else 'recordings'} "
            "ended without switching it off. The next 'jovik record' does so."
        ]

    def _rows(self) -> list[dict[str, Any]]:
        return [readiness_json(d, serials=self.serials) for d in self.drives]


def scout(
    shelf: Shelf | None,
    target: str | None = None,
    *,
    serials: bool = False,
    everything: bool = False,
) -> ScoutAnswer:
    """List attached drives, or the one under a target, and what would prevent testing them.

    Parameters
    ----------
    shelf : Shelf or None
        A shelf whose claims are compared with the links, and which may know stuck sensors.

    Raises
    ------
    TargetError
        No drive can be identified under a folder.

    Examples
    --------
    >>> all(d.device.capacity_bytes > 0 for d in jovik.scout(shelf).drives)
    True
    """
    if target is not None and target.startswith(MODEL):
        one = readiness_of_model(target.removeprefix(MODEL), [])
        drives = [replace(one, stuck_sensors=stuck_sensors(shelf, one.device.serial))]
    else:
        system, mount = system_drive(), mount_under(target)
        drives = [
            readiness_of(d, _claims(shelf, d.model), system, mount, stuck_sensors(shelf, d.serial))
            for d in devices_under(target)
        ]
    return ScoutAnswer(tuple(drives), left_on(), serials, everything)


def _claims(shelf: Shelf | None, model: str) -> list[Claim]:
    """Return the claims of a model, or none if the shelf cannot be read."""
    with contextlib.suppress(JovikError):
        if shelf is not None:
            return claims_of_model(shelf, model)
    return []
