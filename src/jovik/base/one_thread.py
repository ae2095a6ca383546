"""Linear algebra by one thread.

NumPy's library starts a thread for each processor as it is loaded, and lets them spin while they
wait. Lines through a few hundred points gain nothing from that; it made up a tenth of the processor
time of a short command on two processors.
"""

from __future__ import annotations

import os

THREADS_VARIABLE = "OPENBLAS_NUM_THREADS"
GIVEN_THREADS = os.environ.get(THREADS_VARIABLE)
"""The number that the environment asks for, or None."""


def use_one_thread() -> None:
    """Ask for one thread before NumPy is loaded, unless the environment asks for a number."""
    os.environ.setdefault(THREADS_VARIABLE, "1")


def environment_of_others() -> dict[str, str]:
    """Return the environment for another program, without Jovik's own variables."""
    environment = dict(os.environ)
    if GIVEN_THREADS is None:
        environment.pop(THREADS_VARIABLE, None)
    return environment
