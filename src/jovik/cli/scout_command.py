"""`jovik scout`: which drives are here, and what stands in the way of testing each."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.options import format_option, shelf_option
from jovik.runs.environment import serial_hash, serial_tail, system_drive

if TYPE_CHECKING:
    from jovik.analysis.readiness import Obstacle
    from jovik.hardware.device import BlockDevice


@click.command()
@click.argument("target", required=False)
@click.option(
    "--serials", is_flag=True, help="Show serials in full; otherwise only their last characters."
)
@format_option()
@shelf_option
def scout(target: str | None, serials: bool, form: str, shelf_at: str | None) -> None:
    """Show every drive here, or the one under TARGET.

    What it is, what it hangs on, and what stands in the way.

    TARGET is a device, or a folder: then the drive under it is shown.

    \b
    jovik scout
    jovik scout /mnt/new
    """
    from jovik.cli.output import emit_csv, emit_json

    system = system_drive()
    rows = [_facts(d, system, serials, shelf_at) for d in devices_of(target)]
    if form == "json":
        emit_json({"drives": rows})
    elif form == "csv":
        keys = [
            "node",
            "kind",
            "maker",
            "model",
            "serial",
            "firmware",
            "capacity_bytes",
            "medium",
            "link",
            "temperature_c",
        ]
        emit_csv(
            keys,
            [[r["link"]["now"] if k == "link" and r["link"] else r[k] for k in keys] for r in rows],
        )
    else:
        _show(rows)


def devices_of(target: str | None) -> list[BlockDevice]:
    """All drives, or the one that a target is or lies on."""
    from jovik.base.errors import TargetError, UsageError
    from jovik.hardware.device import devices, under_folder
    from jovik.hardware.target import DeviceTarget, FolderTarget, resolve

    if target is None:
        return devices()
    place = resolve(target)
    if isinstance(place, DeviceTarget):
        return [place.device]
    if isinstance(place, FolderTarget):
        device, mount = under_folder(place.path)
        if device is None:
            raise TargetError(
                f"no drive can be told under {target}",
                f"it is on {mount.kind} ({mount.source})" if mount else "",
            )
        return [device]
    raise UsageError("a model drive hangs on nothing", "jovik sheet show tells what it is")


def _facts(
    device: BlockDevice, system: str | None, serials: bool, shelf_at: str | None
) -> dict[str, Any]:
    """One drive as documented."""
    from jovik.hardware.temperature import sensors_of

    sensors = {s.name: s.read_c() for s in sensors_of(device.name)}
    told = {k: v for k, v in sensors.items() if v is not None}
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
        "temperature_c": max(told.values()) if told else None,
        "temperatures_c": told,
        "partitions": [
            {
                "name": p.name,
                "capacity_bytes": p.capacity_bytes,
                "mounts": [_mount(m) for m in p.mounts],
            }
            for p in device.partitions
        ],
        "mounts": [_mount(m) for m in device.mounts],
        "obstacles": [asdict(o) for o in _obstacles(device, system, shelf_at)],
    }


def _mount(mount: Any) -> dict[str, Any]:
    return {
        "point": mount.point,
        "file_system": mount.kind,
        "fill_percent": mount.fill_percent(),
        "read_only": mount.read_only,
    }


def _obstacles(device: BlockDevice, system: str | None, shelf_at: str | None) -> list[Obstacle]:
    """Obstacles, from the device, its current use and the claims on the shelf."""
    from jovik.analysis.readiness import Surroundings, obstacles
    from jovik.hardware.host_load import bytes_moved_meanwhile
    from jovik.hardware.safety import reasons_against

    free = [_free(m.point) for m in device.all_mounts]
    return obstacles(
        Surroundings(
            against_writing=tuple(reasons_against(device, system)),
            is_system=device.is_system or device.name == system,
            mounted=bool(device.all_mounts),
            read_only=device.read_only
            or (bool(device.all_mounts) and all(m.read_only for m in device.all_mounts)),
            free_bytes=max(free) if free else None,
            busy_bytes_s=bytes_moved_meanwhile(device.name),
            link=str(device.link) if device.link else None,
            link_rate_bytes_s=device.link.rate_bytes_s if device.link else None,
            link_reduced=bool(device.link and device.link.reduced),
        ),
        _claims(device, shelf_at),
    )


def _free(point: str) -> int:
    import shutil

    try:
        return shutil.disk_usage(point).free
    except OSError:
        return 0


def _claims(device: BlockDevice, shelf_at: str | None) -> list[Any]:
    """Claims of the drive on the shelf that this device's model names, if any."""
    from jovik.base.errors import JovikError
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf

    where = where_from(shelf_at)
    if "://" not in where and not Path(where).exists():
        return []
    try:
        with Shelf(where) as shelf:
            for name in shelf.drive_names():
                sheet = shelf.sheet(name)
                if sheet.drive.model and sheet.drive.model.casefold() in device.model.casefold():
                    return list(sheet.claims)
    except JovikError:
        return []
    return []


def _show(rows: list[dict[str, Any]]) -> None:
    from jovik.base.quantities import show_rate, show_size, significant
    from jovik.cli.output import show_table
    from jovik.tables import Table
    from jovik.tables.sheets import medium_word

    shown, below = [], []
    for r in rows:
        link = r["link"]
        rate = (
            f", at most {show_rate(link['rate_bytes_s'])}" if link and link["rate_bytes_s"] else ""
        )
        size = f"{show_size(r['capacity_bytes'])} ({significant(r['capacity_bytes'] / 2**30)} GiB)"
        medium = medium_word(r["medium"]) + (f", {r['rpm']} rpm" if r["rpm"] else "")
        heat = f"{r['temperature_c']:.0f} °C" if r["temperature_c"] is not None else "-"
        name = " ".join(x for x in (r["maker"], r["model"]) if x) or "-"
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
        below.append(r["node"])
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
        below += [f"  {o['what']}: {o['why']}" for o in r["obstacles"]]
    show_table(
        Table(
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
            spare=(4, 6, 1, 3, 7),
            notes=below or ["none found"],
        )
    )
