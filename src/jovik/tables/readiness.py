"""Attached drives and their obstacles: as documented, and as a table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from jovik.analysis.health import STUCK
from jovik.analysis.temperature import plausible_temperatures
from jovik.base.quantities import show_rate, show_size, significant
from jovik.hardware.mounts import Mount
from jovik.queries.readiness import DriveReadiness
from jovik.runs.identification import serial_hash, serial_tail
from jovik.tables.sheets import medium_word
from jovik.tables.table import Table


def readiness_json(found: DriveReadiness, *, serials: bool = False) -> dict[str, Any]:
    """Return one drive as documented, with its full serial only on request."""
    device, temperatures = found.device, found.temperatures_c
    link = device.link
    return {
        "node": device.node,
        "kind": device.kind,
        "maker": device.maker,
        "model": device.model,
        "serial": device.serial if serials else serial_tail(device.serial),
        "serial_hash": serial_hash(device.serial) if device.serial else None,
        "firmware": device.firmware,
        "capacity_bytes": device.capacity_bytes,
        "medium": device.medium,
        "rpm": device.rpm,
        "logical_block_bytes": device.logical_block_bytes,
        "physical_block_bytes": device.physical_block_bytes,
        "write_cache": device.write_cache,
        "scheduler": device.scheduler,
        "read_only": device.read_only,
        "link": None
        if link is None
        else {
            "kind": link.kind,
            "now": link.now,
            "best": link.best or None,
            "rate_bytes_s": link.rate_bytes_s,
            "best_rate_bytes_s": link.best_rate_bytes_s,
        },
        "temperature_c": max(
            plausible_temperatures(temperatures, found.stuck_sensors).values(), default=None
        ),
        "temperatures_c": temperatures,
        "stuck_sensors": sorted(found.stuck_sensors),
        "partitions": [
            {
                "name": p.name,
                "capacity_bytes": p.capacity_bytes,
                "mounts": [_mount(m) for m in p.mounts],
            }
            for p in device.partitions
        ],
        "mounts": [_mount(m) for m in device.mounts],
        "obstacles": [asdict(o) for o in found.obstacles],
        "circumstances": [asdict(c) for c in found.circumstances],
    }


def _mount(mount: Mount) -> dict[str, Any]:
    return {
        "point": mount.point,
        "file_system": mount.kind,
        "fill_percent": mount.fill_percent(),
        "read_only": mount.read_only,
    }


def readiness_table(rows: Sequence[dict[str, Any]]) -> Table:
    """Return every drive, with its mounts and obstacles below."""
    shown: list[tuple[str, ...]] = []
    below: list[str] = []
    for r in rows:
        link = r["link"]
        rate = (
            f", at most {show_rate(link['rate_bytes_s'])}" if link and link["rate_bytes_s"] else ""
        )
        size = f"{show_size(r['capacity_bytes'])} ({significant(r['capacity_bytes'] / 2**30)} GiB)"
        medium = medium_word(r["medium"]) + (f", {r['rpm']} rpm" if r["rpm"] else "")
        heat = f"{r['temperature_c']:.0f} °C" if r["temperature_c"] is not None else "-"
        name = " ".join(x for x in (r["maker"], r["model"]) if x) or "-"
        name = f"image {name}" if r["kind"] == "loop" else name
        shown.append(
            (
                r["node"],
                r["kind"],
                name,
                r["serial"] or "-",
                r["firmware"] or "-",
                size,
                medium or "-",
                (link["now"] + rate) if link else "-",
                heat,
            )
        )
        below += _below(r)
    return Table(
        "Drives here",
        [
            "device",
            "kind",
            "drive",
            "serial",
            "firmware",
            "capacity",
            "medium",
            "link",
            "temperature",
        ],
        shown,
        right=(5, 8),
        optional_columns=(4, 6, 1, 3, 7),
        notes=below or ["none found"],
    )


def _below(r: dict[str, Any]) -> list[str]:
    """Return a drive's mounts, blocks, obstacles and further facts, a line each."""
    below = [r["node"]]
    for part in [
        {"name": "", "mounts": r["mounts"], "capacity_bytes": r["capacity_bytes"]},
        *r["partitions"],
    ]:
        for m in part["mounts"]:
            fill = f", {m['fill_percent']:.0f} % full" if m["fill_percent"] is not None else ""
            below.append(
                f"  {'/dev/' + part['name'] if part['name'] else 'whole'}: "
                f"{m['file_system']} at {m['point']}{fill}"
            )
    blocks = (
        f"  blocks {r['logical_block_bytes']} B logical, {r['physical_block_bytes']} B physical"
    )
    below.append(
        f"{blocks}; write cache: {r['write_cache'] or 'unknown'}; scheduler: "
        f"{r['scheduler'] or 'none'}"
    )
    below += [
        f"  temperature, {n}, {c:.0f} °C: {STUCK}"
        for n, c in r["temperatures_c"].items()
        if n in r["stuck_sensors"]
    ]
    below += [f"  {o['what']}: {o['why']}" for o in r["obstacles"]]
    below += [
        f"  {c['value']}" + (f": {c['effect']}" if c["effect"] else "")
        for c in r["circumstances"]
        if c["matters"]
    ]
    return below
