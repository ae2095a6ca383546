"""Words on rigs that may have held a drive back."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jovik.analysis.cross_rig import RigSlowdown
from jovik.steps import parse


def slowed_words(slowed: Sequence[RigSlowdown]) -> list[str]:
    """Return a line for each drive and rig whose figures are not to be taken for the drive's."""
    return [_words(s) for s in slowed]


def _words(s: RigSlowdown) -> str:
    steps = parse(s.kinds[0]).label + (f" and {len(s.kinds) - 1} more" if len(s.kinds) > 1 else "")
    return (
        f"warning: the figures of {s.drive} are of rig '{s.rig}'; on '{s.better_rig}' "
        f"{s.unit} did clearly better ({steps}): suspect the port, the "
        f"cable or the machine; jovik rank --unit '{s.unit}' --drive '{s.drive}' --by rig"
    )


def slowed_json(slowed: Sequence[RigSlowdown]) -> list[dict[str, Any]]:
    """Return drives that their rig may have held back, as documented."""
    return [
        {
            "drive": s.drive,
            "unit": s.unit,
            "rig": s.rig,
            "better_rig": s.better_rig,
            "kinds": list(s.kinds),
        }
        for s in slowed
    ]
