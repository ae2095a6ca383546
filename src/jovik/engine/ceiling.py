"""What the tester itself can do here: the loops with nothing behind them, and with memory behind them."""

from __future__ import annotations

import numpy as np

from jovik.engine.crew import UringCrew
from jovik.engine.memory import Buffers
from jovik.protocol import Workload


def no_op_iops(depth: int, workers: int, time_ns: int) -> float:
    """I/Os a second of requests that the kernel completes without doing anything.

    Raises
    ------
    EngineRefused
        io_uring is refused here.
    """
    work = Workload(random=True, read_percent=100, block_bytes=4096, depth=depth, workers=workers, span_bytes=2**24, seed=1, time_ns=time_ns)
    buffers = Buffers(1)
    buffers.fit(depth * workers, work.block_bytes, 0)
    crew = UringCrew(work, -1, buffers, np.zeros(1, np.int32), no_op=True)
    crew.start()
    while not crew.wait(0.5):
        pass
    if crew.failure is not None:
        raise crew.failure
    elapsed = crew.elapsed_ns()
    return float(crew.slices(-(-elapsed // 10**8))[:, 1].sum()) / elapsed * 1e9
