"""The seed of a pass."""

from __future__ import annotations

import hashlib


def pass_seed(run_seed: int, position: int, number: int) -> int:
    """Return the seed of one pass: reproducible, and unrelated to that of any other pass."""
    digest = hashlib.blake2b(f"{run_seed}/{position}/{number}".encode(), digest_size=6).digest()
    return int.from_bytes(digest, "big")
