"""What an instrument logged, laid beside a run."""

from __future__ import annotations

import datetime
import math
import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.analysis.instrument import (
    Span,
    figures_in,
    figures_of_phase,
    first_rise,
    fitted_times,
    mean_of,
)
from jovik.base.errors import UsageError
from jovik.charts.chart import LineChart
from jovik.charts.kinds import chart_of
from jovik.sheets.instrument_log import read_log
from jovik.sheets.reading import parse_when
from jovik.shelf.store import Shelf
from jovik.simulator import load_model
from tests.conftest import Program

GANNET = "Corvane Gannet 12TB"


def test_the_mean_of_levels_is_that_of_the_powers_behind_them() -> None:
    assert mean_of([30, 40], "dB(A)").median == pytest.approx(37.4, abs=0.01)
    assert mean_of([30, 40], "W").median == 35


@given(st.lists(st.floats(1, 100), min_size=1, max_size=30))
def test_a_mean_of_levels_lies_between_the_plain_mean_and_the_most(values: list[float]) -> None:
    plain = math.fsum(values) / len(values)
    found = mean_of(values, "dB")
    assert plain - 1e-6 <= found.median <= max(values) + 1e-6
    if found.low is not None and found.high is not None:
        assert found.low - 1e-6 <= found.median <= found.high + 1e-6


def test_energy_of_a_step() -> None:
    span = Span("reading", 0, 10, moved_bytes=5 * 10**9, ios=1000)
    times, watts = [1, 3, 5, 7, 9, 12], [4.0, 6.0, 5.0, 4.0, 6.0, 99.0]
    (found,) = figures_in([span], times, watts, "W")
    assert (found.mean.median, found.most, found.count) == (5.0, 6.0, 5)
    assert found.joules_per_gb is not None and found.ios_per_joule is not None
    assert found.joules_per_gb.median == pytest.approx(10)
    assert found.ios_per_joule.median == pytest.approx(20)
    (noise,) = figures_in([span], [1], [30.0], "dB(A)")
    assert noise.joules_per_gb is None
    (half,) = figures_in([span], times[:2], watts[:2], "W")
    assert half.joules_per_gb is None, "a log that ends before its step does tells no energy"


def test_the_interval_of_a_mean_allows_for_the_memory_of_a_log() -> None:
    """A made log that wanders: its mean is held by the interval about as often as it says."""
    rng, held = np.random.default_rng(3), 0
    for _ in range(200):
        wander = np.zeros(300)
        for n in range(1, 300):
            wander[n] = 0.8 * wander[n - 1] + rng.normal()
        found = mean_of((50 + wander).tolist(), "W")
        assert found.low is not None and found.high is not None
        held += found.low <= 50 <= found.high
    assert 180 <= held <= 200
    wide = mean_of([30.0, 30.5] * 20, "dB(A)")
    assert wide.low is not None and wide.high is not None and wide.low < wide.median < wide.high


def test_a_phase_of_stretches_that_differ_is_as_sure_as_they_are() -> None:
    rng = np.random.default_rng(4)
    low, high = (rng.normal(m, 0.05, 200).tolist() for m in (5, 7))
    found = figures_of_phase("reading", [low, high], "W")
    assert found.mean.low is not None and found.mean.high is not None
    assert found.mean.median == pytest.approx(6, abs=0.02)
    assert found.mean.high - found.mean.low < 0.1


def test_where_a_log_first_rises() -> None:
    seconds = list(range(20))
    assert first_rise(seconds, [24.0, 24.1] * 5 + [31.0] * 10) == 10
    assert first_rise(seconds, [24.0] * 20) is None
    # A disk that spins up first; and a single value that stands out.
    assert first_rise(seconds, [31.0] * 3 + [24.0, 24.1] * 4 + [27.0] * 9) == 11
    assert first_rise(seconds, [24.0, 24.1] * 5 + [31.0] + [24.0] * 9) is None


@pytest.mark.parametrize(
    "text",
    ["0,24.5\n1,25\n", "time;level\n0;24,5\n1;25\n", "s\tdB\n0\t24,5\n1\t25,0\n\n"],
)
def test_logs_as_instruments_and_spreadsheets_write_them(text: str) -> None:
    found = read_log(text, "log.csv")
    assert found.values == (24.5, 25.0) and found.seconds == (0.0, 1.0) and not found.clock


