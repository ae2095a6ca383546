"""How a model drive serves I/O: its parameters, and the formulas that turn a workload into a rate.

These formulas are the truth that Jovik's statistics are tested against; docs/model-drives.md
explains them for people. What changes while the drive works (its cache, its heat) is in
`jovik.simulator.drive_state`.
"""

from __future__ import annotations

import math
from typing import Annotated

from pydantic import Field

from jovik.base.io_session import Workload
from jovik.base.quantities import parse_rate
from jovik.base.toml_files import Size, StrictModel, Time, from_text
from jovik.simulator.garbage_collection import greedy_amplification


def _bytes_a_second(text: str) -> float:
    value, unit = parse_rate(text)
    if unit != "bytes/s" or value <= 0:
        raise ValueError(f"'{text}' is not a rate; write 550MB/s")
    return value


Rate = Annotated[float, from_text(_bytes_a_second)]
MOST_SHARE = 2.0
Share = Annotated[float, Field(ge=0, le=MOST_SHARE, strict=False)]

Watts = Annotated[float, Field(ge=0, le=1000, strict=False)]
Level = Annotated[float, Field(ge=0, le=150, strict=False)]
Degrees = Annotated[float, Field(ge=-40, le=250, strict=False)]

SHARPNESS = 6.0
"""How sharply the slowest bound takes over from the next slowest.

The exponent of the generalised mean in `smallest`.
"""


def smallest(*bounds: float) -> float:
    """Return a smooth minimum, because real drives round the corner between two limits."""
    least = min(bounds)
    return float(least * sum((b / least) ** -SHARPNESS for b in bounds) ** (-1 / SHARPNESS))


class StuckSensor(StrictModel):
    """A sensor that always shows the same value."""

    stuck: Degrees


class UnreadableRange(StrictModel):
    """An unreadable area: its beginning and its length, in bytes."""

    at: Size
    length: Size


class Platter(StrictModel):
    """A spinning medium.

    Attributes
    ----------
    outer_rate, inner_rate : float, bytes/s
        At the first and the last address.
    rpm : int
        Turns a minute; half a turn is waited for on average.
    seek : int, nanoseconds
        Across the whole medium; shorter ways take the square root of their share, above `settle`.
    settle : int, nanoseconds
    queue_gain : float
        What sorting a queue brings: the rate grows by this share with each doubling of the depth,
        up to 32.
    """

    outer_rate: Rate
    inner_rate: Rate
    rpm: Annotated[int, Field(gt=0, le=10**6)] = 7200
    seek: Time = 14_000_000
    settle: Time = 1_500_000
    queue_gain: Share = 0.22

    def rate_at(self, share: float) -> float:
        """Return bytes a second at a share of the addresses.

        The rate goes with the radius and the addresses with its square, so the square of the rate
        falls evenly.
        """
        share = min(max(share, 0.0), 1.0)
        return math.sqrt(self.outer_rate**2 - (self.outer_rate**2 - self.inner_rate**2) * share)

    def access_ns(self, span_share: float) -> float:
        """Mean nanoseconds to a random place within a share of the medium.

        The way there, and half a turn.
        """
        way = self.settle + (self.seek - self.settle) * math.sqrt(min(max(span_share, 0.0), 1.0))
        return way + 30e9 / self.rpm

    def gain(self, depth: int) -> float:
        """Return how many times as fast a queue of a depth is done as single requests."""
        return 1 + self.queue_gain * math.log2(min(depth, 32))


class Heat(StrictModel):
    """Warming and throttling. Temperatures in degrees Celsius.

    Attributes
    ----------
    idle, full : float
        Where the temperature ends when nothing moves, and when as much moves as `read_rate` and
        `write_rate` allow.
    time : int, nanoseconds
        Time constant of the way there (first order: a mass behind a resistance).
    throttle_at, resume_at : float
        Throttling begins at the one and ends at the other.
    throttle_share : float
        What is left of the rate meanwhile.
    sensors : table
        Offset from the true temperature by the sensor's name, or for a sensor that is broken ``{
        stuck = 84 }``.
    """

    idle: Degrees = 34.0
    full: Degrees = 70.0
    time: Time = 60 * 10**9
    throttle_at: Degrees = 200.0
    resume_at: Degrees = 190.0
    throttle_share: Share = 0.5
    sensors: dict[str, Degrees | StuckSensor] = {"drive": 0.0}


class Power(StrictModel):
    """Readings of a power meter at the drive, in watts.

    Attributes
    ----------
    idle, read, write : float
        When nothing moves, and when as much is read or written as `read_rate` and `write_rate`, or
        as many I/Os as `read_iops` and `write_iops`, allow; in between by the larger share.
    spin_up : float
        While the medium gets up to speed.
    spin_up_time : int, nanoseconds
    """

    idle: Watts
    read: Watts
    write: Watts
    spin_up: Watts = 0.0
    spin_up_time: Time = 0


