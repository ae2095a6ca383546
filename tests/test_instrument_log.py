"""What an instrument logged, laid beside a run."""

from __future__ import annotations

import datetime
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.analysis.instrument import Span, figures_in, first_rise, mean_of
from jovik.base.errors import UsageError
from jovik.sheets.instrument_log import read_log
from tests.conftest import Program

GANNET = "Corvane Gannet 12TB"


def test_the_mean_of_levels_is_that_of_the_powers_behind_them() -> None:
    assert mean_of([30, 40], "dB(A)") == pytest.approx(37.4, abs=0.01)
    assert mean_of([30, 40], "W") == 35


@given(st.lists(st.floats(1, 100), min_size=1, max_size=30))
def test_a_mean_of_levels_lies_between_the_plain_mean_and_the_most(values: list[float]) -> None:
    plain = math.fsum(values) / len(values)
    assert plain - 1e-6 <= mean_of(values, "dB") <= max(values) + 1e-6


def test_energy_of_a_step() -> None:
    span = Span("reading", 0, 10, moved_bytes=5 * 10**9, ios=1000)
    (found,) = figures_in([span], [1, 3, 12], [4.0, 6.0, 99.0], "W")
    assert (found.mean, found.most, found.count) == (5.0, 6.0, 2)
    assert found.joules_per_gb == pytest.approx(10) and found.ios_per_joule == pytest.approx(20)
    (noise,) = figures_in([span], [1], [30.0], "dB(A)")
    assert noise.joules_per_gb is None


def test_where_a_log_first_rises() -> None:
    seconds = list(range(20))
    assert first_rise(seconds, [24.0, 24.1] * 5 + [31.0] * 10) == 10
    assert first_rise(seconds, [24.0] * 20) is None


@pytest.mark.parametrize(
    "text",
    ["0,24.5\n1,25\n", "time;level\n0;24,5\n1;25\n", "s\tdB\n0\t24,5\n1\t25,0\n\n"],
)
def test_logs_as_instruments_and_spreadsheets_write_them(text: str) -> None:
    found = read_log(text, "log.csv")
    assert found.values == (24.5, 25.0) and found.seconds == (0.0, 1.0) and not found.clock


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
    assert figures["reading"] == pytest.approx(28) and figures["writing"] == pytest.approx(36)
    assert [f["mean"] for f in found["steps"]] == pytest.approx([28, 36])
    noted = jovik("note", GANNET, "--format", "json").json["readings"]
    assert any(r["what"] == "noise level, reading" and r["unit"] == "dB(A)" for r in noted)


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
    assert step["mean"] == 2.5 and 15 <= step["count"] <= 21
    assert step["ios_per_joule"] > 0 and step["joules_per_gb"] > 0
