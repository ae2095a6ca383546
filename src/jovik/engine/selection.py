"""Which engine measures: io_uring where the kernel offers it, else blocking calls."""

from __future__ import annotations

from jovik.base.errors import EngineUnavailableError
from jovik.engine.ring import Ring
from jovik.engine.worker_pool import BlockingPool, UringPool, WorkerPool


def select_engine(engine: str) -> type[WorkerPool]:
    """Return the worker pool for ``auto``, ``io_uring`` or ``blocking``.

    Raises
    ------
    EngineUnavailableError
        io_uring was asked for and is refused here.
    """
    if engine == "blocking":
        return BlockingPool
    try:
        Ring(1).close()
    except (EngineUnavailableError, OSError, AttributeError) as error:
        if engine == "auto":
            return BlockingPool
        raise (
            error
            if isinstance(error, EngineUnavailableError)
            else EngineUnavailableError("this system has no io_uring", "use --engine blocking")
        ) from None
    return UringPool
