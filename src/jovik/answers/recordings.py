"""Recordings of programs: the answers of `jovik record show` and `jovik record list`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from jovik.analysis.recording import RecordingSummary, summary_of
from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.plain_data import keyed, plain
from jovik.base.recording import Recording
from jovik.queries.recordings import KnownRecording, known_recordings, recording_called
from jovik.shelf.store import Shelf
from jovik.tables.recording import known_table, recording_table
from jovik.tables.table import Table

if TYPE_CHECKING:
    from jovik.runs.recorder import Taken


@dataclass(frozen=True)
class RecordingAnswer(Answer):
    """The content of a recording, and the durations of several takes."""

    schema: ClassVar[str] = "recording"

    recording: Recording
    digest: str
    summary: RecordingSummary
    taken: Taken | None = None

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        times = None
        if self.taken is not None:
            ends = keyed(self.taken, median_s="elapsed_s.median", low_s="elapsed_s.low")
            times = {
                "count": len(self.taken.recordings),
                **ends,
                **keyed(self.taken, "cold_files", "held_bytes", high_s="elapsed_s.high"),
            }
        blocks = [{"bytes": b, "share": s} for b, s in self.summary.blocks]
        return (
            {"times": times, "name": self.recording.name, "digest": self.digest}
            | keyed(self.recording, "drive", "made")
            | {"requests": len(self.recording)}
            | keyed(self.recording, "span_bytes", "lost", "status")
            | keyed(self.summary, *COUNTS, "mean_depth", most_depth="depth")
            | keyed(self.summary, "in_order", "hot_share", "by_others")
            | {"blocks": blocks, "at_drive": dict(self.summary.parts)}
        )

    def csv(self) -> Csv:
        """Return the single figures in a row."""
        figures = {k: v for k, v in self.data().items() if not isinstance(v, list | dict)}
        return Csv(list(figures), [list(figures.values())])

    def tables(self) -> Sequence[Table]:
        """Return the figures, the time spent waiting for the drive first."""
        return [recording_table(self.recording, self.summary, self.taken)]


COUNTS = (
    *("elapsed_ns", "waited_ns", "above_ns", "read_bytes", "written_bytes"),
    *("reads", "writes", "flushes", "discards"),
)
"""Figures of a summary that documents have under the same names."""


@dataclass(frozen=True)
class RecordingsAnswer(Answer):
    """Recordings that a replay finds by name."""

    schema: ClassVar[str] = "recordings"

    recordings: tuple[KnownRecording, ...]

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        return {"recordings": plain(self.recordings)}

    def csv(self) -> Csv:
        """Return a row for each recording."""
        return csv_of(self.recordings, *KnownRecording.__dataclass_fields__)

    def tables(self) -> Sequence[Table]:
        """Return a row for each recording."""
        return [known_table(self.recordings)]


def recording(
    name: str, shelf_at: str | None = None, taken: Taken | None = None
) -> RecordingAnswer:
    """Return a recording by its file, or by its name on a shelf."""
    shown, digest = recording_called(name, shelf_at)
    return RecordingAnswer(shown, digest, summary_of(shown), taken)


def recordings(shelf: Shelf) -> RecordingsAnswer:
    """List the recordings on the shelf, and those that ship with Jovik."""
    return RecordingsAnswer(tuple(known_recordings(shelf)))
