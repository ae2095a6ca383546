"""Common parts of both kinds of pass-through.

Memory the kernel may write to, and refusing answers that are none.
"""

from __future__ import annotations

import ctypes
from typing import Any

from jovik.base.errors import TargetError


def buffer_of(size: int) -> tuple[Any, int]:
    """Zeroed memory and its address."""
    data = ctypes.create_string_buffer(size)
    return data, ctypes.addressof(data)


def refuse_blank(data: bytes, size: int, what: str) -> None:
    """Refuse a short, all-zero or all-one answer, as broken bridges and lost drives give.

    Raises
    ------
    TargetError
        With the reason.
    """
    if len(data) < size:
        raise TargetError(
            f"the {what} is cut short: {len(data)} of {size} bytes",
            "the enclosure or its bridge does not pass it on whole",
        )
    for byte, name in ((0xFF, "ones"), (0x00, "zeros")):
        if data[:size].count(byte) == size:
            raise TargetError(
                f"the {what} is full of {name}",
                "the drive has gone, or its enclosure answers in its place",
            )
