"""Twins: model drives of drawn parameters, fitted by a plan, against what they do themselves."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

import jovik
from jovik.base.recording_file import read_recording
from jovik.base.shipped import shipped_path
from jovik.queries.twin import twin_of
from jovik.shelf.store import Shelf
from jovik.simulator import load_model
from jovik.simulator.replay import elapsed_s
from jovik.simulator.twin import predicted_s
from jovik.steps.replay import recording_names
from tests.truth.cases import Family, Outcome


def _model(rng: np.random.Generator) -> str:
    """A solid-state drive whose parameters lie anywhere that such drives do."""

    def between(low: float, high: float) -> float:
        return float(np.exp(rng.uniform(np.log(low), np.log(high))))

    read = between(4e8, 1.2e10)
    write = read * between(0.4, 1.0)
    interface = "SATA 6 Gb/s" if read < 6e8 else "PCIe 4.0 x4" if read < 7.2e9 else "PCIe 5.0 x4"
    direct = write * between(0.1, 0.6)
    return f"""
[drive]
name = "Made 1TB"
capacity = "1TB"
interface = "{interface}"
medium = "solid state"

[behaviour]
read_latency = "{round(between(4e4, 2e5))}ns"
write_latency = "{round(between(1e4, 1e5))}ns"
sequential_latency = "{round(between(1e4, 8e4))}ns"
read_rate = "{round(read)}B/s"
write_rate = "{round(write)}B/s"
read_iops = {round(between(8e4, 1.5e6))}
write_iops = {round(between(6e4, 1.2e6))}
cache_size = "{round(between(2e10, 2e11))}B"
direct_write_rate = "{round(direct)}B/s"
drain_rate = "{round(direct / 2)}B/s"
flush_time = "{round(between(1e5, 5e6))}ns"
file_time = "{round(between(3e4, 2e5))}ns"
capacity = "1TB"
serial = "MADE-1"
firmware = "1"
"""


def program_on_a_twin(seed: int) -> Outcome:
    """What a twin predicts of a recorded program, and what the drive itself takes."""
    rng = np.random.default_rng([seed, 70])
    with tempfile.TemporaryDirectory() as folder, Shelf(f"{folder}/s.db", create=True) as shelf:
        path = Path(folder) / "made.toml"
        path.write_text(_model(rng))
        jovik.measure(shelf, f"model:{path}", plan="second-look", seed=seed, yes=True)
        found = twin_of(shelf, "Made 1TB")
        true = load_model(str(path)).behaviour
    name = recording_names()[seed % 6]
    recording = read_recording(shipped_path("recording", name))[0]
    takes = elapsed_s([true], recording)[0]
    (predicted,) = predicted_s([found.twin.predictor], lambda each: elapsed_s(each, recording))
    off = predicted.median / takes - 1
    said = f"{predicted.median:.3f} s ({predicted.low:.3f} to {predicted.high:.3f}), {off:+.1%}"
    return Outcome(f"{name}: {takes:.3f} s", said, predicted.holds(takes) and abs(off) < 0.1)


FAMILIES = (Family("a twin predicts a program", program_on_a_twin, 0.85, 100, 6),)
