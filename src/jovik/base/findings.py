"""Findings: typed statements drawn from the traces of a step, and the JSON that keeps them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from types import MappingProxyType
from typing import ClassVar, TypeVar

from jovik.base.interval import Interval

CLIFF_FRACTION = 0.20
"""A fall by this fraction or more is a cliff. A smaller one may be fluctuation."""

T = TypeVar("T")


class Shape(StrEnum):
    """The shape of the rate within a stretch of a long write."""

    LEVEL = "level"
    SLOPE = "slope"
    ALTERNATING = "alternating"


@dataclass(frozen=True)
class Level:
    """A stretch of a long write of one shape, with its mean rate.

    `spread` is the standard deviation of its slices as a share of the rate. A slope goes
    `from_bytes_s` to `to_bytes_s`; an alternating stretch between these two, `period_s` for both.
    """

    start_s: float
    end_s: float
    start_bytes: int
    end_bytes: int
    rate_bytes_s: Interval
    spread: float
    shape: Shape = Shape.LEVEL
    from_bytes_s: float | None = None
    to_bytes_s: float | None = None
    period_s: float | None = None


@dataclass(frozen=True)
class RateDrop:
    """A fall of the rate: where, the 95 % region of the place, and the rates on both sides.

    `best_bytes_s` is the best level before it, which it is judged by.
    """

    at_bytes: int
    at_s: float
    low_bytes: int
    high_bytes: int
    before_bytes_s: float
    after_bytes_s: float
    best_bytes_s: float | None = None

    @property
    def deep(self) -> bool:
        """Return True if it is a cliff and no wavering."""
        return self.after_bytes_s <= (1 - CLIFF_FRACTION) * (
            self.best_bytes_s or self.before_bytes_s
        )


class NotSustained(StrEnum):
    """Why a long write has no sustained rate."""

    UNSTEADY = "it was not steady at its end"
    SHORT = "its last level was too short"


@dataclass(frozen=True)
class Decay:
    """A rate that passes for steady and still falls.

    `fall` is by how much over the steady window, as a share of its mean; `level` what it
    approaches, in the unit of the rate, or None if no level is in sight.
    """

    fall: float
    level: float | None = None


LEAST_SUSTAINED_SHARE = 0.10
LEAST_SUSTAINED_S = 30.0
"""A steady end shorter than this share of the write, or than this, sustains nothing yet."""


@dataclass(frozen=True)
class LongWrite:
    """The findings of a long write.

    `would_see` is the smallest fall, as a share of the rate, that would surely have been found;
    `would_see_head_s` how long the smallest write cache at the beginning lasts. `steady_from_s` is
    from when on the SNIA test holds to the end, None if it does not, and `steady_bytes_s` the
    mean rate from then on. `decay` is set if it still falls.
    """

    JSON_DERIVED: ClassVar[tuple[str, ...]] = ("cliff",)

    block_bytes: int
    total_bytes: int
    seconds: float
    parts: tuple[Level, ...]
    falls: tuple[RateDrop, ...]
    would_see: float
    steady_from_s: float | None
    steady_bytes_s: Interval | None = None
    would_see_head_s: float | None = None
    decay: Decay | None = None

    @property
    def cliff(self) -> RateDrop | None:
        """Return the first deep fall."""
        return next((f for f in self.falls if f.deep), None)

    @property
    def slope(self) -> Level | None:
        """Return the first stretch over which it declines by as much as a cliff falls."""
        return next(
            (
                p
                for p in self.parts
                if p.shape is Shape.SLOPE
                and (p.to_bytes_s or 0.0) <= (1 - CLIFF_FRACTION) * (p.from_bytes_s or 0.0)
            ),
            None,
        )

    @property
    def steady_bytes(self) -> Interval | None:
        """Return the mean rate of the steady end, whatever its duration."""
        if self.steady_from_s is None:
            return None
        # Records of 0.1 have no rate of their own for it.
        return self.steady_bytes_s or self.parts[-1].rate_bytes_s

    @property
    def sustained(self) -> Interval | NotSustained:
        """Return the sustained rate, bytes a second, or the reason why there is none."""
        rate = self.steady_bytes
        if rate is None or self.steady_from_s is None:
            return NotSustained.UNSTEADY
        lasted = self.seconds - max(self.steady_from_s, self._last_fall_s)
        least = max(LEAST_SUSTAINED_SHARE * self.seconds, LEAST_SUSTAINED_S)
        return rate if lasted >= least - 0.1 else NotSustained.SHORT

    @property
    def _last_fall_s(self) -> float:
        return max((f.at_s for f in self.falls), default=0.0)


@dataclass(frozen=True)
class DropOuts:
    """Pauses, moments below half the usual rate: how many, their time and the longest, seconds.

    `every_s` is how often they come, where they come regularly.
    """

    count: int
    seconds: float
    longest_s: float
    every_s: float | None = None


@dataclass(frozen=True)
class CliffAgreement:
    """The cliffs of several long writes (None: no cliff), and their common position."""

    places_bytes: tuple[int | None, ...]
    place_bytes: Interval | None
    agree: bool


@dataclass(frozen=True)
class ScanFinding:
    """The findings of a scan. `slow` and `unreadable` are numbers of zones.

    `access_ns` is of single reads anywhere in the span, where they were made, with the ends of its
    95 % interval; `mean_bytes_s` is of all zones, with its own.
    """

    JSON_DERIVED: ClassVar[tuple[str, ...]] = ("first_over_last",)

    zones: int
    zone_bytes: int
    first_bytes_s: float
    last_bytes_s: float
    median_bytes_s: float
    slowest_bytes_s: float
    access_ns: float | None
    slowest_access_ns: float | None
    slow: tuple[int, ...]
    unreadable: tuple[int, ...]
    access_low_ns: float | None = None
    access_high_ns: float | None = None
    mean_bytes_s: float | None = None
    mean_low_bytes_s: float | None = None
    mean_high_bytes_s: float | None = None

    @property
    def ratio(self) -> float:
        """First over last rate."""
        return self.first_bytes_s / self.last_bytes_s if self.last_bytes_s else math.inf

    @property
    def first_over_last(self) -> float | None:
        """Return the first rate over the last, or None if nothing was read at the end."""
        return self.ratio if math.isfinite(self.ratio) else None


@dataclass(frozen=True)
class CopyFinding:
    """The result of a copy.

    `of_sequential` is its share of the run's sequential rate, and `sequential` the phrase that rate
    is of. `slowest_second_bytes_s` is the least that moved in any whole second, and `slow_share`
    the share of those seconds with under half of its best level. If the first pass differs from
    those after it, `seconds` is the first one's, which found everything cold.
    """

    files: int
    bytes: int
    seconds: float
    files_s: float
    sync_share: float
    of_sequential: float | None
    sequential: str | None = None
    slowest_second_bytes_s: float | None = None
    slow_share: float | None = None


@dataclass(frozen=True)
class TemperatureRange:
    """Degrees Celsius of the warmest trusted sensor: at the start, and at most."""

    start_c: float
    peak_c: float


@dataclass(frozen=True)
class LostData:
    """Data that did not come back as it was written, in bytes.

    `holds_bytes` is what the drive really holds, where that is less than it says.
    """

    written_bytes: int
    lost_bytes: int
    holds_bytes: int | None


@dataclass(frozen=True)
class FailedRange:
    """Adjacent blocks that failed: the first byte, the byte after the last, and the direction."""

    first_byte: int
    end_byte: int
    direction: str


@dataclass(frozen=True)
class FailedIos:
    """Reads and writes that the drive failed, and where: at most some 32 blocks of each thread."""

    count: int
    ranges: tuple[FailedRange, ...] = ()


@dataclass(frozen=True)
class Disconnection:
    """The drive disappeared during a pass.

    `after_s` is the time within the pass. `confirmed_bytes` is where the last write that the drive
    confirmed in it ended, or None if it confirmed none.
    """

    after_s: float
    confirmed_bytes: int | None


class Disturbance(StrEnum):
    """Other users of the drive or the machine during a pass."""

    OTHER_IO = "other I/O"
    HOST = "host"
    OTHER_PROGRAMS = "other programs"


@dataclass(frozen=True)
class DisturbanceAmount:
    """How much of something else there was during a step.

    `worst` is the largest share: of the pass's bytes, or of the machine's cores; `passes` how many
    were hit, `amount_bytes` what others moved, where they did.
    """

    sort: Disturbance
    worst: float
    passes: int
    amount_bytes: int | None = None

    @property
    def bad(self) -> bool:
        """Return True if it may well have changed the figure."""
        return self.worst >= BAD_DISTURBANCE


BAD_DISTURBANCE = 0.10
"""From this share on a step was badly disturbed."""


@dataclass(frozen=True)
class ReplayRound:
    """One pass of a replay: its times, and the host's overhead taken off each think time."""

    elapsed_ns: int
    waited_ns: int
    overhead_read_ns: int
    overhead_write_ns: int
    busy: bool


