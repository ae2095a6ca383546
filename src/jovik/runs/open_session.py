"""Where a run takes place: a session on its target."""

from __future__ import annotations

from pathlib import Path

from jovik.base.errors import UsageError
from jovik.base.io_session import Session
from jovik.hardware.target import DeviceTarget, ModelTarget
from jovik.runs.identification import system_drive
from jovik.runs.request import RunRequest
from jovik.simulator import ModelSession, load_model


def open_session(request: RunRequest) -> Session:
    """Return a session on the order's target.

    Raises
    ------
    UsageError
        Permission to destroy was given for a target that is no raw device.
    TargetError
        The plan writes to a raw device and something stands in the way.
    """
    target = request.target
    if not isinstance(target, DeviceTarget):
        _refuse_permissions(request)
        if isinstance(target, ModelTarget):
            return ModelSession(load_model(target.name))
        # Not before here: a system on which no drive can be measured lacks what these need.
        from jovik.engine.io_session import FileSession

        return FileSession(target.path, request.engine, request.seed)

    from jovik.engine.block_device import RawDevice
    from jovik.engine.io_session import FileSession
    from jovik.hardware.safety import claim_for_writing

    device, claimed = target.device, None
    writes = request.destroy is not None or any(t.step.writes for t in request.tasks)
    if writes and not request.only_cost:
        claimed = claim_for_writing(
            device, request.destroy, system_drive(), worthless=request.content_worthless
        )
        device = claimed.device
    raw = RawDevice(
        Path(device.node),
        claimed=(claimed.fd, claimed.held_fd) if claimed is not None else None,
        imagined=writes and request.only_cost,
        capacity_bytes=device.capacity_bytes,
        logical_block_bytes=device.logical_block_bytes,
    )
    notes = claimed.notes if claimed is not None else ()
    return FileSession(raw, request.engine, request.seed, notes)


def _refuse_permissions(request: RunRequest) -> None:
    """Refuse permission to write a raw device if the target is not one."""
    given = {
        "--destroy": request.destroy is not None,
        "--content-worthless": request.content_worthless,
    }
    for option, is_given in given.items():
        if is_given:
            raise UsageError(
                f"{option} is for raw devices",
                "a folder or a model drive does not need it: no data of others is overwritten",
            )
