"""Whether drives can be measured on this operating system."""

from __future__ import annotations

import sys

from jovik.base.errors import TargetError


def need_posix() -> None:
    """Refuse a system on which no drive can be opened the way that measuring needs.

    Raises
    ------
    TargetError
        It is Windows.
    """
    if sys.platform == "win32":
        raise TargetError(
            "Jovik measures drives on Linux, and this is Windows",
            "model drives (model:comet) and shelves work here, and so do all answers and pages",
        )
