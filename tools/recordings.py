"""Make the recordings that ship with Jovik, src/jovik/steps/recordings; `make recordings`.

None was taken of a real program. Each is simulated from the parameters below, which are assumptions
about what such a program does, on a model drive: batches of requests that are issued together, and
between them the time that the program takes for itself. A real one of yours: jovik record.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from jovik.base.io_session import ReplayJob
from jovik.base.recording import CHUNK, SYNC, Asker, Kind, Recording, made_recording
from jovik.base.recording_file import write_recording
from jovik.simulator import load_model
from jovik.simulator.drive_state import State
from jovik.simulator.replay import replayed

FOLDER = Path(__file__).parents[1] / "src" / "jovik" / "steps" / "recordings"
ON = "slate"
"""The model drive that they are simulated on."""


@dataclass(frozen=True)
class Phase:
    """A stretch of a program.

    Attributes
    ----------
    batches : int
        Times that it asks for something and waits for it.
    together : int
        Requests of a batch, all in flight at once.
    sizes : tuple of (bytes, weight)
    think_ms : float
        The program's own time between batches, on average (exponential).
    writes : float
        Share of the batches that write.
    in_order : float
        Share of the batches that go on where the one before ended.
    flush : float
        Share of the writing batches after which it waits for a flush.
    """

    batches: int
    together: int
    sizes: tuple[tuple[int, float], ...]
    think_ms: float
    writes: float = 0.0
    in_order: float = 0.0
    flush: float = 0.0


K, M = 1024, 2**20
SMALL = ((4 * K, 0.6), (8 * K, 0.2), (16 * K, 0.2))
PAGES = ((16 * K, 0.3), (64 * K, 0.4), (128 * K, 0.3))
PROGRAMS: dict[str, tuple[int, int, tuple[Phase, ...]]] = {
    # name: range in MiB, seed, phases
    "editor-start": (
        400,
        1,
        (
            Phase(900, 1, SMALL, 0.9),
            Phase(250, 4, PAGES, 2.4, in_order=0.6),
            Phase(700, 1, SMALL, 1.6, writes=0.05),
        ),
    ),
    "game-level": (
        900,
        2,
        (
            Phase(300, 1, SMALL, 1.5),
            Phase(420, 8, ((256 * K, 0.7), (64 * K, 0.3)), 6.0, in_order=0.8),
            Phase(300, 2, PAGES, 3.0),
        ),
    ),
    "system-boot": (
        800,
        3,
        (
            Phase(1500, 1, SMALL, 0.6),
            Phase(900, 4, PAGES, 1.8, in_order=0.4),
            Phase(1200, 2, SMALL, 1.1, writes=0.15, flush=0.1),
        ),
    ),
    "build-of-small-files": (
        300,
        4,
        (Phase(3500, 2, SMALL, 1.2, writes=0.35, in_order=0.2, flush=0.01),),
    ),
    "photo-import": (
        900,
        5,
        (
            Phase(420, 8, ((256 * K, 1.0),), 3.5, writes=1.0, in_order=0.95, flush=0.05),
            Phase(900, 1, SMALL, 1.0, writes=0.3, flush=0.2),
        ),
    ),
    "database-under-load": (
        600,
        6,
        (Phase(4000, 8, ((8 * K, 1.0),), 0.25, writes=0.3, flush=0.5),),
    ),
}


def made(name: str) -> Recording:
    """Return the recording of a program, with the times that the model drive would give it."""
    span, seed, phases = PROGRAMS[name]
    rng = np.random.default_rng(seed)
    rows: list[tuple[int, int, int, int, int, int, int]] = []
    at, place = 0, 0
    for phase in phases:
        sizes, weights = (np.array(x) for x in zip(*phase.sizes, strict=True))
        for _ in range(phase.batches):
            at += max(round(rng.exponential(phase.think_ms) * 1e6), 1000)
            kind = int(Kind.WRITE if rng.random() < phase.writes else Kind.READ)
            size = int(rng.choice(sizes, p=weights / weights.sum()))
            if rng.random() >= phase.in_order:
                place = int(rng.integers(0, span * M - phase.together * size)) // 4096 * 4096
            place = min(place, span * M - phase.together * size)
            for n in range(phase.together):
                row = (at, at + 1, kind, SYNC if kind else 0, place + n * size, size)
                rows.append((*row, int(Asker.COMMAND)))
            place += phase.together * size
            at += 1000
            if kind == Kind.WRITE and rng.random() < phase.flush:
                rows.append((at, at + 1, int(Kind.FLUSH), 0, 0, 0, int(Asker.COMMAND)))
                at += 1000
    # All of its range is kept, so that no piece is packed away.
    whole = made_recording(name, rows, at)
    timed = replayed(State(load_model(ON).behaviour), ReplayJob(whole), rng)
    again = list(
        zip(
            timed.issue_ns.tolist(),
            timed.done_ns.tolist(),
            *(getattr(whole, c).tolist() for c in ("kind", "flags", "offset", "bytes", "asker")),
            strict=True,
        )
    )
    end = int(timed.done_ns.max())
    return made_recording(
        name, again, end, drive=f"simulated, on model:{ON}", made="2026-11-25T00:00:00+00:00"
    )


def main() -> None:
    """Write them all."""
    FOLDER.mkdir(exist_ok=True)
    for name in PROGRAMS:
        recording = made(name)
        assert recording.span_bytes % CHUNK == 0
        write_recording(recording, FOLDER / f"{name}.jrec", force=True)
        size = (FOLDER / f"{name}.jrec").stat().st_size
        sys.stdout.write(
            f"{name}: {len(recording)} requests, {recording.elapsed_ns / 1e9:.2f} s, of it "
            f"{recording.waited_ns / 1e9:.2f} s waited, {size / 1e3:.0f} kB\n"
        )


if __name__ == "__main__":
    main()
