"""Words on rigs that may have held a drive back."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.cross_rig import RigSlowdown
from jovik.steps import parse


def slowed_words(slowed: Sequence[RigSlowdown]) -> list[str]:
    """Return a line for each drive and rig whose figures are not to be taken for the drive's."""
    return [_words(s) for s in slowed]


def _words(s: RigSlowdown) -> str:
    steps = parse(s.kinds[0]).label + (f" and {len(s.kinds) - 1} more" if len(s.kinds) > 1 else "")
    return (
        f"warning: the figures of {s.drive} are from rig '{s.rig}'; on '{s.better_rig}' "
        f"{s.sample} was clearly faster ({steps}): check the port, the "
        f"cable and the machine; jovik rank --sample '{s.sample}' --drive '{s.drive}' --by rig"
    )
