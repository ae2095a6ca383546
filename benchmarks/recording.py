"""What recording costs the program that is recorded: pairs with and without, in turn.

    benchmarks/recording.py                 a checkout of a made-up repository, cold, 20 pairs
    benchmarks/recording.py --pairs 5
    benchmarks/recording.py --program reads twenty thousand direct reads of 4 KiB, the worst case

Needs root and the kernel's trace events.
"""

from __future__ import annotations

import argparse
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from jovik.analysis.statistics import interval
from jovik.hardware.block_trace import tapped
from jovik.runs.recorder import drive_under

FILES = 3_000
READS = """
import mmap, os, random
page = mmap.mmap(-1, 4096)
fd = os.open('content', os.O_RDONLY | os.O_DIRECT)
random.seed(1)
for _ in range(20_000):
    os.preadv(fd, [page], random.randrange(16_384) * 4096)
"""


def repository(folder: Path) -> list[str]:
    """A repository of `FILES` files, and the command that checks it out anew."""
    top = folder / "repository"
    top.mkdir()
    for n in range(FILES):
        place = top / f"part{n % 60}"
        place.mkdir(exist_ok=True)
        (place / f"file{n}.txt").write_bytes(os.urandom(200 + n * 7 % 9000))
    git = ["git", "-C", str(top), "-c", "user.name=Nobody", "-c", "user.email=nobody@example.org"]
    for words in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "All"]):
        subprocess.run([*git, *words], check=True)
    copy = folder / "checkout"
    return ["sh", "-c", f"rm -rf {copy}; git clone -q --no-hardlinks {top} {copy}; sync -f {copy}"]


def reads(folder: Path) -> list[str]:
    """Direct reads one after the other."""
    (folder / "content").write_bytes(os.urandom(16_384 * 4096))
    os.sync()
    return [sys.executable, "-c", READS]


def main() -> None:
    """Measure and print the ratio with its interval."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--pairs", type=int, default=20)
    parser.add_argument("--program", choices=["checkout", "reads"], default="checkout")
    asked = parser.parse_args()
    folder = Path(tempfile.mkdtemp(dir=Path.cwd()))
    try:
        command = {"checkout": repository, "reads": reads}[asked.program](folder)
        number = drive_under(str(folder)).number

        def took(*, recorded: bool) -> float:
            os.sync()
            began = time.monotonic()
            if not recorded:
                subprocess.run(command, check=True, cwd=folder)
                return time.monotonic() - began
            with tapped(number) as tap:
                began = time.monotonic()
                subprocess.run(command, check=True, cwd=folder)
                ended = time.monotonic()
            tap.spool.close()
            assert not tap.lost, tap.lost
            return ended - began

        took(recorded=False)
        ratios = []
        for pair in range(asked.pairs):
            # Which comes first takes turns, so that a drift of the machine favours neither.
            first = pair % 2 == 0
            times = {first: took(recorded=first), not first: took(recorded=not first)}
            ratios.append(times[True] / times[False])
        found = interval(ratios)
        print(
            f"{asked.program}: recorded over not recorded {found.median:.3f} "
            f"({found.low:.3f} to {found.high:.3f}), {asked.pairs} pairs, "
            f"spread {statistics.stdev(ratios):.3f}"
        )
    finally:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
