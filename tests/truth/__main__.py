"""The whole suite as a table: ``python -m tests.truth`` (what `make truth` runs).

Cases are dealt out to as many processes as there are cores; seeds are the numbers of the cases, so
that each can be made again.
"""

from __future__ import annotations

import os
import sys
import time
from concurrent.futures import ProcessPoolExecutor

from tests.truth.cases import Family, Outcome, Rate, run
from tests.truth.costs import cost_lines
from tests.truth.families import FAMILIES

CHUNK = 25
WORST = 3


def main() -> int:
    """Print the table, the worst cases and the costs; 1 where a rate is not as it has to be."""
    began = time.monotonic()
    print(f"{'case':48} {'right':>12} {'share':>8} {'has to be':>16}")
    failed = []
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for number, family in enumerate(FAMILIES):
            parts = [
                pool.submit(_some, number, range(n, min(n + CHUNK, family.full)))
                for n in range(0, family.full, CHUNK)
            ]
            rate = _joined(family, [p.result() for p in parts])
            good = rate.holds()
            bound = f"{family.least:.1%}" + (f" to {family.most:.1%}" if family.most < 1 else "")
            print(
                f"{family.name:48} {rate.right:>6}/{rate.of:<5} {rate.share:>8.2%} {bound:>16}"
                f"{'' if good else '   WRONG'}",
                flush=True,
            )
            for seed, outcome in rate.wrong[: WORST if not good else 0]:
                print(f"    seed {seed}: {outcome.truth} | {outcome.said}")
            failed += [] if good else [family.name]
    print()
    for line in cost_lines():
        print(line)
    print(f"\n{len(FAMILIES)} kinds of case in {time.monotonic() - began:.0f} s", flush=True)
    return 1 if failed else 0


Counted = tuple[int, int, tuple[tuple[int, Outcome], ...]]
"""Right cases, all cases, and the wrong ones with their seeds: what a process can send back."""


def _some(number: int, seeds: range) -> Counted:
    rate = run(FAMILIES[number], seeds)
    return rate.right, rate.of, rate.wrong


def _joined(family: Family, parts: list[Counted]) -> Rate:
    return Rate(
        family,
        sum(right for right, _, _ in parts),
        sum(of for _, of, _ in parts),
        tuple(w for _, _, wrong in parts for w in wrong),
    )


if __name__ == "__main__":
    sys.exit(main())
