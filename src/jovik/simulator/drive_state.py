"""The changing state of a model drive.

Its write cache, how full it is, its heat, its wandering; slice by slice.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from jovik.base.io_session import Workload
from jovik.base.trace import SLICE_NS
from jovik.simulator.garbage_collection import IN_ORDER
from jovik.simulator.parameters import Behaviour, StuckSensor

PHASES = ("cache", "direct", "folding")
"""Where writes go, one after the other as each has no more room."""
DRAW_SIZE = 512
"""Random numbers are drawn so many at a time: one by one they would cost more than the rest."""


class RateNoise:
    """A noise of two parts, as a factor on the rate.

    One that wanders and is slowly forgotten, and one that is new in every slice.
    """

    def __init__(self, behaviour: Behaviour, rng: np.random.Generator) -> None:
        self._rng, self._behaviour = rng, behaviour
        keep = math.exp(-SLICE_NS / behaviour.wander_time) if behaviour.wander_time else 0.0
        self._keep, self._fresh = keep, math.sqrt(1 - keep * keep)
        self._at = float(rng.normal())
        self._drawn: list[float] = []

    def next(self) -> float:
        """Return the factor of the next slice."""
        if not self._drawn:
            self._drawn = self._rng.standard_normal(2 * DRAW_SIZE).tolist()
        self._at = self._keep * self._at + self._fresh * self._drawn.pop()
        return math.exp(
            self._at * self._behaviour.pass_spread
            + self._drawn.pop() * self._behaviour.slice_spread
        )


@dataclass
class State:
    """One model drive between and during passes.

    Attributes
    ----------
    clock_ns : int
    cached_bytes : float
        In the write cache.
    past_cache_bytes : float
        Written past it since it was last empty enough.
    used_bytes : float
        What lies on it for good.
    warm_c : float
        The true temperature.
    throttling : bool
    scattered : float
        How far garbage collection is on its way to the steady state of random writes, 0 to 1.
    host_bytes, flash_bytes : float
        Written to it, and by it to its flash.
    pass_bytes : float
        Written in this pass so far.
    """

    behaviour: Behaviour
    clock_ns: int = 0
    cached_bytes: float = 0.0
    past_cache_bytes: float = 0.0
    used_bytes: float = 0.0
    warm_c: float = 25.0
    throttling: bool = False
    scattered: float = 0.0
    host_bytes: float = 0.0
    flash_bytes: float = 0.0
    pass_bytes: float = 0.0
    _rates: dict[str, float] = field(default_factory=dict)
    _valid_bytes: float = 0.0
    _rates_of: Workload | None = None
    _rates_at: float = -1.0

    def __post_init__(self) -> None:
        if self.behaviour.heat is not None:
            self.warm_c = self.behaviour.heat.idle

    @property
    def fill_percent(self) -> float:
        """Return how full it is."""
        return min(100.0 * self.used_bytes / self.behaviour.capacity, 100.0)

    def temperatures_c(self) -> dict[str, float]:
        """Return the readings of its sensors."""
        heat = self.behaviour.heat
        if heat is None:
            return {}
        return {
            n: s.stuck if isinstance(s, StuckSensor) else round(self.warm_c + s, 1)
            for n, s in heat.sensors.items()
        }

    def idle(self, time_ns: float) -> None:
        """Let time pass without I/O."""
        self._drain(time_ns)
        self.age(time_ns)

    def age(self, time_ns: float) -> None:
        """Let time pass for all but the write cache."""
        self._warm(time_ns, 0.0)
        self.clock_ns += round(time_ns)

    def serve(
        self, work: Workload, span_ns: float, noise: float, most_ios: float, position_bytes: float
    ) -> tuple[float, float]:
        """Return I/Os served in a time span, and the time used, less where the work ran out.

        Parameters
        ----------
        noise : float
            A factor on the rate.
        position_bytes : float
            Where on the medium, for those that spin.
        """
        behaviour = self.behaviour
        heat = behaviour.heat
        if heat is not None:
            self.throttling = self.warm_c >= heat.throttle_at or (
                self.throttling and self.warm_c > heat.resume_at
            )
            if self.throttling:
                noise *= heat.throttle_share
        writing = 1 - work.read_percent / 100
        if (
            writing
            and behaviour.hiccup_every
            and self.clock_ns % behaviour.hiccup_every < behaviour.hiccup_time
        ):
            noise *= 0.01
        cached = writing > 0 and behaviour.platter is None
        io_bytes = work.block_bytes * writing * behaviour.squeeze(work)
        ios, used = 0.0, 0.0
        for phase in PHASES if cached else PHASES[:1]:
            room = self._room(phase) / io_bytes if cached else math.inf
            if room <= 0:
                continue
            rate = self._rate(work, phase, position_bytes) * noise
            if work.rate_limit_bytes_s is not None:
                rate = min(rate, work.rate_limit_bytes_s / work.block_bytes)
            served = min(rate * (span_ns - used) / 1e9, most_ios - ios, room)
            ios += served
            used += served / rate * 1e9
            if writing:
                self._wear(work, served * io_bytes)
            if phase == "cache" and cached:
                self.cached_bytes += served * io_bytes
            else:
                self.past_cache_bytes += served * io_bytes
            if served < room or used >= span_ns or ios >= most_ios:
                break
        used = max(used, 1.0)
        if not writing:
            self._drain(used)
        self._warm(used, ios * work.block_bytes / used * 1e9)
        self.clock_ns += round(used)
        return ios, used

    def _room(self, phase: str) -> float:
        """Return bytes until a phase of writing hands over to the next."""
        behaviour = self.behaviour
        if phase == "cache":
            return max(behaviour.cache_bytes(self.fill_percent) - self.cached_bytes, 0.0)
        if phase == "direct" and behaviour.fold_after:
            return max(behaviour.fold_after - self.past_cache_bytes, 0.0)
        return math.inf

    @property
    def amplification(self) -> float:
        """Return bytes of flash for a byte written just now, its mapping left aside."""
        steady = self.behaviour.amplification(round(self._valid_bytes, -6))
        return 1 + (steady - 1) * self.scattered

    def _wear(self, work: Workload, written_bytes: float) -> None:
        """Count written bytes, and their effect on the flash."""
        behaviour = self.behaviour
        self.host_bytes += written_bytes
        self.flash_bytes += written_bytes * (
            self.amplification * behaviour.mapped(work) if behaviour.flash_size else 1.0
        )
        if not behaviour.flash_size:
            return
        self.pass_bytes += written_bytes
        span = float(work.span_bytes)
        # At random some places are met twice before others are met at all.
        covered = -math.expm1(-self.pass_bytes / span) * span if work.random else self.pass_bytes
        self._valid_bytes = max(self.used_bytes, min(covered, span))
        data = max(self.used_bytes, span, 1.0)
        if work.random:
            # Order is forgotten once so much was written as is spare: no block is free any more.
            spare = max(behaviour.flash_size - data, 0.01 * data)
            self.scattered += (1 - self.scattered) * -math.expm1(-written_bytes / spare)
        else:
            self.scattered *= math.exp(-written_bytes / (IN_ORDER * data))

    def begin(self) -> None:
        """Begin a pass."""
        self.pass_bytes = 0.0
        self._valid_bytes = self.used_bytes

    def purge(self) -> None:
        """As new."""
        self.cached_bytes = self.past_cache_bytes = self.used_bytes = self.scattered = 0.0

    def _rate(self, work: Workload, phase: str, position_bytes: float) -> float:
        """Return I/Os a second without noise, cached because slices repeat."""
        behaviour = self.behaviour
        if behaviour.flash_size and phase == "direct":
            return behaviour.iops(work, write_rate=behaviour.direct_write_rate / self.amplification)
        if behaviour.platter is not None:
            return behaviour.iops(work, at_share=position_bytes / behaviour.capacity)
        fill = self.fill_percent
        if self._rates_of is not work or self._rates_at != fill:
            self._rates, self._rates_of, self._rates_at = {}, work, fill
        if phase not in self._rates:
            taken = {"cache": behaviour.write_rate, "direct": behaviour.direct_write_rate}.get(
                phase, behaviour.folding_rate
            )
            slowed = 1.0 if phase == "cache" else behaviour.crowding(fill)
            self._rates[phase] = behaviour.iops(
                work, write_rate=(taken or behaviour.direct_write_rate) * slowed
            )
        return self._rates[phase]

    def _drain(self, time_ns: float) -> None:
        self.cached_bytes = max(0.0, self.cached_bytes - self.behaviour.drain_rate * time_ns / 1e9)
        self.past_cache_bytes = max(
            0.0, self.past_cache_bytes - self.behaviour.drain_rate * time_ns / 1e9
        )

    def _warm(self, time_ns: float, rate_bytes_s: float) -> None:
        heat = self.behaviour.heat
        if heat is None:
            return
        load = min(rate_bytes_s / max(self.behaviour.read_rate, self.behaviour.write_rate), 1.0)
        end = heat.idle + (heat.full - heat.idle) * load
        self.warm_c = end + (self.warm_c - end) * math.exp(-time_ns / heat.time)
