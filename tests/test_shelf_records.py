"""What the shelf gives back: the newest results, passes as they were, notes.

And that every key of the JSON is documented.
"""

from __future__ import annotations

import ast
import io
import json
import re
import sqlite3
import zipfile
from dataclasses import asdict, replace
from importlib import resources
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.analysis.run_effect import PRIOR_ALONE
from jovik.analysis.step_result import Conditions, StepResult
from jovik.base import histogram
from jovik.base.findings import (
    CopyFinding,
    Disturbance,
    DropOuts,
    Findings,
    Level,
    LongWrite,
    RateDrop,
    TemperatureRange,
)
from jovik.base.interval import Interval
from jovik.base.plain_data import plain
from jovik.base.trace import IoFault, Latencies, PassSurroundings, ReplayRecord, ScanRecord, Trace
from jovik.hardware.rig import Rig
from jovik.queries.evidence import of_each_sample
from jovik.sheets.reading import Note, Reading
from jovik.sheets.sheet import Drive, Sheet
from jovik.shelf import encoding, records, run_records
from jovik.shelf.run_records import read_findings
from jovik.shelf.store import Shelf
from jovik.shelf.writer import RunWriter
from jovik.steps import parse, plan_names
from tests.conftest import SCHEMAS, Program

CONDITIONS = Conditions("io_uring", True, 2**30, rig="bench", sample="sample 1")
TOP = Path(__file__).parents[1]


def trace(rate: float = 1e8, **more: Any) -> Trace:
    slices = np.zeros((10, 5), np.int64)
    slices[:, 0], slices[:, 1] = round(rate / 10), round(rate / 40960)
    counts = np.zeros(histogram.COUNT, np.int64)
    counts[[300, 400]] = 90, 10
    return Trace(
        "io_uring",
        True,
        7,
        10**9,
        1000,
        2000,
        slices,
        {"read": Latencies(counts, 5, 99_999, 123_456)},
        **more,
    )


@pytest.fixture
def shelf(tmp_path: Path) -> Any:
    with Shelf(str(tmp_path / "s.db"), create=True) as opened:
        for name in ("A", "B"):
            opened.additions.enrol(Sheet(Drive(name)))
        yield opened


def run(
    shelf: Shelf,
    drive: str,
    *steps: tuple[str, float],
    filled: int | None = None,
    sample: str = "sample 1",
    ladder: str | None = None,
) -> RunWriter:
    """A finished run with these steps and rates, three passes each."""
    writer = shelf.additions.begin_run(
        drive, Rig("bench", {}), {"kind": "folder", "path": "/x"}, "phrases", 1, {}, "0"
    )
    for position, (phrase, rate) in enumerate(steps):
        step = parse(phrase)
        conditions = replace(CONDITIONS, filled_percent=filled, sample=sample)
        writer.step_begun(position, step, conditions)
        for number in (1, 2, 3):
            writer.pass_done(position, number, trace(rate * (1 + number / 100)))
        findings = Findings(ladder=ladder)
        writer.step_done(
            position,
            StepResult(phrase, step.kind, (), {}, conditions, notes=("a note",), findings=findings),
        )
    writer.close("done")
    return writer


def rates(found: list[StepResult]) -> dict[tuple[str, str], float]:
    return {(r.drive, r.kind): round(r.passes[0].rate_bytes_s / 1.01e6) for r in found}


READ, DEEP = "random read 4KiB", "random read 4KiB depth 32"


def test_the_newest_of_each_kind_counts_in_the_order_of_the_first(shelf: Shelf) -> None:
    run(shelf, "B", (READ, 1e8), (DEEP, 2e8))
    run(shelf, "A", (READ, 3e8))
    run(shelf, "B", (READ, 4e8), ("rest 5s", 0))
    assert rates(shelf.results.latest()) == {("B", READ): 400, ("B", DEEP): 200, ("A", READ): 300}
    assert shelf.results.latest()[0].drive == "B", (
        "the drive measured first comes first, whatever is newest"
    )
    assert rates(shelf.results.latest("a")) == {("A", READ): 300}
    assert (
        list(shelf.sheets.drives()) == ["A", "B"]
        and shelf.sheets.drives()["A"] == shelf.sheets.get("a").drive
    )
    assert not any(r.latencies for r in shelf.results.latest()) and all(
        r.latencies for r in shelf.results.latest(with_latencies=True)
    )