def test_dates_may_begin_with_the_day() -> None:
    iso, day_first = (
        read_log(f"time;level\n{a};24,5\n{b};25,0\n", "log.csv")
        for a, b in (
            ("2026-11-23T14:05:00", "2026-11-23T14:05:01.5"),
            ("23.11.2026 14:05:00", "23.11.2026 14:05:01.5"),
        )
    )
    assert day_first == iso and day_first.clock
    assert parse_when("3.2.2026") == "2026-02-03"
    with pytest.raises(UsageError):
        parse_when("23.13.2026")


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("time,level\n0,24\n", "fewer than 2"),
        ("0,24\n1,loud\n", "line 2"),
        ("0,24\n1\n", "line 2"),
        ("5,24\n1,25\n", "do not rise"),
        ("0,24\n2026-11-23T14:05:00,25\n", "were not"),
    ],
)
def test_what_is_no_log_is_refused_with_its_line(text: str, why: str) -> None:
    with pytest.raises(UsageError) as refused:
        read_log(text, "log.csv")
    assert why in refused.value.message


def measured(jovik: Program) -> None:
    phrases = ["sequential read 1MiB depth 8 for 10s", "random write 4KiB for 10s"]
    jovik("measure", "model:gannet", *phrases, "--passes", "2", "--seed", "1")
    lines = [f"{t + 8};{24 if t < 0 else 28 if t < 20 else 36},0" for t in range(-5, 45)]
    (jovik.folder / "noise.csv").write_text("time;level\n" + "\n".join(lines) + "\n")


LOG = ["--log", "noise.csv", "--run", "last", "--quantity", "noise level", "--unit", "dB(A)"]


def test_a_noise_log_beside_a_run(jovik: Program) -> None:
    measured(jovik)
    offered = jovik("note", GANNET, *LOG, "--format", "json").json["offered_shift_s"]
    assert offered == -8.0
    found = jovik("note", GANNET, *LOG, "--shift", "-8s", "--format", "json").json
    figures = {f["when"]: f["mean"] for f in found["phases"]}
    assert figures["reading in order"] == pytest.approx(28)
    assert figures["writing at random"] == pytest.approx(36)
    assert [f["mean"] for f in found["steps"]] == pytest.approx([28, 36])
    noted = jovik("note", GANNET, "--format", "json").json["readings"]
    assert any(r["what"] == "noise level, reading in order" and r["unit"] == "dB(A)" for r in noted)


def test_logs_that_say_how_they_were_taken_are_compared(jovik: Program) -> None:
    measured(jovik)
    how = ("--method", "30 cm above it", "--instrument", "meter B")
    jovik("note", GANNET, *LOG, "--shift", "-8s", *how)
    jovik("measure", "model:wicker", "sequential read 1MiB depth 4 for 20s", "--passes", "1")
    other = jovik("runs", "show", "last", "--format", "json").json["drive"]
    (jovik.folder / "noise.csv").write_text("".join(f"{s},{30 + s % 2}\n" for s in range(15)))
    jovik("note", other, *LOG, *how)
    noted = jovik("note", other, "--format", "json").json["readings"]
    reading = next(r for r in noted if r["what"] == "noise level, reading in order")
    assert (reading["method"], reading["instrument"]) == how[1::2]
    assert reading["of"] == 2, "it has a place among drives measured the same way"
    told = " ".join(jovik("upgrade", GANNET, other).out.split())
    assert re.search(r"noise level, dB\(A\), reading in order 28\.0 \(.*differs", told), told
    assert "meter B, 30 cm above it" in told and "noise level, reading" not in told
    table = jovik("upgrade", GANNET, other, "--format", "json").json["upgrades"][0]["logged"]
    (row,) = [x for x in table if x["what"] == "reading in order"]
    assert row["difference"]["median"] == pytest.approx(2.5, abs=0.1) and row["apart"]
    assert row["difference"]["low"] < 2.5 < row["difference"]["high"]
    jovik("report", "--all", "--each", "--out", "site")
    page = (jovik.folder / "site" / "compare.html").read_text()
    assert "noise level, dB(A), reading in order (meter B, 30 cm above it)" in page
    # Another instrument is no comparison.
    jovik("note", other, *LOG, "--method", "30 cm above it", "--instrument", "meter C")
    assert "reading in order" not in jovik("upgrade", GANNET, other).out


