"""Classes of drives: their figures hold together, drives find theirs, and every reader says so."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest

from jovik.analysis.drive_class import Standing, class_figures, class_index
from jovik.analysis.step_result import Conditions, PassFigures, StepResult
from jovik.hardware.link import named_link
from jovik.queries.drive_class import class_of, gaps, ranges_of, standing_in
from jovik.sheets.drive_class import class_names, read_class
from jovik.sheets.sheet import Drive
from tests.conftest import Program

LINKS = {
    "sata-ssd": "SATA 6 Gb/s",
    "pcie3-ssd": "PCIe 3.0 x4",
    "pcie4-ssd": "PCIe 4.0 x4",
    "pcie5-ssd": "PCIe 5.0 x4",
    "usb2-ssd": "USB 480 Mb/s",
    "usb5-ssd": "USB 5 Gb/s",
    "usb10-ssd": "USB 10 Gb/s",
    "usb20-ssd": "USB 20 Gb/s",
}


@pytest.mark.parametrize("name", class_names())
def test_a_class_is_in_order_and_within_its_link(name: str) -> None:
    found = read_class(name)
    for f in found.figures:
        assert 0 < f.low < f.usual < f.high and f.why and f.source, f
    usual = {f.what: f.usual for f in found.figures}
    assert usual["random read 4KiB depth 32"] >= usual["random read 4KiB"]
    assert usual["sustained write"] <= usual["sequential write"]
    if name in LINKS:
        link = named_link(LINKS[name])
        assert link is not None and link[0].rate_bytes_s is not None
        top = max(f.high for f in found.figures if f.unit == "bytes/s")
        assert top <= link[0].rate_bytes_s
        assert max(f.high * 4096 for f in found.figures if f.unit == "IOPS") <= link[0].rate_bytes_s
    if name.startswith("hdd"):
        half_turn_s = 60 / float(name.removeprefix("hdd-")) / 2
        # Half a turn and a short seek are the minimum of an access. Small platters are faster.
        seek_s = 0.0025 if name == "hdd-10000" else 0.004
        assert max(f.high for f in found.figures if f.what == "random read 4KiB") < 1 / (
            half_turn_s + seek_s
        )


@pytest.mark.parametrize(
    ("interface", "medium", "named", "wanted"),
    [
        ("SATA 6 Gb/s", "solid state", None, "sata-ssd"),
        ("PCIe 4.0 x4", "solid state", None, "pcie4-ssd"),
        ("PCIe 4.0 x2", "solid state", None, None),
        ("USB 10 Gb/s", "solid state", None, "usb10-ssd"),
        ("USB 10 Gb/s", "", None, None),
        ("SATA 6 Gb/s", "spinning", None, None),
        ("SATA 6 Gb/s, 7200 rpm", "spinning", None, "hdd-7200"),
        ("SATA 6 Gb/s", "5,400 rpm", None, "hdd-5400"),
        ("USB 5 Gb/s", "solid state", "stick", "stick"),
        ("", "", None, None),
    ],
)
def test_a_drive_finds_its_class(
    interface: str, medium: str, named: str | None, wanted: str | None
) -> None:
    found = class_of(Drive("D", interface=interface, medium=medium, class_name=named))
    assert (found.name if found else None) == wanted


def made(kind: str, value: float) -> StepResult:
    passes = tuple(
        PassFigures(value * n, value * n, value * n / 4096, 0, 0, 10**9, 0, 0)
        for n in (0.999, 1.0, 1.001)
    )
    return StepResult(kind, kind, passes, {}, Conditions("io_uring", True, 2**30), "D", "r")


def test_a_drive_that_does_what_is_usual_is_at_100() -> None:
    found = read_class("sata-ssd")
    results = []
    for f in found.figures:
        block = " 1MiB depth 8" if f.what.startswith("sequential") else ""
        if f.what != "sustained write":
            results.append(made(f.what + block, f.usual * (4096 if f.unit == "IOPS" else 1)))
    figures = class_figures(results, ranges_of(found))
    assert [f.standing for f in figures] == [Standing.WITHIN] * 6
    index = class_index(figures)
    assert index is not None and index.median == pytest.approx(100)
    assert index.low is not None and index.low < 98.5  # the floor between runs does not average out
    twice = class_index(
        class_figures(
            [made(r.kind, 2 * r.passes[1].iops * 4096) for r in results], ranges_of(found)
        )
    )
    assert twice is not None and twice.median == pytest.approx(200)
    slow = class_figures([made("random read 4KiB", 1000 * 4096)], ranges_of(found))
    assert slow[0].standing is Standing.BELOW


def test_a_slow_cable_is_no_figure_of_a_drive(jovik: Program) -> None:
    steps = ("sequential read 1MiB depth 8 for 1s", "random read 4KiB for 1s")
    jovik("measure", "model:pebble@link=USB 480 Mb/s", *steps, "--passes", "3")
    found = jovik("runs", "show", "last", "--format", "json").json["class"]
    assert found["name"] == "usb2-ssd" and found["link"] == "USB 480 Mb/s"
    assert found["index"]["median"] > 80


def test_a_short_way_of_the_arm_is_no_figure_of_a_disk() -> None:
    near, far = made("random read 4KiB", 170 * 4096), made("random read 4KiB", 80 * 4096)
    near = replace(near, conditions=replace(near.conditions, span_bytes=2**30))
    far = replace(far, conditions=replace(far.conditions, span_bytes=6 * 10**12))
    disk = read_class("hdd-7200")
    assert standing_in(disk, [near], capacity_bytes=12 * 10**12) is None
    found = standing_in(disk, [far], capacity_bytes=12 * 10**12)
    assert found is not None and found.figures[0].standing is Standing.WITHIN


def test_classes_that_lie_far_apart_say_why() -> None:
    names = ("pcie4-ssd", "hdd-7200", "sata-ssd")
    found = {(g.faster.name, g.slower.name): g for g in gaps([read_class(n) for n in names])}
    assert set(found) == {
        ("pcie4-ssd", "hdd-7200"),
        ("sata-ssd", "hdd-7200"),
        ("pcie4-ssd", "sata-ssd"),
    }
    assert "half a turn" in found["pcie4-ssd", "hdd-7200"].why_slower
    assert found["pcie4-ssd", "sata-ssd"].what == "sequential read"


def test_a_drive_of_no_class_gets_an_overall_figure_all_the_same(jovik: Program) -> None:
    jovik("sheet", "new", "Some drive")
    words = ("random read 4KiB for 200ms within 8MB", "--passes", "3", "--drive", "Some drive")
    told = jovik("measure", ".", *words).out
    assert "where 100 is usual for a SATA SSD" in told and "its own class is unknown" in told
    found = jovik("runs", "show", "last", "--format", "json").json["class"]
    assert found["own"] is False and found["index"]["median"] > 0
    jovik("sheet", "edit", "Some drive", "--class", "usb10-ssd")
    assert jovik("runs", "show", "last", "--format", "json").json["class"]["name"] == "usb10-ssd"
    refused = jovik("sheet", "edit", "Some drive", "--class", "usb10", status=2).err
    assert "nearest: usb10-ssd" in refused


def test_every_reader_says_where_a_drive_lies_in_its_class(jovik: Program) -> None:
    steps = ["sequential read 1MiB depth 8 for 1s", "random read 4KiB for 1s"]
    told = jovik("measure", "model:slate", *steps, "--passes", "5", "--seed", "3")
    assert "where 100 is usual for a SATA SSD, by 2 of its 7 figures" in told.out
    found = jovik("runs", "show", "last", "--format", "json").json["class"]
    assert found["name"] == "sata-ssd" and len(found["figures"]) == 2
    middle = math.sqrt(math.prod(f["value"]["median"] / f["usual"] for f in found["figures"]))
    assert found["index"]["median"] == pytest.approx(100 * middle, rel=0.02)
    assert (
        "usual for a SATA SSD: 480 to 560 MB/s"
        in jovik("judge", "Corvane Slate 1TB", status=None).out
    )
    jovik("measure", "model:gannet", *steps, "--passes", "5", "--seed", "3")
    ranking_report = jovik("rank", "--yardstick", "class:sata-ssd")
    assert "index 100 is SATA SSD" in ranking_report.out
    assert "SATA SSD is usually 120 times as fast as a 7,200 rpm disk" in ranking_report.out
    index = jovik("rank", "--yardstick", "class:sata-ssd", "--format", "json").json
    slate = next(d for d in index["drives"] if d["drive"] == "Corvane Slate 1TB")
    assert slate["index"]["median"] == pytest.approx(100 * middle, rel=0.02)
    assert ("Corvane Gannet 12TB", "hdd-7200") in {
        (c["drive"], c["name"]) for c in index["classes"]
    }
    assert "nearest: sata-ssd" in jovik("rank", "--yardstick", "class:sata", status=2).err
    classes = jovik("fit", "--classes", "--format", "json").json["classes"]
    assert {c["name"] for c in classes} == set(class_names())
    assert "7,200 rpm disk" in jovik("fit", "--classes").out
    jovik("report", "Corvane Slate 1TB", "--out", "page.html")
    assert "the usual SATA SSD" in (jovik.folder / "page.html").read_text()
