"""The protocol between a run and its I/O: io_uring, system calls or a simulator.

A `Session` is one target made ready. It runs one `Workload` at a time and gives back a `Trace`; it
fills, gives back, copies and rests. The bench cannot tell the implementations apart, and neither
side knows phrases, shelves or tables.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

if TYPE_CHECKING:
    from jovik.base.recording import Recording
    from jovik.base.trace import Trace


@dataclass(frozen=True)
class Workload:
    """One pass, every number resolved.

    Attributes
    ----------
    random : bool
        Random offsets from `seed`, else sequential.
    read_percent : int
        100 is reading, 0 is writing, between is mixed.
    block_bytes, span_bytes : int
        Size of an I/O, and of the area it falls in; the span is a multiple of the block.
    depth, workers : int
        I/Os in flight for each worker, and workers.
    time_ns, amount_bytes : int or None
        The pass ends at whichever comes first; with neither, when a person stops it.
    start_bytes : int
        Where the area begins, a multiple of the block.
    fresh : bool
        Write space that nothing was laid out in.
    rate_limit_bytes_s : float or None
        Pace.
    durable : bool
        Each write is on the medium before it counts as complete.
    compressible_percent : int
        Share of each 4 KiB of payload that is zeros.
    verify : bool
        Read back written data and check every stamp.
    seed : int
        Of the offsets; the same seed gives the same offsets.
    stop_on_error : bool
        End the pass at the first error instead of counting on.
    """

    random: bool
    read_percent: int
    block_bytes: int
    depth: int
    span_bytes: int
    seed: int
    workers: int = 1
    time_ns: int | None = None
    amount_bytes: int | None = None
    fresh: bool = False
    rate_limit_bytes_s: float | None = None
    durable: bool = False
    compressible_percent: int = 0
    verify: bool = False
    stop_on_error: bool = True
    start_bytes: int = 0

    @property
    def endless(self) -> bool:
        """Return True if only the user ends it: an interrupt then ends the pass and not the run."""
        return self.time_ns is None and self.amount_bytes is None

    @property
    def reads(self) -> bool:
        """Return True if any I/O reads."""
        return self.read_percent > 0

    @property
    def writes(self) -> bool:
        """Return True if any I/O writes."""
        return self.read_percent < 100


@dataclass(frozen=True)
class Progress:
    """A pass in progress. `rate_bytes_s` is of the last moments, not of the whole pass.

    `done_bytes` is both directions together, `written_bytes` one of them. `p50_ns` and `p99_ns` are
    latencies of the pass so far; what cannot be told is None.
    """

    elapsed_ns: int
    done_bytes: int
    rate_bytes_s: float
    errors: int = 0
    p50_ns: float | None = None
    p99_ns: float | None = None
    temperature_c: float | None = None
    written_bytes: int = 0


ProgressCallback = Callable[[Progress], None]
"""Called a few times a second during a pass, never from the measuring loop."""


def no_progress(_: Progress) -> None:
    """Show nothing."""


@dataclass(frozen=True)
class CopyJob:
    """Files to be copied onto the target or off it.

    Attributes
    ----------
    inward : bool
    sizes : tuple of int
        Bytes of each made-up file; empty if there is a folder.
    folder : str or None
        A person's own files, which are read and never changed.
    seed : int
        Of the content of made-up files.
    """

    inward: bool
    sizes: tuple[int, ...] = ()
    folder: str | None = None
    seed: int = 1


@dataclass(frozen=True)
class ReplayJob:
    """A recording to be done again.

    Attributes
    ----------
    recording : Recording
    pace : str
        ``dependent``: each request once those that had completed before it have, and after its
        think time; ``recorded``: at the recorded times; ``fast``: dependent, without think time.
    seed : int
        Of written data.
    stop_on_error : bool
    verify : bool
        Read written data afterwards, and compare it with its stamps.
    """

    recording: Recording
    pace: str = "dependent"
    seed: int = 1
    stop_on_error: bool = True
    verify: bool = False

    @property
    def tail_ns(self) -> int:
        """Return how long the recorded program ran after its last request, or 0 in haste."""
        if self.pace == "fast":
            return 0
        return max(self.recording.elapsed_ns - int(self.recording.done_ns.max(initial=0)), 0)


@dataclass(frozen=True)
class DiscardResult:
    """The result of discarding space.

    A word on it for the reader, empty if all went as wished.
    """

    freed_bytes: int = 0
    note: str = ""


@dataclass(frozen=True)
class PurgeResult:
    """The result of a purge.

    Attributes
    ----------
    method : str
        The method in words.
    answer : str
        The answer of the device.
    unreached : str
        The parts that it did not reach, empty if it reached everything.
    """

    method: str
    answer: str
    unreached: str = ""


@dataclass(frozen=True)
class WearCounters:
    """Bytes written in a drive's life: by the host, and to its medium (None: not counted)."""

    host_bytes: int
    medium_bytes: int | None = None


