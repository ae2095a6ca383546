"""What recording costs the program that is recorded: pairs with and without, in turn.

    benchmarks/recording.py                 a checkout of a made-up repository, 150 pairs
    benchmarks/recording.py --pairs 5
    benchmarks/recording.py --program reads direct reads of 4 KiB, one after the other, the worst
                                            case: 300 pairs of a thousand

Needs root and the kernel's trace events.
"""

from __future__ import annotations

import argparse
import mmap
import os
import random
import shutil
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from jovik.analysis.statistics import interval
from jovik.hardware.block_trace import tapped
from jovik.runs.recorder import drive_under

FILES = 300
BLOCKS = 16_384
READS = 1_000
"""In a batch of direct reads; so short a time knows little of what else the machine does."""


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


class Reads:
    """Direct reads of 4 KiB one after the other, by this process."""

    def __init__(self, folder: Path) -> None:
        path = folder / "content"
        path.write_bytes(os.urandom(BLOCKS * 4096))
        os.sync()
        self.fd = os.open(path, os.O_RDONLY | os.O_DIRECT)
        self.page = mmap.mmap(-1, 4096)
        self.random = random.Random(1)

    def __call__(self) -> None:
        places = [self.random.randrange(BLOCKS) * 4096 for _ in range(READS)]
        for place in places:
            os.preadv(self.fd, [self.page], place)


def checkout(folder: Path) -> Callable[[], None]:
    """A checkout of a made-up repository."""
    command = repository(folder)

    def run() -> None:
        subprocess.run(command, check=True, cwd=folder)

    return run


def took_s(program: Callable[[], None], number: str, *, recorded: bool) -> float:
    """How long a program takes, with or without its requests being taken down."""
    if not recorded:
        began = time.monotonic()
        program()
        return time.monotonic() - began
    with tapped(number) as tap:
        began = time.monotonic()
        program()
        ended = time.monotonic()
    tap.spool.close()
    assert not tap.lost, tap.lost
    return ended - began


def main() -> None:
    """Measure and print the ratio with its interval."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--pairs", type=int)
    parser.add_argument("--program", choices=["checkout", "reads"], default="checkout")
    asked = parser.parse_args()
    folder = Path(tempfile.mkdtemp(dir=Path.cwd()))
    try:
        program, pairs = (
            (Reads(folder), 300) if asked.program == "reads" else (checkout(folder), 150)
        )
        number = drive_under(str(folder)).number
        took_s(program, number, recorded=False)
        ratios = []
        for pair in range(asked.pairs or pairs):
            # Which comes first takes turns, so that a drift of the machine favours neither.
            first = pair % 2 == 0
            times = {x: took_s(program, number, recorded=x) for x in (first, not first)}
            ratios.append(times[True] / times[False])
        found = interval(ratios)
        print(
            f"{asked.program}: recorded over not recorded {found.median:.3f} "
            f"({found.low:.3f} to {found.high:.3f}), {len(ratios)} pairs, "
            f"spread {statistics.stdev(ratios):.3f}"
        )
    finally:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
