"""Rates in the unit that a person wants, everywhere alike, while JSON stays as it is."""

from __future__ import annotations

import re

import pytest

from tests.conftest import Program

COMET = "Veldhaar Comet 2TB"
UNITS = {"MB/s": 1e6, "MiB/s": 2**20, "GB/s": 1e9}
STEPS = ("sequential read 1MiB depth 8 for 1s", "random read 4KiB for 1s")


@pytest.fixture
def measured(jovik: Program) -> Program:
    jovik("measure", "model:comet", *STEPS, "--passes", "3", "--seed", "7")
    jovik("measure", "model:slate", *STEPS, "--passes", "3", "--seed", "7")
    return jovik


@pytest.mark.parametrize(("unit", "scale"), [("MB/s", 1e6), ("MiB/s", 2**20), ("GB/s", 1e9)])
def test_one_unit_on_every_command(measured: Program, unit: str, scale: float) -> None:
    rows = measured("rank", "--format", "json").json["drives"]
    comet = next(d for d in rows if d["drive"] == COMET)
    rate = next(s for s in comet["steps"] if s["kind"].startswith("sequential"))["rate_bytes_s"]
    for words in (
        ("rank",),
        ("judge", COMET),
        ("runs", "show", "20"),
        ("compare", "Corvane Slate 1TB", COMET),
        ("upgrade", "Corvane Slate 1TB", COMET),
    ):
        if words[-1] == "20":
            runs = measured("runs", "--format", "json").json["runs"]
            words = (*words[:-1], next(r["run"] for r in runs if r["drive"] == COMET))
        told = measured(*words, "--units", unit, status=None).out
        # The reasons of a class are written in its file, with their figures.
        told = re.sub(r"[\d,]+\s+MB/s\s+of\s+payload", "", told)
        assert unit in told, words
        for other in {"MB/s", "MiB/s", "GB/s"} - {unit}:
            assert other not in told, (words, other)
        figures = [float(x.replace(",", "")) for x in re.findall(r"\d[\d,]*(?:\.\d+)?", told)]
        assert any(x == pytest.approx(rate["median"] / scale, rel=0.006) for x in figures), words
    same = measured("rank", "--units", unit, "--format", "json").json["drives"]
    assert same == rows


def test_iops_may_come_first(measured: Program) -> None:
    plain = measured("runs", "show", "last").out
    first = measured("runs", "show", "last", "--iops", "first").out
    assert re.search(r"step +MB/s +95 % interval +IOPS", plain)
    assert re.search(r"step +IOPS +95 % interval +MB/s", first)


def test_both_have_a_key(measured: Program) -> None:
    measured.env["JOVIK_CONFIG"] = str(measured.folder / "settings.toml")
    measured("config", "set", "units", "GB/s")
    measured("config", "set", "iops", "first")
    told = measured("runs", "show", "last").out
    assert re.search(r"step +IOPS +95 % interval +GB/s", told)
    assert "MiB/s" in measured("rank", "--units", "MiB/s").out
    assert "units cannot be 'kB/s'" in measured("config", "set", "units", "kB/s", status=2).err
    assert {"units", "iops", "shelf"} <= {
        k["key"] for k in measured("config", "keys", "--format", "json").json["keys"]
    }
    measured("config", "unset", "units")
    assert "GB/s" not in measured("runs", "show", "last").out


def test_a_wrong_unit_is_refused(measured: Program) -> None:
    assert "'MB/s', 'MiB/s', 'GB/s'" in measured("rank", "--units", "kB/s", status=2).err


def test_a_stored_note_is_shown_in_the_unit_too(jovik: Program) -> None:
    steps = ("sequential write 1MiB depth 8 for 1s", "rest until recovered")
    jovik("measure", "model:comet", *steps, "--passes", "2")
    shown = {u: jovik("runs", "show", "last", "--notes", "--units", u).out for u in UNITS}
    rates = {
        unit: re.search(rf"a short write at ([\d,.]+) {unit}, ([\d,.]+) {unit} at first", told)
        for unit, told in shown.items()
    }
    for unit, scale in UNITS.items():
        found, stored = rates[unit], rates["MB/s"]
        assert found is not None and stored is not None, shown[unit]
        for one, other in zip(found.groups(), stored.groups(), strict=True):
            as_shown = float(one.replace(",", "")) * scale
            assert as_shown == pytest.approx(float(other.replace(",", "")) * 1e6, rel=0.006)
