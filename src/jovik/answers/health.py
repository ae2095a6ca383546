"""A drive's own health log: the answer of `jovik health`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.analysis.health import HealthReading, readings
from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.health import Health
from jovik.base.plain_data import keyed
from jovik.hardware.device import BlockDevice
from jovik.hardware.health import read_health
from jovik.hardware.target import MODEL, devices_under
from jovik.runs.identification import stuck_sensors
from jovik.shelf.store import Shelf
from jovik.simulator.catalogue import load_model
from jovik.simulator.identity import model_device, model_health
from jovik.tables.health import health_table
from jovik.tables.table import Table


@dataclass(frozen=True)
class HealthAnswer(Answer):
    """A health log, and the meaning of each of its values."""

    schema: ClassVar[str] = "health"

    device: BlockDevice
    log: Health
    readings: tuple[HealthReading, ...]

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        return keyed(self.device, "node", "model") | keyed(self, "readings", health="log")

    def csv(self) -> Csv:
        """Return a row for each value."""
        return csv_of(self.readings, "what", "value", "verdict", "why")

    def tables(self) -> Sequence[Table]:
        """Return each value with its meaning."""
        name = " ".join(x for x in (self.device.maker, self.device.model) if x)
        source = f"from its {self.log.source}, firmware {self.device.firmware or 'unknown'}"
        return [health_table(f"{self.device.node}: {name}", list(self.readings), source)]


def health(target: str, shelf: Shelf | None = None) -> HealthAnswer:
    """Read the health log of a device, of the drive under a folder, or of a model drive.

    Parameters
    ----------
    shelf : Shelf, optional
        A shelf that may know sensors of this sample that do not work.
    """
    if target.startswith(MODEL):
        model = load_model(target.removeprefix(MODEL))
        device, log = model_device(model), model_health(model)
    else:
        device = devices_under(target)[0]
        log = read_health(device.node, device.kind)
    return HealthAnswer(device, log, tuple(readings(log, stuck_sensors(shelf, device.serial))))
