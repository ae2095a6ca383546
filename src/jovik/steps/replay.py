"""A replay: a program's recorded requests, repeated one by one."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path, PurePath
from typing import TYPE_CHECKING, ClassVar, Protocol

from typing_extensions import override

from jovik.base.errors import UnknownRecordingError, UsageError
from jovik.base.io_session import ReplayJob, Workload
from jovik.base.quantities import show_size, show_time
from jovik.base.shipped import shipped_names, shipped_path
from jovik.steps.cost import PlanCost
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor

if TYPE_CHECKING:
    from jovik.analysis.step_result import StepResult
    from jovik.base.io_session import Session
    from jovik.base.recording import Recording
    from jovik.base.trace import ReplayRecord, Trace
    from jovik.runs.running_step import RunningStep

PACES = {
    "dependent": (),
    "recorded": ("at", "its", "pace"),
    "fast": ("as", "fast", "as", "it", "goes"),
}


SUFFIX = ".jrec"


class Library(Protocol):
    """A library of recordings by name: an open shelf."""

    def recording(self, name: str) -> tuple[Recording, str] | None:
        """Return the recording of this name and its digest, or None if there is none."""


LIBRARIES: list[Library] = []
"""Open libraries. A replay that names no file looks there, in the last one first."""


def recording_names() -> list[str]:
    """Return recordings that ship with Jovik, made by simulation (tools/recordings.py)."""
    return shipped_names("recording")


def is_recording(name: str) -> bool:
    """Return True if a recording has this name: shipped, a file, or on an open shelf."""
    if name in recording_names() or (name.endswith(SUFFIX) and Path(name).is_file()):
        return True
    return any(library.recording(name) is not None for library in LIBRARIES)


@dataclass(frozen=True)
class ReplayStep(Step):
    """``replay "FILE" [at its pace|as fast as it goes|at each pace] [verify]``.

    `path` is a file, or the name of a recording on the shelf, or of one that ships with Jovik.
    `digest` tells the recording from any other of its name; it is read when the target is known.
    """

    word: ClassVar[str] = "replay"

    path: str
    pace: str = "dependent"
    digest: str = ""
    verify: bool = False

    reads = True

    @property
    def writes(self) -> bool:
        """Return True if the recording writes, or if it cannot be read now."""
        try:
            return self.recording().writes
        except UsageError:
            return True

    @override
    def parts(self, *, timed: bool = True) -> list[str]:
        # Results of one recording are alike wherever its file lay.
        name = self.path if timed else PurePath(self.path).name
        parts = [f'replay "{name}"']
        parts += [" ".join(PACES[self.pace])] if self.pace != "dependent" else []
        parts += ["verify"] if self.verify else []
        return parts + ([f"sum {self.digest}"] if self.digest else [])

    @property
    @override
    def label(self) -> str:
        pace = f", {' '.join(PACES[self.pace])}" if self.pace != "dependent" else ""
        return f"replay of {PurePath(self.path).stem}{pace}"

    @classmethod
    @override
    def read(cls, cursor: Cursor) -> ReplayStep:
        # What follows ``replay``.
        word = cursor.next
        if word is None or not (len(word.text) > 2 and word.text[0] == word.text[-1] == '"'):
            raise cursor.wrong('a recording in quotes, such as "start.jrec"')
        cursor.at += 1
        pace = next((p for p, words in PACES.items() if words and cursor.accept(*words)), "")
        verify = cursor.accept("verify")
        digest = ""
        if cursor.accept("sum") and cursor.next is not None:
            digest = cursor.next.text
            cursor.at += 1
        if cursor.next is not None:
            raise cursor.wrong(
                "'at its pace', 'as fast as it goes', 'at each pace', 'verify', or nothing more"
            )
        return cls(word.text[1:-1], pace or "dependent", digest, verify)

    def recording(self) -> Recording:
        """Return the recording itself.

        Raises
        ------
        UsageError
            It cannot be read, or is another one than it was.
        """
        recording, digest = self._read()
        if self.digest and digest != self.digest:
            raise UsageError(
                f"{self.path} is another recording than this run began with",
                "give it back its own name",
            )
        return recording

    @override
    def pinned(self) -> ReplayStep:
        # With the digest of the recording.
        self.recording()
        _, digest = self._read()
        return replace(self, digest=digest)

    def _read(self) -> tuple[Recording, str]:
        path = Path(self.path)
        if self.path in recording_names():
            path = shipped_path("recording", self.path)
        elif not path.is_file():
            for library in reversed(LIBRARIES):
                if (stored := library.recording(self.path)) is not None:
                    return stored
            raise UnknownRecordingError(
                "recording",
                self.path,
                recording_names(),
                "or the path of one, or its name on the shelf: jovik record list",
            )
        return _kept(str(path), path.stat().st_mtime_ns)

    def _area(self, session: Session) -> Workload:
        """Return its range as a workload, which lays it out and allows its writes."""
        recording = self.recording()
        room = session.room_bytes() or recording.span_bytes
        return Workload(
            random=True,
            read_percent=50 if recording.writes else 100,
            block_bytes=4096,
            depth=max(recording.depth, 1),
            span_bytes=min(recording.span_bytes, max(room // 2**20, 1) * 2**20),
            seed=0,
            time_ns=1,
        )

    @override
    def check(self, session: Session) -> None:
        if not len(self.recording()):
            raise UsageError(f"{self.path} holds no request", "record again, on the right drive")
        session.check(self._area(session))

    @override
    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        return float(self.recording().elapsed_ns)

    @override
    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        recording, work = self.recording(), self._area(session)
        missing = max(session.to_lay_out_bytes(work) - cost.laid_out_bytes, 0)
        cost.certain_bytes += missing
        cost.certain_bytes += recording.written_bytes * passes
        if self.pace == "dependent" and work.writes and session.engine != "model":
            from jovik.base.chain import WRITTEN_BYTES

            cost.certain_bytes += WRITTEN_BYTES
        cost.laid_out_bytes = max(cost.laid_out_bytes, session.to_lay_out_bytes(work))
        cost.take_space(work.span_bytes)

    def run(self, run: RunningStep) -> StepResult:
        """Replay it, pass after pass."""
        recording, area = self.recording(), self._area(run.session)
        run.begin(self, run.session.engine, area.span_bytes)

        def one_pass(number: int) -> Trace:
            run.prepare(area)
            job = ReplayJob(
                recording,
                self.pace,
                run.seed(number),
                run.context.options.stop_on_error,
                verify=self.verify,
            )
            return run.session.replay(job, run.progress(number))

        notes = []
        if area.span_bytes < recording.span_bytes:
            notes.append(
                f"its range of {show_size(recording.span_bytes)} is folded into "
                f"{show_size(area.span_bytes)}, the available space"
            )
        traces = run.repeat(one_pass)
        notes += overhead_notes([t.replay for t in traces if t.replay is not None])
        if recording.lost:
            notes.append(f"{recording.lost:,} events were lost when it was recorded")
        return run.finish(traces, notes)


def overhead_notes(records: Sequence[ReplayRecord]) -> list[str]:
    """Return the time subtracted from think times, if any was, or that the machine was busy.

    To one digit: the kernel counts whole milliseconds over 150 requests.
    """
    busy = [r for r in records if r.busy]
    if busy:
        shortest, longest = (
            min(r.overhead_from_ns for r in busy),
            max(r.overhead_to_ns for r in busy),
        )
        return [
            f"the machine was busy or limited around {len(busy)} of {len(records)} passes: a "
            f"request took {show_time(shortest, 1)} to {show_time(longest, 1)} longer to a program "
            "than to the drive itself, so that these times are uncertain"
        ]
    longer = {
        "read": round(statistics.median(r.overhead_read_ns for r in records)) if records else 0,
        "write": round(statistics.median(r.overhead_write_ns for r in records)) if records else 0,
    }
    words = " and ".join(f"a {word} about {show_time(ns, 1)}" for word, ns in longer.items() if ns)
    if not words:
        return []
    return [
        f"here {words} longer to a program than to the drive itself: taken off the recorded think "
        "times, which include it already"
    ]


@lru_cache(2)
def _kept(path: str, _: int) -> tuple[Recording, str]:
    """Return a recording; one that was read before is the same again, as long as its file is."""
    from jovik.base.recording_file import read_recording

    return read_recording(Path(path))
