"""The unit of displayed rates. Everything computed and stored is bytes a second.

One choice for a whole command, which is why it is not handed from table to table.
"""

from __future__ import annotations

from contextvars import ContextVar

RATE_UNITS = {"MB/s": 1e6, "MiB/s": float(2**20), "GB/s": 1e9}
"""Bytes a second in each."""
DEFAULT = "MB/s"
"""As makers advertise."""

_chosen: ContextVar[str] = ContextVar("rate_unit", default=DEFAULT)
_iops_first: ContextVar[bool] = ContextVar("iops_first", default=False)


def choose_rate_unit(name: str) -> None:
    """Show rates in this unit from now on.

    Raises
    ------
    ValueError
        It is none of `RATE_UNITS`.
    """
    if name not in RATE_UNITS:
        raise ValueError(f"'{name}' is not a unit of rates; write {', '.join(RATE_UNITS)}")
    _chosen.set(name)


def choose_iops_first(first: bool) -> None:
    """Whether I/Os a second come before the rate in tables that have both."""
    _iops_first.set(first)


def rate_unit() -> str:
    """Return its name."""
    return _chosen.get()


def per_unit() -> float:
    """Return the factor from bytes a second to the displayed unit."""
    return 1 / RATE_UNITS[_chosen.get()]


def iops_first() -> bool:
    """Return whether I/Os a second come before the rate."""
    return _iops_first.get()
