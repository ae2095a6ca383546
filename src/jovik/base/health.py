"""A drive's health log, from any protocol."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Health:
    """A drive's own health log. None for values that it does not report.

    Temperatures are in degrees Celsius by the sensor's name; `throttled_s` is all time it slowed
    itself down for heat. `medium_written_bytes` is what the drive wrote to its own medium.
    """

    source: str
    temperatures_c: dict[str, float] = field(default_factory=dict)
    warning_c: float | None = None
    critical_c: float | None = None
    percentage_used: int | None = None
    spare_percent: int | None = None
    spare_threshold_percent: int | None = None
    hours: int | None = None
    power_cycles: int | None = None
    unsafe_shutdowns: int | None = None
    media_errors: int | None = None
    reallocated_sectors: int | None = None
    pending_sectors: int | None = None
    interface_errors: int | None = None
    host_read_bytes: int | None = None
    host_written_bytes: int | None = None
    medium_written_bytes: int | None = None
    throttled_s: int | None = None
    warnings: tuple[str, ...] = ()
