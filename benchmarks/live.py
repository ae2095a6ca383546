"""What the live view costs the measurement.

The same passes with it and without, in one run, as a ratio.

    benchmarks/live.py              random reads at depth 1 and 32, alternating passes of a second
    benchmarks/live.py --where DIR  the file there, instead of in the temporary folder

The view draws into a real terminal (a pseudo-terminal of 120 by 36 that is read and thrown away),
twice a second, as in a run.
"""

from __future__ import annotations

import argparse
import os
import pty
import statistics
import sys
import tempfile
import threading
import time
from pathlib import Path

from rich.console import Console

from jovik.base.io_session import Progress, ProgressCallback
from jovik.cli.live_view import LiveView
from jovik.engine.io_session import FileSession
from jovik.runs.repetition import RepetitionPolicy
from jovik.runs.task import Task
from jovik.steps import parse_access

PHRASES = (
    "random read 4KiB for 1s within 256MiB",
    "random read 4KiB depth 32 for 1s within 256MiB",
)
LEAST = 0.99


def no_progress(_: Progress) -> None:
    return None


def swallow(fd: int) -> None:
    """Read what is drawn, as a terminal would."""
    while True:
        try:
            if not os.read(fd, 65536):
                return
        except OSError:
            return


def rate(session: FileSession, phrase: str, watch: ProgressCallback) -> float:
    """I/Os a second of one pass."""
    return session.run(parse_access(phrase).workload(time.monotonic_ns() % 2**40), watch).iops


def main() -> None:
    options = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    options.add_argument("--where", type=Path, default=Path(tempfile.gettempdir()))
    options.add_argument("--pairs", type=int, default=21)
    given = options.parse_args()
    terminal, screen = pty.openpty()
    threading.Thread(target=swallow, args=(terminal,), daemon=True).start()
    console = Console(file=os.fdopen(screen, "w"), width=120, height=36, force_terminal=True)
    tasks = [Task(parse_access(p), RepetitionPolicy(given.pairs, given.pairs)) for p in PHRASES]
    good = True
    with FileSession(given.where) as session:
        for position, phrase in enumerate(PHRASES):
            session.prepare(parse_access(phrase).workload(1), no_progress)
            rate(session, phrase, no_progress)
            ratios = []
            for number in range(given.pairs):
                with LiveView("a drive", tasks, [10**9] * len(tasks), console) as view:
                    watch = view.passing(position, tasks[position].step, number + 1)
                    if number % 2:
                        seen = rate(session, phrase, watch)
                        unseen = rate(session, phrase, no_progress)
                    else:
                        unseen = rate(session, phrase, no_progress)
                        seen = rate(session, phrase, watch)
                ratios.append(seen / unseen)
            middle = statistics.median(ratios)
            low, _, high = statistics.quantiles(ratios, n=4)
            good &= middle >= LEAST
            print(
                f"{phrase:48} with the view {middle:.3f} of without (at least {LEAST}; quartiles "
                f"{low:.3f} to {high:.3f}, {given.pairs} pairs)"
            )
    sys.exit(0 if good else 1)


if __name__ == "__main__":
    main()
