"""Conditions of a run's machine that can slow a drive down or make its figures differ."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class CircumstanceKind(StrEnum):
    """The sort of condition."""

    BATTERY = "battery"
    GOVERNOR = "processor governor"
    LINK_POWER = "link power saving"
    LAYER = "layer"
    FILE_SYSTEM = "file system"
    VIRTUAL = "virtual machine"
    SWAP = "swap"
    CONTROL_GROUP = "control group"
    SHELF = "shelf"
    MAINTENANCE = "maintenance"
    LOAD = "load"
    TEMPERATURE = "temperature"


TEMPORARY_KINDS = (CircumstanceKind.LOAD, CircumstanceKind.TEMPERATURE)
"""Temporary conditions. Their effect on a figure is measured with the figure."""


@dataclass(frozen=True)
class Circumstance:
    """One thing that was so when a run began.

    Attributes
    ----------
    kind : CircumstanceKind
    value : str
        The observed value, such as ``powersave`` or ``dm-crypt``.
    matters : bool
        Whether figures are likely to differ by it.
    effect : str
        Its effect on figures in a few words, or empty if unknown.
    remedy : str
        The command that changes it, which Jovik never runs itself; empty if there is none.
    """

    kind: CircumstanceKind
    value: str
    matters: bool = False
    effect: str = ""
    remedy: str = ""
