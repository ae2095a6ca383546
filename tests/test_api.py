"""Jovik from Python.

The functions, their documented examples, and that a notebook and a terminal say the same.
"""

from __future__ import annotations

import doctest
import importlib
import inspect
import runpy
import subprocess
import sys
from pathlib import Path

import pytest

import jovik as package
from tests.conftest import Program

TOP = Path(__file__).parents[1]


def functions() -> list[str]:
    return [n for n in package.__all__ if inspect.isfunction(getattr(package, n))]


@pytest.fixture
def here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("JOVIK_SHELF", str(tmp_path / "shelf.db"))
    return tmp_path


def test_every_function_has_an_example_and_each_does_what_it_says(here: Path) -> None:
    api = importlib.import_module("jovik.api")
    run = doctest.DocTestRunner(optionflags=doctest.IGNORE_EXCEPTION_DETAIL)
    finder = doctest.DocTestFinder(recurse=False)
    (story,) = finder.find(api, "jovik.api")
    assert run.run(story).failed == 0
    with package.open_shelf("example.db") as shelf:
        seen = []
        for name in functions():
            for example in finder.find(
                getattr(package, name), name, globs={"jovik": package, "shelf": shelf}
            ):
                if example.examples:
                    seen.append(name)
                assert run.run(example).failed == 0, name
    assert seen == functions()


def test_names_are_loaded_when_they_are_used_and_not_before() -> None:
    code = (
        "import sys, jovik; print(sorted(m for m in sys.modules if m.split('.')[0] in "
        "('numpy', 'pandas', 'sqlalchemy', 'click')))"
    )
    assert (
        subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True
        ).stdout.strip()
        == "[]"
    )
    assert [n for n in package.__all__ if getattr(package, n, None) is None] == []
    with pytest.raises(AttributeError, match="no attribute 'mesure'"):
        package.mesure  # noqa: B018