@dataclass(frozen=True)
class ReplayFinding:
    """The result of a replay, in seconds, with intervals over the passes.

    `late` is the share of requests of a paced replay that came late, in the worst pass; `rounds`
    are the passes that the intervals are of.
    """

    elapsed_s: Interval
    waited_s: Interval
    recorded_s: float
    recorded_waited_s: float
    requests: int
    late: float = 0.0
    rounds: tuple[ReplayRound, ...] = ()


@dataclass(frozen=True)
class Wear:
    """The bytes of a step by the drive's own counters: from the host, and to its medium.

    `medium_bytes` is None if the drive keeps no such count.
    """

    host_bytes: int
    medium_bytes: int | None = None

    @property
    def amplification(self) -> float | None:
        """Return bytes of medium for each byte that was written to the drive."""
        if self.medium_bytes is None or self.host_bytes <= 0:
            return None
        return self.medium_bytes / self.host_bytes


@dataclass(frozen=True)
class SteadyState:
    """Rounds that were repeated until steady, by the test of the SNIA specification.

    Attributes
    ----------
    figure : str
        Which figure of the rounds decided: ``rate`` (and so IOPS) or ``latency`` (its mean).
    rounds : int
        Rounds made.
    first, count : int
        The window: its first round, from 1, and how many rounds it has.
    steady : bool
        Whether it passes; the window is the last rounds where none did.
    excursion, slope : float
        Over the window, of this step's own figure: highest less lowest, and what the line through
        the rounds rises or falls by, as shares of their mean.
    tracked : tuple of str
        Phrases of the steps whose figures decided.
    decay : Decay or None
        Whether a rate still falls, over all rounds.
    """

    figure: str
    rounds: int
    first: int
    count: int
    steady: bool
    excursion: float
    slope: float
    tracked: tuple[str, ...] = ()
    decay: Decay | None = None

    def window(self, values: Sequence[T]) -> Sequence[T]:
        """Of a value for each round those of the window."""
        return values[self.first - 1 : self.first - 1 + self.count]


