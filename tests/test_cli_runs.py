"""What was measured, seen again: the list of runs, one run, and its series."""

from __future__ import annotations

import csv
import io
from datetime import datetime, timedelta

import pytest

from tests.conftest import QUICK, Program


@pytest.fixture
def measured(jovik: Program) -> Program:
    for model, rig in (("slate", "bench"), ("comet", "bench"), ("slate", "desk")):
        jovik("measure", f"model:{model}", "random read 4KiB for 1s", "--rig", rig, "--passes", "2")
    return jovik


def test_runs_are_listed_newest_first_and_by_drive_rig_and_date(measured: Program) -> None:
    every = measured("runs", "--format", "json").json["runs"]
    assert [r["drive"] for r in every] == [
        "Corvane Slate 1TB",
        "Veldhaar Comet 2TB",
        "Corvane Slate 1TB",
    ]
    begun = [r["started"] for r in every]
    assert begun == sorted(begun, reverse=True)
    assert {(r["steps"], r["passes"], r["state"], r["unit"]) for r in every} == {
        (1, 2, "done", "sample 1")
    }
    slate = measured("runs", "corvane slate 1tb", "--rig", "desk", "--format", "json").json["runs"]
    assert [r["run"] for r in slate] == [every[0]["run"]]
    assert measured("runs", "--since", "2999-01-01", "--format", "json").json["runs"] == []
    assert "no run is like that" in measured("runs", "--rig", "nowhere").out
    assert "is not a date" in measured("runs", "--since", "soon", status=2).err
    rows = list(csv.DictReader(io.StringIO(measured("runs", "list", "--format", "csv").out)))
    assert [r["run"] for r in rows] == [r["run"] for r in every]
    measured.env["COLUMNS"] = "80"
    narrow = measured("runs").out
    assert all(r["run"] in narrow for r in every) and all(len(x) <= 80 for x in narrow.splitlines())


def test_a_run_is_shown_again_as_measure_showed_it(measured: Program) -> None:
    told = measured("measure", "model:slate", "random read 4KiB for 1s", "--passes", "2").out
    last = measured("runs", "--format", "json").json["runs"][0]["run"]
    assert measured("runs", "show", "last").out == told
    assert measured("runs", "show", last[-6:]).out == told
    assert measured("repeat", last[-6:], "--format", "json").json["run"] != last
    assert "may be" in measured("runs", "show", last[:4], status=2).err
    assert "no run called 'nothing'" in measured("runs", "show", "nothing", status=2).err


def test_a_series_goes_to_a_file_or_standard_output(measured: Program) -> None:
    rows = list(csv.DictReader(io.StringIO(measured("runs", "series", "last").out)))
    assert {r["number"] for r in rows} == {"1", "2"} and float(rows[1]["second"]) == 0.1
    # A model drive's clock is virtual.
    assert {r["time"] for r in rows} == {""} and float(rows[0]["latency_mean_ns"]) > 0
    measured("runs", "series", "last", "--step", "1", "--out", "x.csv")
    assert (measured.folder / "x.csv").read_text().count("\n") == len(rows) + 1
    assert "is there already" in measured("runs", "series", "last", "--out", "x.csv", status=2).err
    measured("runs", "series", "last", "--out", "x.csv", "--force")
    assert "has no series" in measured("runs", "series", "last", "--step", "9", status=2).err
    assert "neither" in measured("runs", "series", "last", "--out", "x.txt", status=2).err


def test_a_series_of_a_real_folder_has_clock_times_and_latencies(jovik: Program) -> None:
    jovik("sheet", "new", "Here")
    jovik("measure", ".", "--drive", "Here", *QUICK, "--passes", "2")
    record = jovik("runs", "show", "last", "--format", "json").json
    rows = list(csv.DictReader(io.StringIO(jovik("runs", "series", "last", "--step", "1").out)))
    begun = datetime.fromisoformat(record["started"])
    ended = datetime.fromisoformat(record["ended"])
    times = [datetime.fromisoformat(r["time"]) for r in rows]
    assert begun - timedelta(seconds=1) <= times[0] <= times[-1] <= ended and times == sorted(times)
    # By Little's law the slices' latencies come to the mean that the pass recorded, roughly: a
    # pass of 200 ms has few of them.
    means = [
        (float(r["latency_mean_ns"]), int(r["read_ios"])) for r in rows if r["read_ios"] != "0"
    ]
    whole = sum(m * n for m, n in means) / sum(n for _, n in means)
    assert whole == pytest.approx(record["steps"][0]["latency_ns"]["mean"], rel=0.5)


def test_a_series_as_parquet_says_the_same(measured: Program) -> None:
    parquet = pytest.importorskip("pyarrow.parquet", reason="pyarrow is not installed")
    measured("runs", "series", "last", "--out", "x.parquet")
    table = parquet.read_table(measured.folder / "x.parquet")
    rows = list(csv.DictReader(io.StringIO(measured("runs", "series", "last").out)))
    assert table.column_names == list(rows[0]) and table.num_rows == len(rows)
    assert table["read_bytes"].to_pylist() == [int(r["read_bytes"]) for r in rows]
    assert str(table.schema.field("time").type) == "timestamp[ms, tz=UTC]"