def test_rungs_and_full_drives_stand_back(shelf: Shelf) -> None:
    run(shelf, "A", (READ, 1e8))
    run(shelf, "A", (READ, 5e8), (DEEP, 6e8), ladder="random read 4KiB depth 1..32")
    run(shelf, "A", (READ, 7e8), filled=90)
    assert rates(shelf.results.latest()) == {("A", READ): 100}, (
        "a rung has fewer passes, and takes no step's place"
    )
    assert rates(shelf.results.latest(ladders=True)) == {("A", READ): 500, ("A", DEEP): 600}
    found = shelf.results.latest(filled=True, ladders=True)
    assert sorted(
        (r.conditions.filled_percent or 0, round(r.passes[0].rate_bytes_s / 1.01e6)) for r in found
    ) == [(0, 500), (0, 600), (90, 700)]
    run(shelf, "B", (READ, 1e8), ladder="random read 4KiB depth 1,2,4")
    assert rates(shelf.results.latest()) == {("A", READ): 100, ("B", READ): 100}, (
        "where there is nothing else they count"
    )


def test_units_lie_side_by_side(shelf: Shelf) -> None:
    run(shelf, "A", (READ, 1e8), sample="sample 1")
    run(shelf, "A", (READ, 2e8), sample="sample 2")
    run(shelf, "A", (READ, 3e8), sample="sample 2")
    assert {
        r.conditions.sample: [round(p.rate_bytes_s / 1.01e6) for p in r.passes][::3]
        for r in of_each_sample(shelf.results.every("A"), PRIOR_ALONE)
    } == {"sample 1": [100], "sample 2": [200, 300]}


def test_a_pass_comes_back_as_it_was(shelf: Shelf) -> None:
    around = PassSurroundings(0.5, 0.4, 0.01, 77, ((0.0, {"drive": 40.5}), (1.0, {"drive": 41.0})))
    given = trace(
        late_written_bytes=4096,
        first_fault=IoFault(5, "Input/output error", 8192, "read", 12),
        environment=around,
        scan=ScanRecord((0, 10), 10, (1e8, 0.0), (5e4, None), (0, 3), 77),
    )
    writer = shelf.additions.begin_run(
        "A", Rig("bench", {}), {"kind": "folder", "path": "/x"}, "phrases", 1, {"tasks": []}, "0"
    )
    writer.step_begun(0, parse(READ), CONDITIONS)
    writer.pass_done(0, 1, given)
    for back in (shelf.runs.traces(writer.id, READ)[0], next(shelf.runs.passes(writer.id)).trace):
        assert (back.slices == given.slices).all() and (
            back.latencies["read"].counts == given.latencies["read"].counts
        ).all()
        # Arrays have no single truth value, so they are left out of what is compared at once.
        bare = {"slices": None, "latencies": {}}
        assert replace(back, **bare) == replace(given, **bare)  # type: ignore[arg-type]
        assert (
            back.latencies["read"].minimum_ns,
            back.latencies["read"].maximum_ns,
            back.latencies["read"].sum_ns,
        ) == (5, 99_999, 123_456)
    assert next(shelf.runs.passes(writer.id)).whole is False
    writer.pass_done(0, 1, trace(9e8))
    assert [round(t.rate_bytes_s / 1e6) for t in shelf.runs.traces(writer.id, READ)] == [900], (
        "made again, it takes the other's place"
    )
    writer.step_done(0, StepResult(READ, READ, (), {}, CONDITIONS))
    assert next(shelf.runs.passes(writer.id)).whole is True


def test_runs_are_found_and_opened_again(shelf: Shelf) -> None:
    assert shelf.runs.latest() is None
    first = run(shelf, "A", (READ, 1e8))
    second = shelf.additions.begin_run(
        "A", Rig("bench", {}), {"kind": "folder", "path": "/x"}, "phrases", 1, {}, "0"
    )
    assert (
        shelf.runs.latest() == second.id
        and shelf.runs.latest(("done",)) == first.id
        and shelf.runs.latest(("failed",)) is None
    )
    second.close("interrupted")
    again = shelf.additions.resume_run(second.id, {"tasks": [{"phrase": READ}]})
    assert (
        again.id == second.id
        and shelf.runs.get(second.id).state == "running"
        and shelf.runs.get(second.id).options == {"tasks": [{"phrase": READ}]}
    )
    assert shelf.runs.get(second.id).ended is None


def test_notes_and_every_reading_of_each(shelf: Shelf) -> None:
    shelf.additions.note(
        "a",
        [Note("pro", "quick"), Note("con", "hot")],
        [Reading("boot time", 9.0, "s", "stopwatch"), Reading("noise", 0.0, "dB")],
    )
    shelf.additions.note(
        "A",
        [],
        [Reading("Boot Time", 8.0, "s", "Stopwatch"), Reading("boot time", 7.0, "s", "by eye")],
    )
    assert [(n.sort, n.text) for n in shelf.notes.of("A")] == [("pro", "quick"), ("con", "hot")]
    assert sorted((r.value, r.method.casefold()) for r in shelf.notes.readings("A")) == [
        (0.0, ""),
        (7.0, "by eye"),
        (8.0, "stopwatch"),
        (9.0, "stopwatch"),
    ]
    assert shelf.notes.readings("B") == [] and {r.drive for r in shelf.notes.readings()} == {"A"}


