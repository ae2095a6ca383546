"""The compiled loops as plain functions.

A wheel has them in a shared library, which `jovik.engine.kernel.library` compiled and linked when
the wheel was built. On a machine without such a library Numba compiles them in memory, in some
seconds for each process.
"""

from __future__ import annotations

import ctypes
import platform
from collections.abc import Callable
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any

import numpy.typing as npt

from jovik.base.errors import EngineUnavailableError

LOOPS = ("uring_loop", "blocking_loop", "replay_loop", "replay_lane")
SYMBOL_PREFIX = "jovik_"


def library_name(machine: str) -> str:
    """Return the file name of the loops for an architecture, as `platform.machine` names it."""
    return f"loops-{machine}.so"


LIBRARY = Path(__file__).with_name(library_name(platform.machine()))


@cache
def load(name: str) -> Callable[..., None]:
    """Return a loop as a function of arrays, which runs without the interpreter lock.

    Parameters
    ----------
    name : str
        ``"uring_loop"`` or ``"blocking_loop"``. Its module under `kernel` says what the arguments
        are.

    Raises
    ------
    EngineUnavailableError
        The library of this architecture cannot be loaded, or there is none, and Numba is not
        installed.
    """
    address = _addresses()[name]

    def call(*arrays: npt.NDArray[Any]) -> None:
        # Numba's own convention: where the result and an exception go, then the arguments.
        result, fault = ctypes.c_int64(), ctypes.c_void_p()
        function = ctypes.CFUNCTYPE(ctypes.c_int32, *[ctypes.c_void_p] * (2 + len(arrays)))(address)
        function(
            ctypes.addressof(result), ctypes.addressof(fault), *(a.ctypes.data for a in arrays)
        )

    return call


@cache
def _addresses() -> dict[str, int]:
    """Return the place of each loop in memory."""
    if not LIBRARY.exists() and find_spec("numba") is not None:
        from jovik.engine.kernel.library import in_memory

        return in_memory()
    if not LIBRARY.exists():
        raise EngineUnavailableError(
            f"this installation has no measuring loops for {platform.machine()}",
            "pip install 'jovik[loops]' to compile them at each start",
        )
    try:
        library = ctypes.CDLL(str(LIBRARY))
    except OSError as error:
        raise EngineUnavailableError(
            f"the measuring loops cannot be loaded: {error}", "install Jovik again"
        ) from None
    return {name: _address(library, name) for name in LOOPS}


def _address(library: ctypes.CDLL, name: str) -> int:
    address = ctypes.cast(library[SYMBOL_PREFIX + name], ctypes.c_void_p).value
    assert address is not None
    return address
