"""How a model drive serves I/O: a handful of parameters, and the formulas that turn a workload into a rate.

These formulas are the truth that Jovik's statistics are tested against.
"""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from jovik.protocol import Workload
from jovik.tomlfile import Shape, Size, Time, from_text
from jovik.units import parse_rate


def _bytes_a_second(text: str) -> float:
    value, unit = parse_rate(text)
    if unit != "bytes/s" or value <= 0:
        raise ValueError(f"'{text}' is not a rate; write 550MB/s")
    return value


Rate = Annotated[float, from_text(_bytes_a_second)]
Share = Annotated[float, Field(ge=0, le=2, strict=False)]

SHARPNESS = 6.0
"""How sharply the slowest bound takes over from the next slowest: the exponent of the generalised mean in `smallest`."""


def smallest(*bounds: float) -> float:
    """A smooth minimum: real drives round the corner where one bound hands over to another."""
    least = min(bounds)
    return float(least * sum((b / least) ** -SHARPNESS for b in bounds) ** (-1 / SHARPNESS))


class Behaviour(Shape):
    """The parameters of a model drive.

    Attributes
    ----------
    read_latency, write_latency : int, nanoseconds
        Of one random I/O alone, without the transfer of its data.
    sequential_latency : int, nanoseconds
        The same where the drive sees the next I/O coming.
    read_rate, write_rate : float, bytes/s
        What data moves at, at most; writing into the write cache.
    read_iops, write_iops : int
        I/Os a second at most, at any depth.
    cache_size : int, bytes
        Write cache; 0 is none.
    direct_write_rate : float, bytes/s
        Writing once the cache is full.
    drain_rate : float, bytes/s
        Emptying the cache while nothing is written.
    flush_time : int, nanoseconds
        A flush of the drive's own cache, and what a durable write pays.
    pass_spread, slice_spread : float
        Standard deviation of the log of the rate, between passes and between time slices.
    latency_spread : float
        Standard deviation of the log of the latency.
    capacity : int, bytes
        What it really holds.
    serial, firmware : str
        Of the unit.
    """

    read_latency: Time
    write_latency: Time
    sequential_latency: Time
    read_rate: Rate
    write_rate: Rate
    read_iops: Annotated[int, Field(gt=0)]
    write_iops: Annotated[int, Field(gt=0)]
    capacity: Size
    direct_write_rate: Rate
    drain_rate: Rate
    cache_size: Size = 0
    flush_time: Time = 500_000
    pass_spread: Share = 0.01
    slice_spread: Share = 0.02
    latency_spread: Share = 0.3
    serial: str = "MODEL-0001"
    firmware: str = "1.0"

    def service_ns(self, work: Workload, write_rate: float) -> float:
        """Nanoseconds that one I/O takes when it is alone, mean over both directions."""
        read = self.sequential_latency if not work.random else self.read_latency
        write = min(self.sequential_latency, self.write_latency) if not work.random else self.write_latency
        read_ns = read + work.block_bytes / self.read_rate * 1e9
        write_ns = write + work.block_bytes / write_rate * 1e9 + (self.flush_time if work.durable else 0)
        share = work.read_percent / 100
        return share * read_ns + (1 - share) * write_ns

    def iops(self, work: Workload, *, cached: bool = True) -> float:
        """I/Os a second of a workload at full pace, without noise.

        The least of: what is in flight over the time of one (Little's law), the I/Os a second that the drive can handle,
        and what its data paths carry; bounds of mixed work are shared out by time.

        Parameters
        ----------
        cached : bool
            Whether writes go into the write cache.
        """
        write_rate = self.write_rate if cached else self.direct_write_rate
        share = work.read_percent / 100
        alone = work.depth * work.workers / self.service_ns(work, write_rate) * 1e9
        handled = 1 / (share / self.read_iops + (1 - share) / self.write_iops)
        carried = 1 / (share * work.block_bytes / self.read_rate + (1 - share) * work.block_bytes / write_rate)
        return smallest(alone, handled, carried)