def keys_of(value: Any) -> set[str]:
    """Every key of a JSON value, those of free names left out."""
    if isinstance(value, list):
        return {k for v in value for k in keys_of(v)}
    if not isinstance(value, dict):
        return set()
    free = ("conditions", "device", "options", "health")
    return set(value) | {k for name, v in value.items() if name not in free for k in keys_of(v)}


def test_every_key_of_the_json_is_documented(shown: Program) -> None:
    documented = set(re.findall(r"[a-z][a-z0-9_]+", (TOP / "docs" / "json.md").read_text()))
    comet, slate = "Veldhaar Comet 2TB", "Corvane Slate 1TB"
    sheet = (resources.files("jovik.simulator") / "catalogue" / "comet.toml").read_text(
        encoding="utf-8"
    )
    (shown.folder / "hub.toml").write_text(
        sheet.replace('link_rate = "7877MB/s"', 'link_rate = "450MB/s"'), encoding="utf-8"
    )
    shown("measure", "model:hub.toml", "sequential read 512KiB depth 4 for 1s", "--rig", "hub")
    assert shown("rank", "--format", "json").json["held_by_rig"]
    phrases = [
        "random read 4KiB depth 1,2,4 for 1s",
        "sequential write 1MiB over 40GB",
        "fill to 50%",
        "random read 4KiB for 1s",
        "scan read in 9 zones",
        "copy in 3 files of 1MB",
    ]
    for words in (
        ["measure", "model:slate", *phrases, "--passes", "2"],
        ["judge", comet],
        ["judge", comet, "--samples"],
        ["rank", "--review", comet],
        ["upgrade", slate, comet, "--link", "1GB/s"],
        ["fit", comet],
        ["fit", "--loads"],
        ["note", comet],
        ["sheet", "show", comet],
        ["sheet", "list"],
        ["plan", "list"],
        ["plan", "show", "first-look"],
    ):
        answer = shown(*words, "--format", "json", status=None)
        missing = keys_of(json.loads(answer.out)) - documented
        assert not missing, (words, sorted(missing))


def test_the_documents_name_what_there_is() -> None:
    """Documents name the plans, loads and models that ship, and link pictures and pages."""
    from jovik.sheets.load import load_names
    from jovik.simulator import model_names
    from jovik.simulator.parameters import (
        AcousticNoise,
        Behaviour,
        Heat,
        Platter,
        Power,
        StuckSensor,
        UnreadableRange,
    )
    from jovik.steps.replay import recording_names

    readme, models = (TOP / "README.md").read_text(), (TOP / "docs" / "model-drives.md").read_text()
    assert set(re.findall(r"`model:([a-z]+)`", models)) == set(model_names())
    texts = {p: p.read_text() for p in [TOP / "README.md", *(TOP / "docs").glob("*.md")]}
    for path, text in texts.items():
        for link in re.findall(r"\]\(((?!http)[^)#]+)\)", text):
            assert (path.parent / link).exists(), (path.name, link)
        assert set(re.findall(r"--plan ([a-z-]+)(?![a-z.-])", text)) <= set(plan_names())
        assert set(re.findall(r"--load ([a-z0-9-]+)(?!\S)", text)) <= {
            *load_names(),
            *recording_names(),
        }
    pages = [p for p in texts if p.parent.name == "docs" and p.stem != "index"]
    assert all(f"docs/{p.name}" in readme for p in pages)
    # The site has every page, too.
    contents = (TOP / "docs" / "index.md").read_text().split()
    assert all(p.stem in contents for p in pages)
    pictures = {p.name for p in (TOP / "docs" / "screenshots").glob("*.png")}
    assert (
        len(pictures) < 20
        and {n for t in texts.values() for n in re.findall(r"screenshots/([a-z-]+\.png)", t)}
        == pictures
    )
    shapes = (Behaviour, Heat, Platter, UnreadableRange, StuckSensor, Power, AcousticNoise)
    assert all(name in models for shape in shapes for name in shape.model_fields)


