"""Temperature sensors of a drive (Documentation/hwmon/sysfs-interface.rst)."""

from __future__ import annotations

import re
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path


@dataclass(frozen=True)
class Sensor:
    """One sensor: its name and the file that holds thousandths of a degree."""

    name: str
    path: Path

    def read_c(self) -> float | None:
        """Return degrees Celsius now, or None if it does not answer."""
        try:
            return int(self.path.read_text()) / 1000
        except (OSError, ValueError):
            return None


def sensors_of(device: str, sys: Path = Path("/sys")) -> list[Sensor]:
    """Return the sensors of a drive by its kernel name, or none if no driver offers any."""
    base = sys / "block" / device / "device"
    sensors = []
    # NVMe puts them below its controller, which is the device's own `device` link or one above;
    # SATA below the disk.
    for folder in (base, base / "device"):
        for hwmon in sorted([*folder.glob("hwmon/hwmon*"), *folder.glob("hwmon[0-9]*")]):
            for entry in sorted(hwmon.glob("temp*_input")):
                label = hwmon / entry.name.replace("_input", "_label")
                try:
                    name = label.read_text().strip().lower()
                except OSError:
                    name = (
                        "drive"
                        if entry.name == "temp1_input"
                        else re.sub(r"temp(\d+)_input", r"sensor \1", entry.name)
                    )
                sensors.append(Sensor(name, entry))
        if sensors:
            break
    return sensors


@dataclass
class TemperatureSampler:
    """Read all sensors once a second in a thread of its own during a pass.

    A context manager.

    `samples` holds (seconds since the start, degrees by sensor).
    """

    sensors: list[Sensor]
    period_s: float = 1.0
    samples: list[tuple[float, dict[str, float]]] = field(default_factory=list)
    _stop: threading.Event = field(default_factory=threading.Event)
    _thread: threading.Thread | None = None

    @property
    def latest_c(self) -> float | None:
        """Return the warmest of the newest readings."""
        return max(self.samples[-1][1].values(), default=None) if self.samples else None

    def __enter__(self) -> TemperatureSampler:
        if self.sensors:
            self._thread = threading.Thread(target=self._go, daemon=True)
            self._thread.start()
        return self

    def __exit__(self, *exc: object) -> None:
        self._stop.set()
        if self._thread is not None:
            # A sensor of a drive that hangs may hang too; it must not hold the run.
            self._thread.join(0.5)

    def _go(self) -> None:
        began = time.monotonic()
        while True:
            values = {s.name: v for s in self.sensors if (v := s.read_c()) is not None}
            self.samples.append((time.monotonic() - began, values))
            if self._stop.wait(self.period_s):
                values = {s.name: v for s in self.sensors if (v := s.read_c()) is not None}
                self.samples.append((time.monotonic() - began, values))
                return