@dataclass(frozen=True)
class Findings:
    """All findings of one step. None if there is no such finding.

    `write_cache_full` is whether more had been written before it than the drive's write cache
    holds. `end_drop` is where most passes of a short write fall near their end. `stuck_sensors` are
    those that never moved. `ladder` is the phrase of the ladder that the step is a rung of.
    """

    JSON_KEYS: ClassVar[Mapping[str, str]] = MappingProxyType(
        {"scan": "surface", "disturbances": "disturbed_by"}
    )
    JSON_SPARSE: ClassVar[bool] = True

    drop_outs: DropOuts | None = None
    long_write: LongWrite | None = None
    end_drop: RateDrop | None = None
    cliffs: CliffAgreement | None = None
    scan: ScanFinding | None = None
    copy: CopyFinding | None = None
    temperature: TemperatureRange | None = None
    stuck_sensors: tuple[str, ...] = ()
    disturbances: tuple[Disturbance, ...] = ()
    disturbed: tuple[DisturbanceAmount, ...] = ()
    write_cache_full: bool = False
    lost: LostData | None = None
    failed: FailedIos | None = None
    disconnected: Disconnection | None = None
    ladder: str | None = None
    steady: SteadyState | None = None
    wear: Wear | None = None
    replay: ReplayFinding | None = None