class Session(Protocol):
    """One target prepared for passes, as a context manager that leaves nothing behind."""

    @property
    def engine(self) -> str:
        """Return which implementation this is, as recorded with each result."""

    def warm_up(self) -> None:
        """Do slow preparations once, before any clock starts."""

    def engine_for(self, work: Workload) -> str:
        """Return which implementation runs such a pass, if there is a choice."""

    @property
    def direct(self) -> bool:
        """Return True if the operating system's cache is out of the way."""

    @property
    def notes(self) -> tuple[str, ...]:
        """Return notes for the reader of any result of this session."""

    def check(self, work: Workload) -> None:
        """Refuse a workload that the target cannot take, before anything is written.

        Raises
        ------
        TargetError
            With the limit.
        """

    def to_lay_out_bytes(self, work: Workload) -> int:
        """Return bytes that `prepare` would have to write for this pass."""

    def prepare(self, work: Workload, watch: ProgressCallback) -> int:
        """Prepare the test file for the pass (laid out in full, or fresh).

        Returns
        -------
        int
            Bytes written.
        """

    def run(self, work: Workload, watch: ProgressCallback) -> Trace:
        """Return one pass.

        Raises
        ------
        KeyboardInterrupt
            After the I/O has stopped.
        """

    def ceiling_iops(self, work: Workload) -> float | None:
        """Return I/Os a second that the tester itself can do at this depth and with these workers.

        None if nothing is real.
        """

    def threads(self, work: Workload) -> int:
        """Return how many threads measure such a pass."""

    def fill_percent(self) -> float | None:
        """Return how full the target is, if that is known."""

    def now_ns(self) -> int:
        """Return the clock that this target lives by: virtual on a model drive."""

    def wait(self, time_ns: int) -> None:
        """Leave the drive alone for so long."""

    def temperatures_c(self) -> dict[str, float]:
        """Degrees by sensor, where the session itself can tell."""

    def free_bytes(self) -> int | None:
        """Return the bytes that may be written, without the space that must stay free.

        None if unknown.
        """

    def room_bytes(self) -> int | None:
        """Return the bytes that the test file may take, including its current size.

        The same all along a run.

        None if unknown.
        """

    def check_purge(self) -> None:
        """Refuse a purge before anything is written.

        Raises
        ------
        TargetError
            It must not be done here.
        """

    def purge(self) -> PurgeResult:
        """Make the drive as new, by the best that it offers.

        Raises
        ------
        TargetError
            It must not be done, or the drive refuses.
        """

    def wear_bytes(self) -> WearCounters | None:
        """Return the drive's own counters of written bytes, or None if it has none."""

    def capacity_bytes(self) -> int | None:
        """Return bytes that can be addressed without a file.

        None if there is a file system in between.
        """

    def to_fill_bytes(self, percent: int) -> int:
        """Return bytes that `fill` would write."""

    def fill(self, percent: int, seed: int, watch: ProgressCallback) -> Trace | None:
        """Write until the target is this full. Return None if it already is.

        Raises
        ------
        TargetError
            It must not be filled so far.
        """

    def empty(self) -> DiscardResult:
        """Discard all space that Jovik took, and inform the drive if possible."""

    def copy_size(self, job: CopyJob) -> tuple[int, int]:
        """Return how many files and bytes a job has.

        Raises
        ------
        TargetError
            There is no file system, no room, or the person's folder cannot be read.
        """

    def copy(self, job: CopyJob, watch: ProgressCallback) -> Trace:
        """Copy files. `copy_size` describes refusals. In the trace, an I/O is a file."""

    def replay(self, job: ReplayJob, watch: ProgressCallback) -> Trace:
        """Do a recording again, in the area that `prepare` laid out.

        Raises
        ------
        TargetError
            It cannot be done here.
        """

    def close(self) -> None:
        """Give everything back."""

    def __enter__(self) -> Session: ...

    def __exit__(self, *exc: object) -> None: ...