def test_steps_that_are_unlike_have_a_phase_each(jovik: Program) -> None:
    phrases = [
        "random read 4KiB for 10s",
        "random read 4KiB depth 32 for 10s",
        "sequential read 1MiB for 10s",
        "sequential read 1MiB depth 4 for 10s",
    ]
    jovik("measure", "model:slate", *phrases, "--passes", "1", "--seed", "1")
    name = jovik("runs", "show", "last", "--format", "json").json["drive"]
    levels = (2.0, 4.0, 3.0, 3.1)
    rows = [f"{t},{levels[t // 10] + 0.01 * (t % 2)}" for t in range(40)]
    (jovik.folder / "power.csv").write_text("\n".join(rows) + "\n")
    words = ("--run", "last", "--quantity", "power", "--unit", "W", "--format", "json")
    found = jovik("note", name, "--log", "power.csv", *words).json
    means = {f["when"]: round(f["mean"], 1) for f in found["phases"]}
    assert means["reading in order"] == pytest.approx(3.05, abs=0.06)
    assert means["random read, 4 KiB"] == 2.0 and means["random read, 4 KiB, depth 32"] == 4.0
    assert "reading at random" not in means, "3 W is the mean of no step"
    # The picture has each mean over the stretches that it is of.
    with Shelf(str(jovik.shelf)) as shelf:
        chart = chart_of(shelf, "instrument", [name])
    assert isinstance(chart, LineChart)
    drawn = [x for x in chart.views[0].panels[1].lines if x.name == "mean of the phase"]
    stretches = {(x.points[0].said.split(": ")[0], x.points[0].y) for x in drawn}
    assert stretches == {
        (f["when"], f["mean"]) for f in found["phases"] if f["when"] not in ("idle",)
    }
    whole = sum(x.points[1].x - x.points[0].x for x in drawn)
    assert whole == pytest.approx(40, abs=1), "seconds of four steps of ten"


@pytest.mark.parametrize("error", [0.998, 1.0, 1.002])
def test_a_clock_that_runs_fast_or_slow_is_fitted(error: float) -> None:
    run_s = 1800
    seconds = [s * error + 500 for s in range(-120, run_s + 200)]
    rng = np.random.default_rng(1)
    values = [
        (4.0 if 0 <= s < run_s else 1.0) + 0.05 * rng.normal() for s in range(-120, run_s + 200)
    ]
    fitted = fitted_times(seconds, values, run_s)
    assert fitted is not None
    true = list(range(-120, run_s + 200))
    assert max(abs(a - b) for a, b in zip(fitted, true, strict=True)) < 1.5
    assert fitted_times(seconds, [1.0] * len(seconds), run_s) is None


def test_a_log_that_misses_the_run_is_refused(jovik: Program) -> None:
    measured(jovik)
    assert "they do not meet" in jovik("note", GANNET, *LOG, "--shift", "2h", status=2).err
    assert "--shift" in jovik("note", GANNET, *LOG, "--shift", "soon", status=2).err
    assert "--run" in jovik("note", GANNET, "--log", "noise.csv", status=2).err
    clock = datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC).isoformat()
    (jovik.folder / "noise.csv").write_text(f"{clock},24\n{clock},25\n")
    assert "virtual" in jovik("note", GANNET, *LOG, status=2).err


def test_a_log_by_the_clock_beside_a_real_run(jovik: Program) -> None:
    jovik("sheet", "new", "Own")
    begun = datetime.datetime.now(datetime.UTC)
    jovik("measure", ".", "--drive", "Own", "random read 4KiB for 1s within 8MB", "--passes", "2")
    ended = datetime.datetime.now(datetime.UTC)
    count = int((ended - begun).total_seconds() * 10)
    rows = [
        f"{(begun + datetime.timedelta(seconds=n / 10)).isoformat()},{2.5}" for n in range(count)
    ]
    (jovik.folder / "power.csv").write_text("\n".join(rows) + "\n")
    words = ["--log", "power.csv", "--run", "last", "--quantity", "power", "--unit", "W"]
    found = jovik("note", "Own", *words, "--format", "json").json
    (step,) = found["steps"]
    assert step["mean"] == 2.5 and 15 <= step["count"] <= count
    assert step["ios_per_joule"] > 0 and step["joules_per_gb"] > 0


# Model drives as their own meters


def metered(jovik: Program, model: str, quantity: str = "power") -> str:
    """A run on a model drive, with the log of a meter beside it; the drive's name."""
    phrases = ["sequential read 1MiB depth 8 for 5s", "sequential write 1MiB depth 8 for 5s"]
    jovik("measure", f"model:{model}", *phrases, "--passes", "2", "--seed", "2")
    name = str(jovik("runs", "--format", "json").json["runs"][0]["drive"])
    jovik("runs", "meter", "last", "--quantity", quantity, "--out", f"{model}.csv")
    unit = {"power": "W", "noise": "dB(A)"}[quantity]
    words = ["--run", "last", "--quantity", quantity, "--unit", unit, "--shift", "-20s"]
    jovik("note", name, "--log", f"{model}.csv", *words)
    return name


