"""Limits on a result other than the drive."""

from __future__ import annotations

import statistics
from collections.abc import Sequence

from jovik.analysis.step_result import Limit, LimitSource, PassFigures
from jovik.base.findings import Disturbance, DisturbanceAmount
from jovik.base.quantities import show_size
from jovik.base.trace import PassSurroundings

NEAR_CEILING = 0.7
"""Share of the tester's ceiling from which on a figure may be the tester's."""
BUSY_FRACTION = 0.9
"""Share of its time that a measuring thread may work for.

Above this fraction, the thread is the limit.
"""


def tester_limits(
    passes: Sequence[PassFigures], ceiling_iops: float | None, block_bytes: int, threads: int
) -> tuple[Limit, ...]:
    """Return the limits that lie in the tester itself.

    Parameters
    ----------
    passes : sequence of PassFigures
    ceiling_iops : float or None
        The rate of the same loop without a drive, at the same depth and with as many workers.
    block_bytes : int
    threads : int
        Measuring threads, each of which has one core at most.
    """
    limits = []
    iops = statistics.median(p.iops for p in passes)
    if ceiling_iops is not None and iops > NEAR_CEILING * ceiling_iops:
        limits.append(
            Limit(
                LimitSource.TESTER,
                ceiling_iops * block_bytes,
                f"the tester's own ceiling here is {ceiling_iops:.0f} IOPS",
            )
        )
    busy = statistics.median(p.cpu_ns / p.elapsed_ns if p.elapsed_ns else 0.0 for p in passes)
    if busy > BUSY_FRACTION * threads:
        limits.append(
            Limit(
                LimitSource.PROCESSOR,
                iops * block_bytes,
                f"the measuring thread{'s were' if threads > 1 else ' was'} busy all the time: "
                "try more workers",
            )
        )
    return tuple(limits)


NEAR_LINK = 0.9
"""From this fraction of its payload rate on, the link is the limit."""
DISTURBANCE_LIMIT = 0.02
"""Allowed share of a pass's bytes moved by others, and of cores taken by the host."""


def link_limit(
    passes: Sequence[PassFigures], link: str | None, link_rate_bytes_s: float | None
) -> tuple[Limit, ...]:
    """Return the link as a limit if the rate comes close to its payload rate."""
    if link is None or link_rate_bytes_s is None:
        return ()
    rate = statistics.median(p.rate_bytes_s for p in passes)
    if rate <= NEAR_LINK * link_rate_bytes_s:
        return ()
    return (Limit(LimitSource.LINK, link_rate_bytes_s, f"{link} carries no more"),)


def group_limit(
    passes: Sequence[PassFigures], limits: Sequence[tuple[str, str, int]]
) -> tuple[Limit, ...]:
    """Return the limits of control groups that the rate comes close to.

    Parameters
    ----------
    limits : sequence of (str, str, int)
        ``read`` or ``write``, ``bytes`` or ``I/Os``, and how many a second.
    """
    found = []
    for direction, unit, per_s in limits:
        moved = [p.read_bytes if direction == "read" else p.written_bytes for p in passes]
        every = [p.read_bytes + p.written_bytes for p in passes]
        whole = statistics.median(p.rate_bytes_s for p in passes)
        share = sum(moved) / max(sum(every), 1)
        rate = share * (whole if unit == "bytes" else statistics.median(p.iops for p in passes))
        if share and rate > NEAR_LINK * per_s:
            what = LimitSource.GROUP_BYTES if unit == "bytes" else LimitSource.GROUP_IOS
            note = f"a control group of this shell allows {per_s:,} {unit} a second ({direction})"
            found.append(Limit(what, whole / rate * per_s, note))
    return tuple(found)


BUSY_OTHERS = 0.5
"""Share of the cores that other programs may use."""


def disturbances(
    environments: Sequence[PassSurroundings | None], moved_bytes: Sequence[int]
) -> list[DisturbanceAmount]:
    """Return the disturbances of the passes.

    Parameters
    ----------
    environments : one for each pass
    moved_bytes : sequence of int
        The bytes that each pass moved itself.
    """
    known = [(e, own) for e, own in zip(environments, moved_bytes, strict=True) if e is not None]
    disturbing = []
    bad = [
        (e.other_bytes, own)
        for e, own in known
        if e.other_bytes is not None and own and e.other_bytes > DISTURBANCE_LIMIT * own
    ]
    if bad:
        worst = max(other / own for other, own in bad)
        amount = sum(other for other, _ in bad)
        disturbing.append(DisturbanceAmount(Disturbance.OTHER_IO, worst, len(bad), amount))
    stolen = [e.stolen for e, _ in known if e.stolen is not None and e.stolen > DISTURBANCE_LIMIT]
    if stolen:
        disturbing.append(DisturbanceAmount(Disturbance.HOST, max(stolen), len(stolen)))
    busy = [
        e.busy - e.own
        for e, _ in known
        if e.busy is not None and e.own is not None and e.busy - e.own > BUSY_OTHERS
    ]
    if busy:
        disturbing.append(DisturbanceAmount(Disturbance.OTHER_PROGRAMS, max(busy), len(busy)))
    return disturbing


def disturbance_words(sort: Disturbance, worst: float, amount_bytes: int | None) -> str:
    """Return one cause for a reader."""
    share = f"up to {100 * worst:.0f} %"
    if sort is Disturbance.OTHER_IO:
        amount = f"{show_size(amount_bytes)} " if amount_bytes else ""
        return f"others moved {amount}on the same drive, {share} of a pass"
    if sort is Disturbance.HOST:
        return f"the host took {share} of this machine's cores away"
    return f"other programs used {share} of the cores"
