"""Carry out `jovik health`."""

from __future__ import annotations

from dataclasses import asdict

from jovik.analysis.health import readings
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table
from jovik.hardware.health import read_health
from jovik.hardware.target import MODEL, devices_under
from jovik.simulator.catalogue import load_model
from jovik.simulator.identity import model_device, model_health
from jovik.tables.health import health_table


def health(target: str, form: str) -> None:
    """Read the health log of the drive that TARGET is or lies on: a device, or a folder."""
    if target.startswith(MODEL):
        model = load_model(target.removeprefix(MODEL))
        device, log = model_device(model), model_health(model)
    else:
        device = devices_under(target)[0]
        log = read_health(device.node, device.kind)
    found = readings(log)
    if form == "json":
        emit_json(
            {
                "node": device.node,
                "model": device.model,
                "health": asdict(log),
                "readings": [asdict(r) for r in found],
            },
            "health",
        )
    elif form == "csv":
        emit_csv(
            ["what", "value", "verdict", "why"],
            [(r.what, r.value, r.verdict, r.why) for r in found],
        )
    else:
        name = " ".join(x for x in (device.maker, device.model) if x)
        show_table(
            health_table(
                f"{device.node}: {name}",
                found,
                f"from its {log.source}, firmware {device.firmware or 'unknown'}",
            )
        )