class AcousticNoise(StrictModel):
    """Readings of a sound level meter beside the drive, in dB(A).

    Attributes
    ----------
    idle, stream, seek : float
        When nothing moves, while it moves in order, and while its arm goes from place to place.
    spin_up : float
        While the medium gets up to speed, for as long as `Power` says.
    """

    idle: Level
    stream: Level
    seek: Level
    spin_up: Level = 0.0


class Behaviour(StrictModel):
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
        I/Os a second at most, at any depth: what all channels together can handle.
    read_limit, write_limit, limit_burst : float, bytes/s; int, nanoseconds
        What a control group allows, which lets through at once what was saved up in so long.
    link_rate : float, bytes/s
        What the link carries; 0 is no bound.
    cache_size : int, bytes
        Write cache; 0 is none.
    cache_of_free : float
        A write cache that is taken from free space grows by this share of what is free.
    direct_write_rate : float, bytes/s
        Writing once the cache is full.
    fold_after, folding_rate : int, bytes; float, bytes/s
        When so much was written past the cache, what lies in it has to be folded away meanwhile,
        and this is what is left; 0 is never.
    drain_rate : float, bytes/s
        Emptying the cache while nothing is written.
    full_from, full_share : float
        From this fill level (percent) on writing slows down for making room, to this share at 100
        %.
    flush_time : int, nanoseconds
        A flush of the drive's own cache, and what a durable write pays.
    compression : float
        A controller that compresses writes only this much less of a compressible share: 1 is all of
        it, 0 does not compress.
    file_time : int, nanoseconds
        Making one file on it, beside its data.
    hiccup_every, hiccup_time : int, nanoseconds
        While it is written, it stops for so long after every so long; 0 is never.
    sleep_after, wake_time : int, nanoseconds
        After so long without I/O it saves power, and the next I/O waits so much longer; 0 is never.
    bad : list of UnreadableRange
        Areas that cannot be read.
    real_capacity : int, bytes
        What it really holds where it says more: what is written beyond lands on what was written
        before. 0 is `capacity`.
    pass_spread, slice_spread : float
        Standard deviation of the log of the rate: of a wandering that `wander_time` forgets, and
        between time slices.
    run_spread : float
        Standard deviation of the log of a factor that all passes of a run share.
    pass_memory : float
        Where above 0, each pass has a factor of its own, of the spread `pass_spread`, that
        resembles the one of the pass before by this correlation.
    latency_spread : float
        Standard deviation of the log of the latency.
    write_latency_spread : float, optional
        The same of writes, if it differs.
    mixed_share : float
        What is left of the rate of mixed work, as it would be with bounds shared out by time.
    flash_size : int, bytes
        All flash in it, over-provisioned flash included: where it is set, space is reclaimed by
        garbage collection, which takes its share of `direct_write_rate`; 0 leaves that out.
    flash_pages : int
        Pages of an erase block.
    mapping_size : int, bytes
        What is mapped as one: a smaller random write takes as much flash.
    purge_time : int, nanoseconds
        Making it as new.
    capacity : int, bytes
        What it says it holds.
    serial, firmware : str
        Of the sample. Without a serial, one follows from the sheet.
    """

    read_latency: Time
    write_latency: Time
    sequential_latency: Time
    read_rate: Rate
    write_rate: Rate
    read_iops: Annotated[int, Field(gt=0, le=10**12)]
    write_iops: Annotated[int, Field(gt=0, le=10**12)]
    capacity: Size
    direct_write_rate: Rate
    drain_rate: Rate
    link_rate: Rate | None = None
    read_limit: Rate | None = None
    write_limit: Rate | None = None
    limit_burst: Time = 100_000_000
    cache_size: Size = 0
    cache_of_free: Share = 0.0
    fold_after: Size = 0
    folding_rate: Rate | None = None
    full_from: Annotated[float, Field(ge=0, lt=100, strict=False)] = 99.0
    full_share: Share = 1.0
    flush_time: Time = 500_000
    compression: Share = 0.0
    file_time: Time = 60_000
    hiccup_every: Time = 0
    hiccup_time: Time = 0
    flash_size: Size = 0
    flash_pages: Annotated[int, Field(gt=1, le=10**9)] = 256
    mapping_size: Size = 4096
    purge_time: Time = 2 * 10**9
    sleep_after: Time = 0
    wake_time: Time = 0
    bad: list[UnreadableRange] = []
    real_capacity: Size = 0
    platter: Platter | None = None
    heat: Heat | None = None
    power: Power | None = None
    noise: AcousticNoise | None = None
    pass_spread: Share = 0.01
    slice_spread: Share = 0.02
    run_spread: Share = 0.0
    pass_memory: Annotated[float, Field(ge=0, lt=1, strict=False)] = 0.0
    wander_time: Time = 2 * 10**9
    latency_spread: Share = 0.3
    write_latency_spread: Share | None = None
    mixed_share: Share = 1.0
    serial: str = ""
    firmware: str = "1.0"

    @property
    def spreads(self) -> tuple[float, float]:
        """Return the standard deviation of the log of the latency of reads and of writes."""
        writes = self.write_latency_spread
        return self.latency_spread, self.latency_spread if writes is None else writes

    def cache_bytes(self, fill_percent: float) -> float:
        """Return the write cache at a fill level."""
        return self.cache_size + self.cache_of_free * self.capacity * (1 - fill_percent / 100)

    def crowding(self, fill_percent: float) -> float:
        """Return the share of the write rate that making room leaves at a fill level."""
        over = max(fill_percent - self.full_from, 0.0) / (100 - self.full_from)
        return 1 - (1 - self.full_share) * over

    def amplification(self, valid_bytes: float) -> float:
        """Return bytes of flash for each byte written at random in the steady state.

        1 without flash.
        """
        if not self.flash_size:
            return 1.0
        return greedy_amplification(self.flash_size, valid_bytes, self.flash_pages)

    def mapped(self, work: Workload) -> float:
        """By how much more flash a write takes than it is long, being smaller than a mapping."""
        if not self.flash_size or not work.random:
            return 1.0
        return max(self.mapping_size / work.block_bytes, 1.0)

    def steady_iops(self, work: Workload, valid_bytes: float) -> float:
        """Return I/Os a second of a workload on a drive that was written at random for long.

        The figure that a steady state has to come out at, without noise.
        """
        return self.iops(work, write_rate=self.direct_write_rate / self.amplification(valid_bytes))

    def squeeze(self, work: Workload) -> float:
        """By how much less has to be written of a payload than it is long."""
        return 1 - min(self.compression * work.compressible_percent / 100, 0.95)

    def service_ns(self, work: Workload, write_rate: float) -> float:
        """Return nanoseconds that one I/O takes when it is alone, mean over both directions."""
        read = self.sequential_latency if not work.random else self.read_latency
        write = (
            min(self.sequential_latency, self.write_latency)
            if not work.random
            else self.write_latency
        )
        read_ns = read + work.block_bytes / self.read_rate * 1e9
        write_ns = (
            write + work.block_bytes / write_rate * 1e9 + (self.flush_time if work.durable else 0)
        )
        share = work.read_percent / 100
        return share * read_ns + (1 - share) * write_ns

    def iops(
        self,
        work: Workload,
        *,
        cached: bool = True,
        write_rate: float | None = None,
        at_share: float = 0.0,
    ) -> float:
        """Return I/Os a second of a workload at full pace, without noise.

        The least of: what is in flight over the time of one (Little's law), the I/Os a second that
        the drive can handle, and what its data paths and its link carry; bounds of mixed work are
        shared out by time.

        Parameters
        ----------
        cached : bool
            Whether writes go into the write cache.
        write_rate : float, optional
            What the medium takes just now, bytes/s; the cache's or the direct rate unless given.
        at_share : float
            Where on a spinning medium, as a share of its addresses.
        """
        share = work.read_percent / 100
        # A link is a wall, as is a limit: there is no rounding of that corner.
        walls = ((self.link_rate, 1.0), (self.read_limit, share), (self.write_limit, 1 - share))
        most = min((w / (s * work.block_bytes) for w, s in walls if w and s), default=math.inf)
        if self.platter is not None:
            return min(self._spinning_iops(work, self.platter, at_share), most)
        write_rate = write_rate or (self.write_rate if cached else self.direct_write_rate)
        write_rate = write_rate / self.squeeze(work) / self.mapped(work)
        alone = work.depth * work.workers / self.service_ns(work, write_rate) * 1e9
        handled = 1 / (share / self.read_iops + (1 - share) / self.write_iops)
        carried = 1 / (
            share * work.block_bytes / self.read_rate + (1 - share) * work.block_bytes / write_rate
        )
        reached = smallest(alone, handled, carried) * (self.mixed_share if 0 < share < 1 else 1)
        return min(reached, most)

    def _spinning_iops(self, work: Workload, platter: Platter, at_share: float) -> float:
        transfer = work.block_bytes / platter.rate_at(at_share) * 1e9
        if not work.random:
            return 1e9 / transfer if not work.durable else 1e9 / (transfer + 60e9 / platter.rpm)
        access = platter.access_ns(work.span_bytes / self.capacity)
        gain = platter.gain(work.depth * work.workers)
        return 1e9 * gain / (access + transfer + (60e9 / platter.rpm if work.durable else 0))
