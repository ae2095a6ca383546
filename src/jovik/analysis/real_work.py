"""Streams, copies and recorded programs as percentages of the advertised speed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum

from jovik.analysis.comparability import long_write_of, rate_of
from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval
from jovik.sheets.sheet import Claim
from jovik.steps import IoStep


class WorkKind(IntEnum):
    """How near to real work a step is, from the synthetic on."""

    STREAM = 0
    COPY = 1
    PROGRAM = 2


@dataclass(frozen=True)
class WorkShare:
    """The percentage of the claimed sequential rate that one step reached.

    Attributes
    ----------
    rate_bytes_s : Interval
        Of a program while the drive was waited for, so that its own thinking is not counted.
    claimed_bytes_s : float
        Of mixed work, both claims by their share of the bytes.
    """

    kind: WorkKind
    result: StepResult
    rate_bytes_s: Interval
    claimed_bytes_s: float

    @property
    def share(self) -> Interval:
        """Return the rate as a share of the claim."""
        return self.rate_bytes_s.scaled(1 / self.claimed_bytes_s)


def work_shares(claims: Sequence[Claim], results: Sequence[StepResult]) -> list[WorkShare]:
    """Streams, copies and programs, those nearest to real work last.

    Parameters
    ----------
    claims : sequence of Claim
        Of the sequential ones the largest of each direction counts; sustained and steady ones do
        not.
    results : sequence of StepResult
        Of one drive; of streams the fastest of each direction is taken, of filled drives none.
    """
    claimed = {
        percent: max(
            (
                c.figure
                for c in claims
                if not c.random
                and c.unit == "bytes/s"
                and c.read_percent == percent
                and not (c.sustained or c.steady)
            ),
            default=None,
        )
        for percent in (100, 0)
    }
    shares = [
        x
        for r in results
        if r.passes
        and r.conditions.filled_percent is None
        and (x := _share(r, claimed)) is not None
    ]
    streams: dict[bool, WorkShare] = {}
    for x in shares:
        if x.kind is WorkKind.STREAM:
            reads = _read_share(x.result) > 0.5
            best = streams.get(reads)
            if best is None or x.rate_bytes_s.median > best.rate_bytes_s.median:
                streams[reads] = x
    chosen = [x for x in shares if x.kind is not WorkKind.STREAM or x in streams.values()]
    return sorted(chosen, key=lambda x: (x.kind, -x.share.median))


def _share(result: StepResult, claimed: dict[int, float | None]) -> WorkShare | None:
    step = result.step
    replay = result.findings.replay
    if replay is not None:
        moved = _moved(result)
        waited = replay.waited_s
        if waited.median <= 0 or moved <= 0:
            return None
        rate = Interval(
            moved / waited.median,
            moved / waited.high if waited.high else None,
            moved / waited.low if waited.low and waited.low > 0 else None,
        )
        kind = WorkKind.PROGRAM
    elif result.findings.copy is not None:
        kind, rate = WorkKind.COPY, rate_of(result)
    elif (
        isinstance(step, IoStep)
        and step.plain
        and not step.random
        and long_write_of(result) is None
    ):
        if step.read_percent not in (0, 100):
            return None
        kind, rate = WorkKind.STREAM, rate_of(result)
    else:
        return None
    share = _read_share(result)
    parts = [(share, claimed[100]), (1 - share, claimed[0])]
    if any(part > 0 and not figure for part, figure in parts):
        return None
    return WorkShare(
        kind, result, rate, 1 / sum(part / figure for part, figure in parts if part and figure)
    )


def _moved(result: StepResult) -> float:
    """Return bytes of one pass."""
    return sum(p.read_bytes + p.written_bytes for p in result.passes) / len(result.passes)


def _read_share(result: StepResult) -> float:
    read = sum(p.read_bytes for p in result.passes)
    written = sum(p.written_bytes for p in result.passes)
    return read / (read + written) if read + written else 0.0
