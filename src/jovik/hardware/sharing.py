"""The common path of several drives to the processor, by the kernel's device tree."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from jovik.hardware.device import BlockDevice

_PCI = re.compile(r"[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-9a-f]")


def shared_by(drives: Sequence[BlockDevice], sys: Path = Path("/sys")) -> list[str]:
    """Return everything that all of these drives hang on, the nearest first, in words.

    Each is named with the kernel's name for it; the root of all devices is left out.
    """
    paths = [(sys / "block" / d.name).resolve() for d in drives]
    if len(paths) < 2:
        return []
    parents = [set(p.parents) for p in paths]
    common = set.intersection(*parents)
    nearest = sorted(common, key=lambda p: -len(p.parts))
    return [words for p in nearest if (words := _words(p))]


def _words(folder: Path) -> str:
    name = folder.name
    if re.fullmatch(r"usb\d+", name):
        return f"one USB host controller ({name})"
    if re.fullmatch(r"\d+-[\d.]+", name) and (folder / "speed").exists():
        return f"one USB hub and its link (port {name})"
    if re.fullmatch(r"ata\d+", name):
        return f"one ATA port ({name})"
    if _PCI.fullmatch(name):
        kind = (folder / "class").read_text().strip() if (folder / "class").exists() else ""
        return f"one {_PCI_CLASSES.get(kind[:6], 'PCI device')} ({name})"
    return ""


_PCI_CLASSES = {
    "0x0101": "IDE controller",
    "0x0104": "RAID controller",
    "0x0106": "SATA controller",
    "0x0107": "SAS controller",
    "0x0108": "NVMe controller",
    "0x0604": "PCIe bridge and its link",
    "0x0c03": "USB controller",
}
"""Base class and subclass (PCI Code and ID Assignment Specification 1.15, chapter 1)."""
