"""The payload rate of a drive's link, by its standard.

Payload rates are what is left of the signalling rate after the line code and the least framing that
each packet of user data needs; commands and turn-arounds cost more on top, so no drive reaches them
quite.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from itertools import pairwise

PCIE_RATES: dict[float, tuple[int, float]] = {
    2.5: (1, 8 / 10),
    5.0: (2, 8 / 10),
    8.0: (3, 128 / 130),
    16.0: (4, 128 / 130),
    32.0: (5, 128 / 130),
    64.0: (6, 242 / 256),
}
"""GT/s of a lane to generation and share left by the code.

PCI Express Base Specification 6.0, sections 4.2.1 (8b/10b), 4.2.2 (128b/130b) and 4.2.3 (242 bytes
of each 256-byte flit).
"""

PCIE_PACKET = 256 / (256 + 24)
"""PCIe payload share: 256 bytes, the usual maximum, with 24 of header, framing, sequence and CRC.

Source: PCI Express Base Specification, sections 2.2 and 3.6.
"""

SATA_CODE = 8 / 10
SATA_FRAME = 8192 / (8192 + 20)
"""SATA payload share: 8192 bytes, header, CRC, delimiters (Serial ATA 3.5, 9.4 and 10.5)."""

USB_RATES: dict[int, float] = {
    1: 1.5e6 / 8 * 0.5,
    12: 19 * 64 / 1e-3,
    480: 13 * 512 / 125e-6,
    5_000: 5e9 * 8 / 10 / 8 * 1024 / (1024 + 36),
    10_000: 10e9 * 128 / 132 / 8 * 1024 / (1024 + 36),
    20_000: 20e9 * 128 / 132 / 8 * 1024 / (1024 + 36),
}
"""Mb/s to payload bytes a second. Up to 480 Mb/s.

The most bulk packets in a frame (USB 2.0, tables 5-9 and 5-10). Above: the line code and a data
packet's header, framing and link commands (USB 3.2, sections 6.3, 7.2 and 8.6).
"""


@dataclass(frozen=True)
class Link:
    """A link as it runs now, and at best.

    `now` and `best` are words for people; the rates are payload bytes a second, None if they
    cannot be determined.
    """

    kind: str
    now: str
    best: str = ""
    rate_bytes_s: float | None = None
    best_rate_bytes_s: float | None = None

    @property
    def reduced(self) -> bool:
        """Return True if it is slower than both ends support."""
        return (
            self.rate_bytes_s is not None
            and self.best_rate_bytes_s is not None
            and self.rate_bytes_s < 0.99 * self.best_rate_bytes_s
        )

    def __str__(self) -> str:
        return f"{self.now} (of {self.best})" if self.reduced else self.now


def pcie_rate(gt_s: float, lanes: int) -> float | None:
    """Return payload bytes a second of a PCI Express link, or None for an unknown speed."""
    if gt_s not in PCIE_RATES:
        return None
    return gt_s * 1e9 / 8 * PCIE_RATES[gt_s][1] * lanes * PCIE_PACKET


def pcie_link(
    gt_s: float, lanes: int, best_gt_s: float | None = None, best_lanes: int | None = None
) -> Link:
    """Return a PCI Express link in words and rates."""

    def words(speed: float, width: int) -> str:
        known = PCIE_RATES.get(speed)
        return f"PCIe {known[0]}.0 x{width}" if known else f"PCIe {speed:g} GT/s x{width}"

    best = (best_gt_s or gt_s, best_lanes or lanes)
    return Link("PCIe", words(gt_s, lanes), words(*best), pcie_rate(gt_s, lanes), pcie_rate(*best))


def sata_rate(gb_s: float) -> float:
    """Payload bytes a second of a Serial ATA link."""
    return gb_s * 1e9 * SATA_CODE / 8 * SATA_FRAME


def sata_link(gb_s: float, best_gb_s: float | None = None) -> Link:
    """Return a Serial ATA link in words and rates."""
    best = best_gb_s or gb_s
    return Link(
        "SATA", f"SATA {gb_s:g} Gb/s", f"SATA {best:g} Gb/s", sata_rate(gb_s), sata_rate(best)
    )


def usb_link(mb_s: int) -> Link:
    """Return a USB link in words and rates.

    The kernel does not report the maximum that both ends support.
    """
    now = f"USB {mb_s / 1000:g} Gb/s" if mb_s >= 1000 else f"USB {mb_s} Mb/s"
    return Link("USB", now, "", USB_RATES.get(mb_s))


def named_link(interface: str) -> tuple[Link, float | None] | None:
    """Return the link of a sheet's interface: ``PCIe 4.0 x4``, ``SATA 6 Gb/s``, ``USB 10 Gb/s``.

    Returns
    -------
    tuple or None
        The link, and what the one a generation earlier carries in bytes a second (None if there
        was none); None for words that name no known link.
    """
    if match := re.search(r"\bPCIe\s*(\d)(?:\.\d)?\s*x\s*(\d+)\b", interface, re.IGNORECASE):
        speeds = {generation: speed for speed, (generation, _) in PCIE_RATES.items()}
        generation, lanes = int(match[1]), int(match[2])
        if generation not in speeds or not lanes:
            return None
        return pcie_link(speeds[generation], lanes), pcie_rate(
            speeds[generation - 1], lanes
        ) if generation > 1 else None
    if match := re.search(r"\bSATA\s*(1\.5|3|6)\s*Gb/s", interface, re.IGNORECASE):
        speed = float(match[1])
        return sata_link(speed), sata_rate(speed / 2) if speed > 1.5 else None
    if match := re.search(r"\bUSB\s*(\d+(?:\.\d+)?)\s*([GM])b/s", interface, re.IGNORECASE):
        speed = round(float(match[1]) * (1000 if match[2].upper() == "G" else 1))
        below = {two: USB_RATES[one] for one, two in pairwise(USB_RATES)}
        return (usb_link(speed), below.get(speed)) if speed in USB_RATES else None
    return None