def test_a_meter_shows_what_the_parameters_say(jovik: Program) -> None:
    behaviour = load_model("slate").behaviour
    assert behaviour.power is not None
    name = metered(jovik, "slate")
    words = ["--run", "last", "--quantity", "power", "--unit", "W", "--format", "json"]
    found = jovik("note", name, "--log", "slate.csv", *words, "--shift", "-20s").json
    figures = {f["when"]: f for f in found["phases"]}
    idle = figures["before the first pass"]
    assert idle["mean_low"] <= behaviour.power.idle * 1.002
    assert idle["mean_high"] >= behaviour.power.idle * 0.998
    read = found["steps"][0]
    # At full rate it takes what its parameters say, and energy is power over rate.
    assert read["mean"] == pytest.approx(behaviour.power.read, rel=0.03)
    rate = jovik("runs", "show", "last", "--format", "json").json["steps"][0]["rate_bytes_s"]
    joules = read["mean"] / rate["median"] * 1e9
    assert read["joules_per_gb"] == pytest.approx(joules, rel=0.02)
    again = jovik("note", name, "--log", "slate.csv", *words).json
    assert again["offered_shift_s"] == pytest.approx(-20, abs=0.2)
    noted = jovik("note", name, "--format", "json").json["readings"]
    assert len({r["what"] for r in noted}) == len(noted), "laid anew it replaces what it gave"


def test_a_disk_that_spins_up_is_told_and_drawn(jovik: Program) -> None:
    name = metered(jovik, "gannet", "noise")
    readings = jovik("note", name, "--format", "json").json["readings"]
    noted = {r["what"]: r["value"] for r in readings}
    assert noted["noise, spin-up"] == pytest.approx(31, abs=0.2)
    assert noted["noise, before the first pass"] == pytest.approx(24, abs=0.2)
    jovik("picture", "instrument", name, "--out", "noise.svg")
    drawn = (jovik.folder / "noise.svg").read_text()
    assert all(f">{words}<" in drawn for words in ("noise, dB(A)", "MB/s"))
    wrong = jovik("picture", "instrument", name, "--quantity", "heat", "--out", "x.png", status=2)
    assert "there is: noise" in wrong.err
    jovik("report", name, "--out", "page.md")
    assert "spin-up" in (jovik.folder / "page.md").read_text()
    for model, quantity in (("cinder", "power"), ("slate", "noise")):
        jovik("measure", f"model:{model}", "random read 4KiB for 200ms", "--passes", "1")
        said = jovik("runs", "meter", "last", "--quantity", quantity, "--out", "-", status=2).err
        assert f"[behaviour.{quantity}]" in said


def test_drives_are_ranked_by_what_they_move_for_a_joule(jovik: Program) -> None:
    jovik("sheet", "new", "Own")
    assert "jovik note" in jovik("rank", "--by", "efficiency", status=2).err
    fast, slow = metered(jovik, "comet"), metered(jovik, "slate")
    found = jovik("rank", "--by", "efficiency", "--format", "json").json
    assert [d["drive"] for d in found["drives"]] == [fast, slow]
    (step, *_), (other, *_) = (d["steps"] for d in found["drives"])
    assert step["rate_bytes_s"] is None and step["bytes_per_joule"]["median"] > 1e9
    assert other["bytes_per_joule"]["high"] < step["bytes_per_joule"]["low"]
    table = jovik("rank", "--by", "efficiency").out
    assert "MB/J" in table and "idle:" in table
    assert table.startswith(f"{fast} moves the most data per joule, of 2 drives: index")
    assert "bytes_per_joule" in jovik("rank", "--by", "efficiency", "--format", "csv").out
    changed = jovik("compare", fast, slow, "--format", "json").json["logged"]
    assert {c["what"] for c in changed} >= {"reading in order", "writing in order"} and all(
        c["apart"] for c in changed
    )
    assert "power, W, reading in order" in jovik("compare", fast, slow).out


def test_a_log_travels_with_the_shelf_and_goes_with_its_run(jovik: Program) -> None:
    name = metered(jovik, "slate")
    jovik("shelf", "export", "--out", "all.zip")
    assert not jovik("shelf", "check").err
    other = jovik.on_shelf("other.db")
    added = other("shelf", "import", "all.zip", "--format", "json").json["added"]
    assert added["notes"] >= 4
    assert other("shelf", "import", "all.zip", "--format", "json").json["added"]["notes"] == 0
    other("picture", "instrument", name, "--out", "power.png")
    run = other("runs", "--format", "json").json["runs"][0]["run"]
    other("runs", "remove", run)
    assert "no log" in other("picture", "instrument", name, "--out", "x.png", status=2).err
