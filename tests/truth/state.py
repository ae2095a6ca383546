"""The state of the drive, from measurement to verdict: model drives of known cache and rates."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

import jovik
from jovik.analysis.comparability import crossed_cliff, rate_of
from jovik.analysis.step_result import StepResult
from jovik.sheets.sheet import Sheet, parse_claim
from jovik.shelf.store import Shelf
from tests.truth.cases import Family, Outcome

TOLERANCE = 0.06
"""How far a right figure may lie from the parameter: passes of a model drive differ by 1 %."""


@dataclass(frozen=True)
class Parameters:
    """A model drive whose cache and rates are known, in bytes and bytes a second."""

    cache: int
    cached_rate: int
    direct_rate: int
    drain_rate: int

    def toml(self) -> str:
        """Return it as a file that `jovik measure model:FILE` reads."""
        return f"""
[drive]
name = "Made"
capacity = "1TB"
interface = "PCIe 4.0 x4"
medium = "solid state"

[behaviour]
read_latency = "50us"
write_latency = "15us"
sequential_latency = "40us"
read_rate = "6GB/s"
write_rate = "{self.cached_rate}B/s"
read_iops = 500000
write_iops = 400000
link_rate = "7800MB/s"
cache_size = "{self.cache}B"
direct_write_rate = "{self.direct_rate}B/s"
drain_rate = "{self.drain_rate}B/s"
flush_time = "2ms"
file_time = "40us"
capacity = "1TB"
pass_spread = 0.01
serial = "MADE-1"
firmware = "1"
"""


def _drawn(rng: np.random.Generator) -> Parameters:
    cached = round(float(rng.uniform(2e9, 5e9)))
    direct = round(cached * float(rng.uniform(0.1, 0.5)))
    cache = round(float(rng.uniform(5e9, 40e9)))
    return Parameters(cache, cached, direct, round(direct * float(rng.uniform(0.3, 0.9))))


def _measured(
    shelf: Shelf, folder: str, made: Parameters, phrases: list[str], passes: int
) -> list[StepResult]:
    path = Path(folder) / "made.toml"
    path.write_text(made.toml())
    run = jovik.measure(shelf, f"model:{path}", *phrases, passes=passes, seed=1, yes=True)
    return list(run.results)


def writes_in_a_row(seed: int) -> Outcome:
    """Timed writes one after the other: their figures are those of the empty cache, or marked."""
    rng = np.random.default_rng([seed, 60])
    made = _drawn(rng)
    steps = [
        f"sequential write {block} depth 8 for {rng.integers(1, 4)}s"
        for block in rng.permutation(["256KiB", "1MiB", "512KiB", "2MiB"])[:3]
    ]
    with tempfile.TemporaryDirectory() as folder, Shelf(f"{folder}/s.db", create=True) as shelf:
        results = _measured(shelf, folder, made, steps, 3)
    wrong = [
        f"{r.phrase}: {rate_of(r).median / made.cached_rate:.2f} of the rate"
        for r in results
        if not r.findings.write_cache_full and crossed_cliff(r) is None
        if abs(rate_of(r).median / made.cached_rate - 1) > TOLERANCE
    ]
    return Outcome(f"{made}", "; ".join(wrong) or "as alone", not wrong)


def sustained(seed: int) -> Outcome:
    """Short, crossing and long writes: only the rate behind the cache is the sustained one."""
    rng = np.random.default_rng([seed, 61])
    made = _drawn(rng)
    steps = [
        f"sequential write 1MiB depth 8 over {round(made.cache * f / 1e9 + 1)}GB"
        for f in sorted(rng.choice([0.2, 0.5, 0.8, 3.0, 6.0], 2, replace=False))
    ]
    steps.append(f"sequential write 1MiB depth 8 for {rng.integers(5, 60)}s")
    claim = parse_claim("sequential write 1MiB depth 8", f"{made.direct_rate}B/s", sustained=True)
    with tempfile.TemporaryDirectory() as folder, Shelf(f"{folder}/s.db", create=True) as shelf:
        _measured(shelf, folder, made, steps, 1)
        sheet = shelf.sheets.get("Made")
        shelf.corrections.change_sheet(sheet, Sheet(sheet.drive, (claim,)))
        (verdict,) = jovik.judge(shelf, "Made").verdicts
        figures = [rate_of(r).median for r in shelf.results.every("Made") if "over" in r.phrase]
    measured = verdict.measured
    right = measured is None or abs(measured.median / made.direct_rate - 1) <= TOLERANCE
    said = "untested" if measured is None else f"{measured.median / made.direct_rate:.2f} of it"
    return Outcome(f"{made}, {steps}", f"{said}; {verdict.why}; {figures}", right)


FAMILIES = (
    Family("a write meets an empty cache, or is marked", writes_in_a_row, 0.98, 300, 12),
    Family("only the rate behind the cache is sustained", sustained, 0.98, 300, 12),
)