def test_many_steps_are_found_as_few_are(jovik: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    from jovik.shelf import results as read_results

    for model in ("comet", "slate"):
        jovik(
            "measure",
            f"model:{model}",
            "random read 4KiB depth 1,4 for 200ms",
            "random write 4KiB for 200ms",
            "--seed",
            "1",
            "--rig",
            "a",
        )
    jovik("measure", "model:slate", "random write 4KiB for 200ms", "--seed", "2", "--rig", "b")
    shelf = Shelf(str(jovik.shelf))
    few = shelf.results.latest(ladders=True), shelf.results.candidates()
    monkeypatch.setattr(read_results, "MOST_NAMED", 1)
    assert (
        (shelf.results.latest(ladders=True), shelf.results.candidates()) == few
        and len(few[0]) == 6
        and len(few[1]) == 7
    )


def test_a_pass_that_an_older_numpy_stored_with_a_false_array_is_read(shown: Program) -> None:
    """NumPy before 2.2 stored the keyword allow_pickle as an array."""
    stray = io.BytesIO()
    np.save(stray, np.array(False))
    with sqlite3.connect(shown.shelf) as connection:
        for row, *blobs in connection.execute("select id, slices, latencies from pass").fetchall():
            for column, blob in zip(("slices", "latencies"), blobs, strict=True):
                file = io.BytesIO(blob)
                with zipfile.ZipFile(file, "a") as archive:
                    archive.writestr("allow_pickle.npy", stray.getvalue())
                connection.execute(
                    f"update pass set {column} = ? where id = ?", (file.getvalue(), row)
                )
    shown("picture", "latency", "Veldhaar Comet 2TB", "--out", "latency.png")
    shown("report", "Veldhaar Comet 2TB", "--out", "review.html")
    shown("shelf", "export", "--out", "all.zip")


def test_what_is_packed_holds_the_given_arrays_only() -> None:
    with np.load(io.BytesIO(encoding.pack(slices=np.arange(3))), allow_pickle=False) as found:
        assert found.files == ["slices"]


numbers = st.integers(0, 2**50)
amounts = st.floats(0, 1e12)


@given(
    st.builds(
        Findings,
        long_write=st.none()
        | st.builds(
            LongWrite,
            block_bytes=numbers,
            total_bytes=numbers,
            seconds=amounts,
            parts=st.lists(
                st.builds(
                    Level,
                    amounts,
                    amounts,
                    numbers,
                    numbers,
                    st.builds(Interval, amounts, amounts),
                    amounts,
                ),
                min_size=1,
            ).map(tuple),
            falls=st.lists(
                st.builds(RateDrop, numbers, amounts, numbers, numbers, amounts, amounts)
            ).map(tuple),
            would_see=amounts,
            steady_from_s=st.none() | amounts,
        ),
        drop_outs=st.none() | st.builds(DropOuts, numbers, amounts, amounts),
        copy=st.none()
        | st.builds(CopyFinding, numbers, numbers, amounts, amounts, amounts, st.none()),
        temperature=st.none() | st.builds(TemperatureRange, amounts, amounts),
        disturbances=st.lists(st.sampled_from(Disturbance)).map(tuple),
        ladder=st.none() | st.just("random read 4KiB depth 1..4"),
    )
)
def test_findings_come_back_from_their_json(found: Findings) -> None:
    assert read_findings(json.loads(json.dumps(plain(found)))) == found


@pytest.mark.parametrize("stored", [{"copy": {"files": 1}}, {"long_write": {}}, {"surface": 3}])
def test_findings_that_are_none_are_refused(stored: dict[str, Any]) -> None:
    with pytest.raises(ValueError, match="its findings"):
        read_findings(stored)


def test_every_document_has_a_schema_and_every_schema_a_document() -> None:
    """What tests have the program print is held against them (tests/conftest.py)."""
    places = [
        p for part in ("cli", "answers", "report") for p in (TOP / "src/jovik" / part).rglob("*.py")
    ]
    source = "".join(p.read_text(encoding="utf-8") for p in places)
    named = set()
    for node in ast.walk(ast.parse(source.replace("from __future__ import annotations", ""))):
        if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "emit_json":
            if isinstance(node.args[1], ast.Constant):
                named.add(node.args[1].value)
            else:
                assert ast.unparse(node.args[1]) == "answer.schema"
        elif isinstance(node, ast.AnnAssign) and isinstance(node.value, ast.Constant):
            named |= {node.value.value} if getattr(node.target, "id", "") == "schema" else set()
    assert named == {p.stem for p in SCHEMAS.glob("*.json")}


def test_the_record_of_a_replay_is_read_under_the_names_of_earlier_versions() -> None:
    """Shelves hold `way_read_ns` of a replay that was stored before the field had its name."""
    record = ReplayRecord(3, 30, 20, 31, 21, overhead_read_ns=7, overhead_write_ns=8)
    stored = asdict(record)
    for new, old in (("overhead_read_ns", "way_read_ns"), ("overhead_write_ns", "way_write_ns")):
        stored[old] = stored.pop(new)
    assert run_records._recorded(stored) == {"replay": record}
    with pytest.raises(records.DamagedRecord):
        run_records._recorded(stored | {"way_read_ns": "long"})
