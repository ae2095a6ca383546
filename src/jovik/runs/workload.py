"""From a step to the workload of one of its passes."""

from __future__ import annotations

import hashlib
from dataclasses import replace

from jovik.base.errors import TargetError
from jovik.base.quantities import show_size
from jovik.base.session import CopyJob, Session, Workload
from jovik.steps import CopyStep, IoStep, Step


def workload(step: IoStep, seed: int, *, stop_on_error: bool = True) -> Workload:
    """A step's numbers as a session takes them."""
    rate = float(step.rate_bytes_s) if step.rate_bytes_s is not None else None
    if step.rate_iops is not None:
        rate = float(step.rate_iops * step.block_bytes)
    return Workload(
        random=step.random,
        read_percent=step.read_percent,
        block_bytes=step.block_bytes,
        depth=step.depth,
        workers=step.workers,
        span_bytes=step.span,
        seed=seed,
        time_ns=step.time,
        amount_bytes=step.amount_bytes,
        fresh=step.fresh,
        rate_limit_bytes_s=rate,
        durable=step.durable,
        compressible_percent=step.compressible_percent,
        verify=step.verify,
        stop_on_error=stop_on_error,
    )


def resolve_amount(step: Step, session: Session) -> Step:
    """A step whose amount is a share of what is free, with that amount in bytes.

    Any other as it is.

    Raises
    ------
    TargetError
        Nobody can tell what is free, or the share is less than a block.
    """
    if not isinstance(step, IoStep) or step.amount_free_percent is None:
        return step
    free = session.free_bytes()
    if free is None:
        raise TargetError(
            "what is free on this target cannot be told",
            "write the amount in bytes, such as 'over 100GB'",
        )
    amount = free * step.amount_free_percent // 100 // step.block_bytes * step.block_bytes
    if amount < step.block_bytes:
        raise TargetError(
            f"{step.amount_free_percent} % of {show_size(free)} free is less than one block"
        )
    return replace(step, amount_bytes=amount)


def copy_job(step: CopyStep, seed: int) -> CopyJob:
    """A copy's files as a session takes them."""
    return CopyJob(step.inward, (step.file_bytes,) * step.files, step.folder, seed)


def pass_seed(run_seed: int, position: int, number: int) -> int:
    """The seed of one pass.

    The same run, step and pass always give the same, different ones never a related one.
    """
    digest = hashlib.blake2b(f"{run_seed}/{position}/{number}".encode(), digest_size=6).digest()
    return int.from_bytes(digest, "big")
