"""The announcement of a run: its duration, its writes, and its target."""

from __future__ import annotations

from typing import Any

from jovik.base.quantities import show_rate, show_size, show_time
from jovik.hardware.target import DeviceTarget, FolderTarget
from jovik.runs.enrolment import EnrolledBy, Enrolment
from jovik.runs.prepare import PreparedRun
from jovik.steps import PurgeStep


def announcement(ready: PreparedRun) -> str:
    """Return the announcement: the duration, the bytes written, and the target."""
    request, cost = ready.request, ready.cost
    count = f"{len(request.tasks)} {'step' if len(request.tasks) == 1 else 'steps'}"
    fewest, most = (
        min(t.repeat.least for t in request.tasks),
        max(t.repeat.most for t in request.tasks),
    )
    times = f"{most}" if fewest == most else f"{fewest} to {most}"
    times += " pass" if times == "1" else " passes"
    least = f"{show_time(ready.least.time_ns)} to " if ready.least is not None else ""
    limit = min(cost.time_ns, request.budget_ns) if request.budget_ns is not None else cost.time_ns
    upper = any(t.repeat.least != t.repeat.most for t in request.tasks)
    lasts = (
        "until you stop it"
        if cost.endless
        else f"about {least}{show_time(limit)}"
        if least
        else f"{'at most ' if upper else ''}about {show_time(limit)}"
    )
    lines = [
        f"{ready.sheet.drive.name}: {request.plan}, {count} of {times}, {lasts}, engine "
        f"{ready.session.engine}"
        f"{'' if ready.session.direct else ', buffered (page cache)'}",
        _amounts(ready, "at most " if upper else ""),
    ]
    share = ready.endurance_share
    if share is not None and cost.written_bytes(ready.rate_bytes_s):
        lines.append(
            f"{'less than 0.1' if share < 0.001 else f'about {100 * share:.2g}'} % of its "
            "endurance rating"
        )
    if ready.fills_system:
        lines.append(ready.fills_system)
    if isinstance(request.target, DeviceTarget):
        lines += ready.session.notes
    if request.budget_ns is not None and request.trimmed:
        lines.append(f"to stay within {show_time(request.budget_ns)}: {'; '.join(request.trimmed)}")
    return "\n".join(lines)


def cost_json(ready: PreparedRun) -> dict[str, Any]:
    """Return the cost of a run as documented."""
    request, cost = ready.request, ready.cost
    return {
        "drive": ready.sheet.drive.name,
        "target": request.target.describe(),
        "plan": request.plan,
        "steps": len(request.tasks),
        "time_ns": None if cost.endless else cost.time_ns,
        "least_time_ns": ready.least.time_ns if ready.least is not None else None,
        "written_bytes": round(cost.written_bytes(ready.rate_bytes_s)),
        "space_bytes": cost.space_bytes,
        "endurance_share": ready.endurance_share,
        "budget_ns": request.budget_ns,
        "trimmed": list(request.trimmed),
    }


def enrolment_line(found: Enrolment) -> str:
    """Return the name of the drive if the user gave none, or an empty string."""
    name = found.sheet.drive.name
    if found.by is EnrolledBy.NEW:
        return (
            f"this is '{name}', new on this shelf; to add a claim: "
            f'jovik sheet claim "{name}" "sequential read" FIGURE'
        )
    if found.by is EnrolledBy.SERIAL:
        return f"this is '{name}', known by its serial"
    if found.by is EnrolledBy.MODEL:
        return f"this is '{name}', recognised by its model; for another drive: --drive NAME"
    return ""


def _amounts(ready: PreparedRun, at_most: str) -> str:
    cost, rate = ready.cost, ready.rate_bytes_s
    writes = [show_size(cost.certain_bytes)] if cost.certain_bytes else []
    if cost.endless and any(t.step.writes for t in ready.request.tasks):
        writes.append(
            f"on until you stop it (at {show_rate(rate)}: {show_size(rate * 60)} a minute)"
        )
    if cost.writing_ns:
        writes.append(
            f"as much as the drive writes in {show_time(cost.writing_ns)} (at {show_rate(rate)}: "
            f"{show_size(cost.writing_ns / 1e9 * rate)})"
        )
    amount = f"{at_most}{' and '.join(writes)}" if writes else "nothing"
    space = show_size(cost.space_bytes)
    target = ready.request.target
    if isinstance(target, FolderTarget):
        return (
            f"writes {amount} in {target.path}, in test files of at most {space} that are "
            "deleted afterwards"
        )
    if isinstance(target, DeviceTarget):
        node = target.device.node
        if any(isinstance(t.step, PurgeStep) for t in ready.request.tasks):
            return f"purges {node}: all its data is lost; then writes {amount}"
        if not writes:
            return f"reads {space} of {node}, and writes nothing"
        return f"writes {amount} to the first {space} of {node}: the data there is lost"
    return f"writes {amount} on a virtual clock: no real data is written"
