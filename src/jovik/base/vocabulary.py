"""Words of the command line that the Tab key offers, without loading what they mean."""

from __future__ import annotations

SAMPLE_ORDERS = ("rig", "firmware")
"""The orders of a ranking for one sample, instead of drives."""
ENERGY = "efficiency"
"""The order whose rates are bytes for a joule instead of bytes a second."""
ORDERS = ("drive", *SAMPLE_ORDERS, "price", "money", "endurance", "latency", ENERGY)
"""The orders for drives, besides a step.

Their index, the rig, price for a terabyte, index for the money, endurance, access time, energy.
"""
SELECTION_KEYS = ("rig", "sample", "firmware", "since", "until")
"""What narrows a selection: ``DRIVE@rig=hub``."""
CLASS_PREFIX = "class:"
"""How the name of a class of drives begins where a drive's could stand."""
