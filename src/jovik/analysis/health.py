"""A drive's health log: each figure with a plain word, and the changes during a run."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from jovik.base.health import Health
from jovik.base.quantities import show_size, show_time

FINE, LOOK, PLAIN = "OK", "warning", ""


@dataclass(frozen=True)
class HealthReading:
    """One figure of the log in words: its name, its value, and whether it needs attention."""

    what: str
    value: str
    verdict: str = PLAIN
    why: str = ""


def _count(what: str, value: int | None, why: str) -> HealthReading | None:
    if value is None:
        return None
    return HealthReading(
        what, f"{value:,}", FINE if value == 0 else LOOK, "" if value == 0 else why
    )


def readings(health: Health, stuck: Collection[str] = ()) -> list[HealthReading]:
    """Return every figure the log holds, with its reading.

    `stuck` are temperature sensors of this sample that never moved in an earlier run.
    """
    values: list[HealthReading | None] = [
        HealthReading("warning", w, LOOK, "reported by the drive itself") for w in health.warnings
    ]
    used = health.percentage_used
    if used is not None:
        why = (
            "beyond its rated endurance"
            if used > 100
            else "most of its rated endurance is used up"
            if used >= 80
            else ""
        )
        values.append(
            HealthReading("rated endurance used", f"{used} %", LOOK if why else FINE, why)
        )
    spare, least = health.spare_percent, health.spare_threshold_percent
    if spare is not None:
        low = least is not None and spare < least
        values.append(
            HealthReading(
                "spare capacity",
                f"{spare} %",
                LOOK if low else FINE,
                f"below its threshold of {least} %" if low else "",
            )
        )
    values += [
        _count("media errors", health.media_errors, "at least one read failed"),
        _count(
            "reallocated sectors",
            health.reallocated_sectors,
            "the drive has replaced bad sectors: check whether the number grows",
        ),
        _count(
            "pending sectors",
            health.pending_sectors,
            "sectors that could not be read and wait to be replaced",
        ),
        _count(
            "link errors",
            health.interface_errors,
            "transfers that had to be repeated: suspect the cable, port or enclosure",
        ),
    ]
    values += [
        HealthReading(f"temperature, {name}", f"{value:.0f} °C", PLAIN, STUCK)
        if name in stuck
        else _temperature(name, value, health)
        for name, value in health.temperatures_c.items()
    ]
    if health.throttled_s is not None:
        seconds = health.throttled_s
        why = "" if not seconds else "it has slowed itself down for heat"
        values.append(
            HealthReading(
                "time throttled",
                show_time(seconds * 1e9) if seconds else "none",
                LOOK if seconds else FINE,
                why,
            )
        )
    if health.unsafe_shutdowns is not None:
        values.append(HealthReading("unsafe shutdowns", f"{health.unsafe_shutdowns:,}"))
    if health.hours is not None:
        values.append(HealthReading("powered on", f"{health.hours:,} h"))
    if health.power_cycles is not None:
        values.append(HealthReading("power cycles", f"{health.power_cycles:,}"))
    for what, amount in (
        ("host reads", health.host_read_bytes),
        ("host writes", health.host_written_bytes),
    ):
        if amount is not None:
            values.append(HealthReading(what, show_size(amount)))
    return [f for f in values if f is not None]


STUCK = "ignored: the sensor never moved in an earlier run"


def _temperature(name: str, value: float, health: Health) -> HealthReading:
    shown = f"{value:.0f} °C"
    if not PLAUSIBLE_C[0] <= value <= PLAUSIBLE_C[1]:
        return HealthReading(
            f"temperature, {name}",
            shown,
            LOOK,
            "no drive is that warm or cold: the sensor is not to be believed",
        )
    if health.critical_c is not None and value >= health.critical_c:
        return HealthReading(
            f"temperature, {name}",
            shown,
            LOOK,
            f"at or above its critical limit of {health.critical_c:.0f} °C",
        )
    if health.warning_c is not None and value >= health.warning_c:
        return HealthReading(
            f"temperature, {name}",
            shown,
            LOOK,
            f"at or above its limit of {health.warning_c:.0f} °C",
        )
    return HealthReading(
        f"temperature, {name}", shown, FINE if health.warning_c is not None else PLAIN
    )


PLAUSIBLE_C = (-40.0, 130.0)
"""The plausible range of a drive's sensor.

The storage range of drives at the low end, the melting of its solder far off at the high.
"""

COUNTER_UNITS = (
    512,
    1_000,
    1_024,
    4_096,
    512_000,
    1_000_000,
    2**20,
    32 * 10**6,
    32 * 2**20,
    10**9,
    2**30,
)
"""Bytes that makers count host writes in."""


def counter_note(before: Health, after: Health, written_bytes: int) -> str:
    """Compare the drive's host write counter with the bytes of the run; empty if they agree.

    A counter that moves in coarse steps agrees when it is off by no more than two steps of 1 GB or
    5 %.
    """
    if (
        before.host_written_bytes is None
        or after.host_written_bytes is None
        or written_bytes < 4 * 10**9
    ):
        return ""
    counted = after.host_written_bytes - before.host_written_bytes
    if counted <= 0:
        return (
            "the drive's counter of host writes did not move while "
            f"{show_size(written_bytes)} were written"
        )
    if abs(counted - written_bytes) <= max(0.05 * written_bytes, 2e9):
        return ""
    ratio = written_bytes / counted
    factors = [a / b for a in COUNTER_UNITS for b in (512, 512_000) if a != b]
    near = min(factors, key=lambda f: abs(f / ratio - 1))
    off_by = f"; its unit is off by a factor of {near:g}" if abs(near / ratio - 1) < 0.1 else ""
    return (
        f"the drive counted {show_size(counted)} of host writes for "
        f"{show_size(written_bytes)} written{off_by}"
    )


def changes(before: Health, after: Health) -> list[str]:
    """Return the deteriorations between two readings of the log, in words."""
    changed = []
    for what, a, b in (
        ("media errors", before.media_errors, after.media_errors),
        ("reallocated sectors", before.reallocated_sectors, after.reallocated_sectors),
        ("pending sectors", before.pending_sectors, after.pending_sectors),
        ("link errors", before.interface_errors, after.interface_errors),
    ):
        if a is not None and b is not None and b > a:
            changed.append(f"{b - a} new {what}")
    if (
        before.throttled_s is not None
        and after.throttled_s is not None
        and after.throttled_s > before.throttled_s
    ):
        changed.append(
            f"it slowed itself down for heat for {after.throttled_s - before.throttled_s} s"
        )
    changed += [f"new warning: {w}" for w in after.warnings if w not in before.warnings]
    return changed