def test_a_notebook_and_a_terminal_say_the_same(
    jovik: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = ["random read 4KiB depth 4 for 500ms", "sequential write 1MiB depth 8 for 500ms"]
    told = []
    with package.open_shelf(jovik.shelf) as shelf:
        done = package.measure(shelf, "model:comet", *steps, passes=3, seed=5, watch=told.append)
        assert [r.phrase for r in told] == steps == [r.phrase for r in done.results]
        frame = package.frames.results(shelf, newest=True)
    printed = jovik(
        "measure", "model:comet", *steps, "--passes", "3", "--seed", "5", "--format", "json"
    ).json
    for mine, theirs in zip(frame.to_dict("records"), printed["steps"], strict=True):
        assert (
            mine["rate_bytes_s"] == theirs["rate_bytes_s"]["median"]
            and mine["rate_low"] == theirs["rate_bytes_s"]["low"]
        )
        assert mine["latency_p99_ns"] == theirs["latency_ns"]["p99"]
    with package.open_shelf(jovik.shelf) as shelf:
        verdicts = [
            (str(j.verdict), j.claim.what)
            for j in package.judge(shelf, "veldhaar comet 2tb").verdicts
        ]
        places = [(d.drive, str(d.place)) for d in package.rank(shelf).ranking.drives]
    claims = jovik("judge", "Veldhaar Comet 2TB", "--format", "json", status=None).json["claims"]
    assert [(c["verdict"], c["what"]) for c in claims] == verdicts
    ranking = jovik("rank", "--format", "json").json["drives"]
    assert [(d["drive"], d["place"]) for d in ranking] == places


def test_frames_hold_every_pass_and_every_slice_with_its_unit(here: Path) -> None:
    frames = package.frames
    with package.open_shelf("one.db") as shelf:
        empty = [
            frames.drives(shelf),
            frames.claims(shelf),
            frames.runs(shelf),
            frames.results(shelf),
            frames.passes(shelf),
        ]
        assert all(len(f) == 0 and len(f.columns) for f in empty)
        done = package.measure(
            shelf,
            "model:drift",
            "random write 16KiB depth 2 for 1s",
            "rest 1s",
            "random write 16KiB depth 2 for 1s",
            passes=4,
            seed=3,
        )
        key = done.run.id
        passes, slices, runs = (
            frames.passes(shelf, run=key),
            frames.slices(shelf, key),
            frames.runs(shelf, "Ilmaris Drift 1TB"),
        )
        assert (
            list(runs["id"]) == [key]
            and str(runs["started"].dt.tz) == "UTC"
            and runs["target"][0] == "model:drift"
        )
        timed = passes[passes["kind"].str.startswith("random")]
        assert list(zip(timed["position"], timed["number"], strict=True)) == [
            (p, n) for p in (0, 2) for n in (1, 2, 3, 4)
        ]
        in_slices = (
            slices[slices["position"] != 1].groupby(["position", "number"])["written_bytes"].sum()
        )
        in_time = timed["rate_bytes_s"] * timed["elapsed_ns"] / 1e9
        assert [round(x) for x in in_time] == list(in_slices)
        result = frames.results(shelf, "ilmaris drift 1tb").iloc[0]
        assert (
            result["rate_low"] < result["rate_bytes_s"] < result["rate_high"]
            and result["engine"] == "model"
        )
        assert (
            set(frames.claims(shelf)["drive"])
            == {"Ilmaris Drift 1TB"}
            == set(frames.drives(shelf)["name"])
        )
        for wrong in (
            lambda: frames.slices(shelf, "20260101-000000-abcdef"),
            lambda: frames.slices(shelf, key, "random read 4KiB for 1s"),
            lambda: frames.passes(shelf, "no such drive"),
            lambda: package.draw(shelf, "pie", out="x.png"),
            lambda: package.draw(shelf, "claims", out="x.png"),
            lambda: package.draw(shelf, "claims", "ilmaris drift 1tb", out="x.gif"),
            lambda: package.measure(shelf, "model:drift", "random read", budget="soon"),
            lambda: package.repeat(shelf, "none"),
            lambda: package.measure(shelf, "model:drift", plan="first-lok"),
        ):
            with pytest.raises(package.UsageError):
                wrong()


def test_the_look_of_a_picture_does_not_stay_behind(here: Path) -> None:
    import matplotlib as mpl

    before = {
        k: mpl.rcParams[k] for k in ("figure.facecolor", "axes.edgecolor", "backend", "font.size")
    }
    with package.open_shelf("one.db") as shelf:
        package.measure(shelf, "model:comet", "random read 4KiB for 500ms", passes=3, seed=1)
        for kind, drives in (
            ("rank", ()),
            ("claims", ("Veldhaar Comet 2TB",)),
            ("latency", ("Veldhaar Comet 2TB",)),
        ):
            assert (
                package.draw(shelf, kind, *drives, out=here / f"{kind}.png", theme="dark")
                .read_bytes()
                .startswith(b"\x89PNG")
            )
    assert before == {k: mpl.rcParams[k] for k in before}


@pytest.mark.parametrize("example", sorted(p.name for p in (TOP / "examples").glob("*.py")))
def test_an_example_runs_from_its_first_to_its_last_line(here: Path, example: str) -> None:
    runpy.run_path(str(TOP / "examples" / example), run_name="__main__")
    made = {p.name for p in here.iterdir()}
    assert {"shelf.db", "review.html"} <= made, made


def test_a_poor_cable_is_not_blamed_on_a_drive_that_did_better_elsewhere(jovik: Program) -> None:
    comet = (Path(package.__file__).parent / "simulator" / "catalogue" / "comet.toml").read_text()
    slow = jovik.folder / "slow.toml"
    slow.write_text(comet.replace('link_rate = "7877MB/s"', 'link_rate = "1000MB/s"'))
    step = "sequential read 1MiB depth 8 for 1s"
    jovik("measure", f"model:{slow}", step, "--rig", "laptop", "--seed", "1")
    (claim,) = [
        c
        for c in jovik("judge", "Veldhaar Comet 2TB", "--format", "json", status=1).json["claims"]
        if c["measured"]
    ]
    assert claim["verdict"] == "short" and claim["limit"] is None
    run = jovik(
        "measure", "model:comet", step, "--rig", "bench", "--seed", "2", "--format", "json"
    ).json["run"]
    jovik("judge", "Veldhaar Comet 2TB")
    jovik("measure", f"model:{slow}", step, "--rig", "laptop", "--seed", "3")
    found = jovik("judge", "Veldhaar Comet 2TB", "--format", "json").json
    (claim,) = [c for c in found["claims"] if c["measured"]]
    assert (
        claim["verdict"] == "met"
        and f"on rig 'bench' (run {run})" in claim["why"]
        and "not used: 1,000 MB/s on rig 'laptop', where the same sample did less" in claim["why"]
    )
    said = jovik("judge", "Veldhaar Comet 2TB").out
    assert (
        "1 of 6 claims met" in said
        and "on rig 'laptop' the same sample was clearly slower" in said
        and "is suspect" not in said
    )
    jovik("judge", "Veldhaar Comet 2TB", "--samples")
    jovik("measure", "model:slate", step, "--rig", "laptop", "--seed", "6")
    look = "on 'bench' sample 1 was clearly faster (sequential read, 1 MiB, depth 8)"
    for words in (
        ["upgrade", "Corvane Slate 1TB", "Veldhaar Comet 2TB"],
        ["fit", "Veldhaar Comet 2TB"],
    ):
        assert look in " ".join(jovik(*words).out.split())
    assert look not in jovik("fit", "Corvane Slate 1TB").out
    assert "on 'bench' sample 1 was clearly faster (sequential read, 1 MiB, depth 8)" in " ".join(
        jovik("rank").out.split()
    )
    (held,) = jovik("rank", "--format", "json").json["held_by_rig"]
    assert held == {
        "drive": "Veldhaar Comet 2TB",
        "sample": "sample 1",
        "unit": "sample 1",
        "rig": "laptop",
        "better_rig": "bench",
        "kinds": ["sequential read 1MiB depth 8"],
    }
    jovik("measure", "model:comet", step, "--rig", "bench", "--seed", "5")
    assert jovik("rank", "--format", "json").json["held_by_rig"] == [], (
        "the newest figures are the good rig's"
    )
    # Another sample that is far below its sibling is named, and does not represent the drive.
    slow.write_text(slow.read_text().replace("VHC-41207", "VHC-99999"))
    jovik("measure", f"model:{slow}", step, "--rig", "porch", "--seed", "4")
    found = jovik("judge", "Veldhaar Comet 2TB", "--format", "json").json
    (claim,) = [c for c in found["claims"] if c["measured"]]
    assert claim["verdict"] == "met" and "of sample 2, which is suspect" in claim["why"]
    assert [s["sample"] for s in found["suspects"]] == ["sample 2"]


def test_much_of_a_drives_life_is_not_written_away_unasked(here: Path) -> None:
    with package.open_shelf("one.db") as shelf:
        package.new_drive(shelf, "Tern", endurance="1GB", capacity="1TB")
        asked = (str(here), "sequential write 64KiB over 32MB")
        with pytest.raises(package.UsageError, match="endurance rating, more than 1 %"):
            package.measure(shelf, *asked, drive="Tern", passes=1)
        assert package.frames.runs(shelf).empty, "nothing was begun"
        done = package.measure(shelf, *asked, drive="Tern", passes=1, yes=True)
        with pytest.raises(package.UsageError, match="endurance rating"):
            package.repeat(shelf, done.run.id)
        assert package.repeat(shelf, done.run.id, yes=True).run.state == "done"


def test_every_result_in_a_frame_has_its_latencies(jovik: Program) -> None:
    jovik("measure", "model:slate", "random read 4KiB for 1s", "--passes", "2")
    with package.open_shelf(jovik.shelf) as shelf:
        frame = package.frames.results(shelf)
    assert (frame["latency_p50_ns"] > 0).all()
    assert (frame["latency_p50_ns"] <= frame["latency_p99_ns"]).all()
