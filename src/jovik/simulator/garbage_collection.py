"""Garbage collection of a model drive: how much flash a written byte takes once all is in use.

Flash is erased in blocks of many pages, and what is still valid in a block has to be moved before.
How much that is in the steady state of random writes, where the block with the fewest valid pages
is cleaned first, is known in closed form (Desnoyers, "Analytic Modeling of SSD Write Performance",
SYSTOR 2012; the formula for greedy cleaning). tests/test_simulator.py holds it against a drive that
is simulated page by page.
"""

from __future__ import annotations

import math
from functools import lru_cache

IN_ORDER = 0.5
"""Ranges written in order that reduce scattered data to 1/e (an assumption)."""


def lambert_w(x: float) -> float:
    """Return the principal branch of Lambert's W for ``-1/e <= x < 0``, by Halley's method.

    Corless and others, "On the Lambert W function", Advances in Computational Mathematics 5 (1996),
    equations 4.22 (where to begin) and 5.9.
    """
    p = math.sqrt(max(2 * (1 + math.e * x), 0.0))
    w = -1 + p - p * p / 3
    for _ in range(50):
        e = math.exp(w)
        rest = w * e - x
        below = e * (w + 1) - (w + 2) * rest / (2 * w + 2) if w > -1 else 0.0
        if not below or abs(rest) < 1e-15:
            break
        w -= rest / below
    return w


@lru_cache(maxsize=64)
def greedy_amplification(flash_bytes: float, valid_bytes: float, pages: int) -> float:
    """Return bytes written to flash for each byte of random writes, in the steady state.

    Parameters
    ----------
    flash_bytes : float
        All flash there is, over-provisioned flash included.
    valid_bytes : float
        What lies on the drive: what was discarded is not valid.
    pages : int
        Pages of an erase block.
    """
    if valid_bytes <= 0 or flash_bytes <= valid_bytes:
        return 1.0
    spare = flash_bytes / valid_bytes
    k = (1 + 1 / (2 * pages)) * spare
    least_valid = 0.5 - pages / spare * lambert_w(-k * math.exp(-k))
    return max(pages / (pages - (least_valid - 1)), 1.0)
