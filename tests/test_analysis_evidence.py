"""Which result represents a drive: the sample, the link, the state, the depth and the pass."""

from __future__ import annotations

import io
import re
from dataclasses import replace
from typing import Any

import pytest
from PIL import Image

from jovik.analysis.claim_candidates import Lack, suggested_phrase
from jovik.analysis.claims import ClaimVerdict, Verdict, judge_claims
from jovik.analysis.comparison import compare_results, paired
from jovik.analysis.evidence import Choice, Drawback, choose
from jovik.analysis.ladder import ladders_in
from jovik.analysis.limits import group_limit
from jovik.analysis.ranking import Exclusion, Ranking, rank_drives
from jovik.analysis.step_result import Limit, LimitSource, StepResult
from jovik.analysis.suitability import fit
from jovik.base.findings import Findings
from jovik.queries.drive_class import class_of, standing_of
from jovik.queries.evidence import weigh
from jovik.queries.ranking import RankingReport
from jovik.report.card import draw_card
from jovik.sheets.load import Load, read_load
from jovik.sheets.sheet import Claim, Drive, parse_claim
from jovik.steps import parse
from jovik.tables.drive_class import standing_lines
from tests.conftest import Program
from tests.test_analysis_verdicts import long_write, made

STREAM = "sequential read 1MiB depth 8"
WRITE = "sequential write 1MiB depth 8"
FAST_LINK, SLOW_LINK = 7.2e9, 3.5e9


def ran(
    rate: float, kind: str = STREAM, *, day: int = 1, spread: float = 0.002, **conditions: Any
) -> StepResult:
    """A result of three passes on a day, under these conditions."""
    more = {k: conditions.pop(k) for k in ("findings", "drive") if k in conditions}
    passes = [rate, rate * (1 + spread), rate * (1 - spread)]
    one = made(passes, kind, **more)
    met = replace(one.conditions, **conditions)
    return replace(one, conditions=met, run=f"run {day}", started=f"2026-11-{day:02}")


def of(*results: StepResult) -> Choice:
    """The choice among results of one kind."""
    (choice,) = weigh(results).choices
    return choice


def judged(claim: Claim, *results: StepResult) -> ClaimVerdict:
    """The verdict on one claim, by the evidence among these results."""
    every = weigh(results)
    over = every.passed_over().newer
    return judge_claims([claim], every.results, passed_over=over)[0]


# Which sample, on which link


def three_samples() -> list[StepResult]:
    """Two samples on their own link, and the newest on a slot that carries half."""
    good = [
        ran(6.7e9 + n * 1e7, day=n, sample=f"s{n}", link="PCIe 4.0 x4", link_bytes_s=FAST_LINK)
        for n in (1, 2)
    ]
    slot = ran(3.4e9, day=3, sample="s3", rig="old", link="PCIe 3.0 x4", link_bytes_s=SLOW_LINK)
    return [*good, slot]


def test_a_sample_on_a_narrow_slot_does_not_represent_its_drive() -> None:
    every = weigh(three_samples())
    assert every.choices[0].result.conditions.sample == "s2" and not every.suspects
    (verdict,) = judge_claims(
        [parse_claim("sequential read", "6600MB/s")],
        every.results,
        passed_over=every.passed_over().newer,
    )
    assert verdict.verdict is Verdict.MET
    assert "not used: 3,400 MB/s of s3 on PCIe 3.0 x4, which carries no more" in verdict.why
    found = {c.drawback: c.lacks for c in verdict.candidates}
    assert found[Drawback.LINK] == (Lack.NOT_CHOSEN,)


@pytest.mark.parametrize(
    ("unit", "per_s", "source"),
    [("bytes", 40_000_000, LimitSource.GROUP_BYTES), ("I/Os", 40, LimitSource.GROUP_IOS)],
)
def test_what_a_control_group_held_back_does_not_represent_its_drive(
    unit: str, per_s: int, source: LimitSource
) -> None:
    free, held = ran(5e8, day=1), ran(4e7, day=2)
    assert group_limit(free.passes, [("write", unit, per_s)]) == ()
    limits = group_limit(held.passes, [("read", unit, per_s)])
    assert [x.what for x in limits] == [source]
    assert limits[0].rate_bytes_s == pytest.approx(4e7, rel=0.05)
    # What stays well below a limit is not the limit's.
    assert group_limit(held.passes, [("read", unit, 2 * per_s)]) == ()
    choice = of(free, replace(held, limits=limits))
    assert choice.result.run == "run 1"
    assert choice.why_not(choice.unused[0]) is Drawback.CONTROL_GROUP
    claim = parse_claim("sequential read", "500MB/s")
    assert judged(claim, replace(held, limits=limits)).verdict is Verdict.HELD


def test_small_reads_that_a_narrow_slot_carries_count() -> None:
    narrow = {"link": "PCIe 3.0 x4", "link_bytes_s": SLOW_LINK}
    older = ran(8.0e7, "random read 4KiB", day=1, link_bytes_s=FAST_LINK)
    newer = ran(8.1e7, "random read 4KiB", day=2, **narrow)
    assert of(older, newer).result is newer


def test_a_suspect_sample_is_not_the_drives_newest_figure() -> None:
    results = [ran(1e9, day=n, sample=f"s{n}") for n in (1, 2)]
    bad = ran(5e8, day=3, sample="s3")
    every = weigh([*results, bad])
    assert [s.sample for s in every.suspects["A"]] == ["s3"]
    (choice,) = every.choices
    assert choice.result is results[1] and choice.why_not(choice.unused[0]) is Drawback.SUSPECT


@pytest.mark.parametrize("worse", [d for d in Drawback if d is not Drawback.OLDER])
def test_recency_decides_only_between_equals(worse: Drawback) -> None:
    """Each drawback alone makes an older result the drive's."""
    old = ran(1e9, day=1)
    new = ran(1.001e9, day=2)
    conditions = {
        Drawback.BUFFERED: {"direct": False},
        Drawback.LINK: {"link_bytes_s": 9e8},
        Drawback.SUSPECT: {"sample": "s2"},
        Drawback.RIG: {"rig": "other"},
    }
    bad = replace(new, conditions=replace(new.conditions, **conditions.get(worse, {})))
    if worse is Drawback.LINK:
        old = replace(old, conditions=replace(old.conditions, link_bytes_s=3e9))
    if worse in (Drawback.RIG, Drawback.SUSPECT):
        bad = replace(bad, passes=ran(5e8).passes)
    if worse is Drawback.NO_FIGURE:
        bad = replace(bad, passes=(replace(bad.passes[0], rate_bytes_s=0.0),))
    if worse is Drawback.CONTROL_GROUP:
        bad = replace(bad, limits=(Limit(LimitSource.GROUP_BYTES, 1e9),))
    if worse is Drawback.CACHE:
        bad = replace(bad, findings=Findings(write_cache_full=True))
    if worse is Drawback.ONE_PASS:
        bad = replace(bad, passes=bad.passes[:1])
    if worse is Drawback.DRIFT:
        rates = [1.0e9, 1.02e9, 1.04e9, 1.06e9, 1.0801e9]
        bad = replace(bad, passes=made(rates, STREAM).passes)
    if worse is Drawback.DISTURBED:
        from jovik.base.findings import Disturbance, DisturbanceAmount

        heavy = DisturbanceAmount(Disturbance.OTHER_IO, 0.5, 3)
        bad = replace(bad, findings=Findings(disturbed=(heavy,)))
    suspects = {("A", "s2")} if worse is Drawback.SUSPECT else set()
    if worse is Drawback.FIRMWARE:
        # The newest run of the sample has another firmware: this one is of the earlier.
        bad, old = (
            replace(new, conditions=replace(new.conditions, firmware="1"), started="2026-11-01"),
            replace(old, conditions=replace(old.conditions, firmware="2"), started="2026-11-02"),
        )
        (choice,) = choose([bad, old])
    else:
        (choice,) = choose([old, bad], suspects)
    assert choice.result is old and choice.why_not(choice.unused[0]) is worse


def test_the_newer_of_equals_represents_the_drive() -> None:
    old, new = ran(1e9, day=1, sample="s1"), ran(1.001e9, day=2, sample="s2")
    choice = of(old, new)
    assert choice.result is new and choice.why_not(choice.unused[0]) is Drawback.OLDER


def test_runs_made_alike_count_together() -> None:
    """One figure of a drive, whatever asks for it: the passes of all its like runs."""
    old, new = ran(1e9, day=1), ran(1.01e9, day=2)
    choice = of(old, new, ran(1.02e9, day=3, rig="elsewhere"))
    assert choice.result.conditions.rig == "elsewhere" and len(choice.result.passes) == 3
    choice = of(old, new)
    assert len(choice.result.passes) == 6 and choice.result.from_runs == ("run 1", "run 2")
    assert not choice.unused


# Which runs to compare


def test_compared_runs_share_as_much_as_possible() -> None:
    """A has a newer run by USB; both have one on the same rig."""
    usb = {"rig": "hub", "link": "USB 10 Gb/s"}
    slot = {"rig": "desk", "link": "PCIe 4.0 x4"}
    ours = [ran(3e9, day=1, **slot), ran(2e8, day=3, **usb)]
    theirs = [ran(3.1e9, day=2, drive="B", **slot), ran(3.0e9, day=4, drive="B", rig="lab")]
    (step,) = compare_results(*paired(ours, theirs)).steps
    assert step.times.median == pytest.approx(3.1 / 3, rel=0.01)
    # Two versions of the firmware of one sample, the newer of each on different slots.
    old = [ran(3e9, day=1, firmware="1", **slot), ran(2e8, day=2, firmware="1", **usb)]
    new = [ran(3.3e9, day=3, firmware="2", **slot)]
    (step,) = compare_results(*paired(old, new)).steps
    assert step.times.median == pytest.approx(1.1, rel=0.01)


# Sustained, and the state


def test_the_length_and_the_shape_make_a_long_write_not_its_words() -> None:
    brief = ran(3e9, f"{WRITE} over 4GB", findings=Findings())
    claim = parse_claim("sequential write", "3000MB/s", sustained=True)
    assert judged(claim, brief).verdict is Verdict.UNTESTED
    long = long_write(3e9, 1e9)
    crossed = ran(2e9, WRITE, findings=long)
    for one in (claim, parse_claim("sequential write", "3000MB/s")):
        verdict = judged(one, crossed)
        assert verdict.verdict is Verdict.UNTESTED, "its mean is of two rates"
    assert of(crossed).chosen.drawbacks == (Drawback.NO_FIGURE,)
    (left_out,) = rank_drives([crossed, ran(1e9, drive="B")]).left_out
    assert "two rates" in left_out.why


def test_a_long_timed_write_is_another_step_than_the_short_one() -> None:
    short, long = (parse(f"sequential write 1MiB depth 4 for {t}") for t in ("10s", "5min"))
    assert short.kind == "sequential write 1MiB depth 4" and long.kind.endswith("for 5min")
    assert long.once and not short.once and "for 5 min" in long.label
    assert parse("sequential read 1MiB for 5min").kind == "sequential read 1MiB"


@pytest.mark.parametrize(
    ("words", "other", "lack"),
    [
        ("sequential write depth 1", "sequential write 1MiB depth 32", Lack.DEPTH),
        ("sequential write 128KiB", "sequential write 1MiB depth 8", Lack.BLOCK),
        ("sequential write workers 2", "sequential write 1MiB depth 8", Lack.WORKERS),
    ],
)
def test_a_sustained_claim_is_tested_by_a_write_of_its_own(
    words: str, other: str, lack: Lack
) -> None:
    claim = parse_claim(words, "1000MB/s", sustained=True)
    over = " over 60% of free"
    verdict = judged(claim, ran(3e9, other + over, findings=long_write(6e9, 3e9)))
    assert verdict.verdict is Verdict.UNTESTED and lack in verdict.candidates[0].lacks
    suggested = suggested_phrase(claim).strip('"')
    own = judged(claim, ran(1e9, suggested, findings=long_write(6e9, 1e9)))
    assert own.verdict in (Verdict.MET, Verdict.CLOSE), "the suggested step tests the claim"
    assert suggested in verdict.why


# Drift, ladders, ports


def test_a_drifting_step_is_named_and_no_weaker_one_stands_for_it() -> None:
    claim = parse_claim("sequential read", "6600MB/s")
    rates = [5.8e9, 5.88e9, 5.96e9, 6.04e9, 6.12e9]
    drifting = made(rates, "sequential read 1MiB depth 32")
    weaker = ran(5.2e9, STREAM)
    verdict = judged(claim, weaker, drifting)
    assert verdict.verdict is Verdict.UNTESTED and "depth 32 did 5,960 MB/s" in verdict.why
    # What meets the claim without it does so, and the other is named all the same.
    verdict = judged(parse_claim("sequential read", "5000MB/s"), weaker, drifting)
    assert verdict.verdict is Verdict.MET
    assert "left out: sequential read, 1 MiB, depth 32, 5,960 MB/s" in verdict.why


def test_rungs_count_like_any_other_step() -> None:
    rung = replace(
        ran(8e5, "random read 4KiB", drive="disk"),
        findings=Findings(ladder="random read 4KiB depth 1..32"),
    )
    found = rank_drives([rung, ran(3e7, "random read 4KiB", drive="ssd")], "ssd")
    disk = next(d for d in found.drives if d.drive == "disk")
    assert disk.index is not None and disk.index.median == pytest.approx(100 * 8e5 / 3e7, rel=0.01)


def test_the_rungs_of_a_ladder_weigh_as_much_as_one_step() -> None:
    ladder = "random read 4KiB depth 1,2,4,8"
    results = []
    for drive, times in (("A", 1.0), ("B", 2.0)):
        results += [
            replace(ran(1e8 * times, p.kind, drive=drive), findings=Findings(ladder=ladder))
            for p in map(parse, [f"random read 4KiB depth {d}" for d in (1, 2, 4, 8)])
        ]
        results.append(ran(1e9 / times, STREAM, drive=drive))
    found = rank_drives(results, "A")
    b = next(d for d in found.drives if d.drive == "B")
    assert b.index is not None and b.index.median == pytest.approx(100, rel=0.01)


@pytest.mark.parametrize("rate", [1e8, 2.4e8, 4.7e8])
def test_what_a_port_cannot_carry_is_held_back_whatever_was_reached(rate: float) -> None:
    claim = parse_claim("sequential read", "550MB/s")
    on_port = ran(rate, link="USB 5 Gb/s", link_bytes_s=483e6)
    verdict = judged(claim, on_port)
    assert verdict.verdict is Verdict.HELD and verdict.limit is not None
    assert "carries 483 MB/s at most" in verdict.why
    wide = ran(rate, link="SATA 6 Gb/s", link_bytes_s=598e6)
    assert judged(claim, wide).verdict is Verdict.SHORT


def test_why_lists_every_candidate_and_what_would_settle_it(jovik: Program) -> None:
    steps = [f"{STREAM} for 1s", "sequential read 128KiB for 1s", "random read 4KiB for 1s"]
    jovik("measure", "model:slate", *steps, "--seed", "1")
    drive = "Corvane Slate 1TB"
    told = jovik("judge", drive, "--why", status=None).out
    assert "decides" in told and "does less than the chosen one" in told
    found = jovik("judge", drive, "--format", "json", status=None).json["claims"]
    for c in found:
        deciding = [x for x in c["candidates"] if not x["lacks"]]
        if c["verdict"] == "untested":
            assert (
                not deciding
                and f'what would test it: jovik measure TARGET "{c["suggestion"]}"' in told
            )
        else:
            assert [(x["phrase"], x["run"]) for x in deciding] == [(c["phrase"], c["run"])]
            assert deciding[0]["measured"] == c["measured"], "one figure has one interval"


def test_a_model_drive_records_its_own_link(jovik: Program) -> None:
    run = jovik("measure", "model:slate", STREAM + " for 1s", "--seed", "1", "--format", "json")
    conditions = run.json["steps"][0]["conditions"]
    assert conditions["link"] == "SATA 6 Gb/s"
    assert conditions["link_bytes_s"] == pytest.approx(598.5e6, rel=0.001)


def stream(write_bytes_s: float, depth: int, **more: Any) -> Load:
    """A load of one sequential write."""
    return Load(
        "mine", "Mine", "", 0.0, write_bytes_s, False, 2**20, depth, None, 1.0, True, {}, "", **more
    )


def test_a_load_gets_no_more_depth_than_it_has() -> None:
    deep = ran(3e9, "sequential write 1MiB depth 32")
    found = fit(stream(4e8, 1), [deep])
    assert found.headroom is None and found.missing == "sequential write 1MiB over 30% of free"
    alone = ran(3e8, "sequential write 1MiB")
    assert fit(stream(4e8, 1), [deep, alone]).streams == 0
    # Fewer at once than the load has are a lower bound: enough for a yes.
    assert fit(stream(2e8, 4), [deep, alone]).carried
    assert fit(stream(4e8, 4), [deep, alone]).headroom is None


def test_a_limit_on_latency_is_never_skipped() -> None:
    load = read_load("boot")
    results = [ran(9e7, "random read 4KiB"), ran(9e7, "random write 4KiB")]
    found = fit(load, results)
    assert found.headroom is None and found.missing.startswith("random read 4KiB")


def test_a_drive_on_a_slower_link_is_compared_with_the_class_of_that_link() -> None:
    drive = Drive("A", interface="PCIe 4.0 x4", medium="solid state")
    hub = {"link": "USB 10 Gb/s", "link_bytes_s": 1.16e9}
    standing = standing_of(drive, [ran(1.0e9, **hub)])
    assert standing is not None and standing.drive_class.name == "usb10-ssd"
    assert standing.link == "USB 10 Gb/s"
    both = [ran(1.0e9, **hub), ran(1e8, "random read 4KiB", link="PCIe 4.0 x4", link_bytes_s=7.2e9)]
    standing = standing_of(drive, both)
    assert standing is not None and standing.drive_class.name == "pcie4-ssd"


def test_a_class_never_cites_a_step_that_was_not_run() -> None:
    drive = Drive("A", interface="SATA 6 Gb/s", medium="solid state")
    standing = standing_of(drive, [ran(39_700 * 4096, "random read 4KiB depth 16")])
    assert standing is not None
    line = " ".join(standing_lines(standing))
    assert "random read, 4 KiB, depth 16" in line and "depth 32" not in line


def test_fit_and_upgrade_take_a_part_of_the_results(jovik: Program) -> None:
    steps = [f"{STREAM} for 1s", f"{WRITE} for 1s"]
    for rig, link in (("desk", ""), ("hub", "@link=USB 5 Gb/s")):
        jovik("measure", f"model:slate{link}", *steps, "--seed", "1", "--rig", rig)
    rates = {}
    for rig in ("desk", "hub"):
        words = f"Corvane Slate 1TB@rig={rig}"
        found = jovik("fit", words, "--load", "edit-4k", "--format", "json", status=None).json
        rates[rig] = found["fits"][0]["headroom"]
    assert rates["desk"] > 1.1 * rates["hub"]
    assert "no result" in jovik("fit", "Corvane Slate 1TB@rig=moon", status=2).err


def test_rungs_that_overlap_are_a_range_and_not_the_lowest_of_them() -> None:
    rates = {1: 4e7, 2: 1.35e8, 4: 1.5e8, 16: 1.63e8}
    rungs = [
        replace(
            ran(rate, f"random read 4KiB depth {d}", spread=0.002 if d == 1 else 0.12),
            findings=Findings(ladder="random read 4KiB depth 1,2,4,16"),
        )
        for d, rate in rates.items()
    ]
    (curve,) = ladders_in(rungs)
    assert curve.best == (2, 4, 16)
    assert "33,000 IOPS to 39,800 IOPS, which these passes cannot distinguish" in curve.words()
    assert "best at" not in curve.words()


@pytest.mark.parametrize(
    ("by", "line"),
    [
        ("price", "costs the least per TB"),
        ("money", "has the highest index for its price"),
        ("endurance", "has the highest endurance rating"),
        ("latency", "has the shortest access time"),
    ],
)
def test_the_first_line_of_an_order_matches_its_table(jovik: Program, by: str, line: str) -> None:
    for model in ("slate", "comet"):
        steps = ["random read 4KiB for 1s", f"{STREAM} for 1s"]
        jovik("measure", f"model:{model}", *steps, "--seed", "1")
    told = jovik("rank", "--by", by)
    first = jovik("rank", "--by", by, "--format", "json").json["drives"][0]["drive"]
    assert told.out.startswith(f"{first} {line}")


# Lost data, and scans


@pytest.mark.parametrize(("more", "status"), [((), 4), (("--on-error", "continue"), 4)])
def test_a_drive_that_loses_data_is_known_for_it_however_its_run_ended(
    jovik: Program, more: tuple[str, ...], status: int
) -> None:
    step = "sequential write 1MiB over 100GB verify"
    jovik("measure", "model:hollow", step, *more, status=status)
    fake = "Oberon Hollow 2TB"
    for words in (["rank"], ["judge", fake], ["fit", fake]):
        told = " ".join(jovik(*words, status=None).out.split())
        assert "holds about 64.0 GB, not 2.00 TB" in told, words
    jovik("report", "--all", "--each", "--out", "site")
    page = (jovik.folder / "site" / "oberon-hollow-2tb.html").read_text()
    assert "Avoid: it holds about 64.0 GB" in page
    front = (jovik.folder / "site" / "index.html").read_text()
    assert front.index("holds about 64.0 GB") < front.index("kinds of step")


def test_the_card_of_a_faulty_drive_says_so(jovik: Program) -> None:
    fake = Exclusion("Oberon Hollow 2TB", None, "holds about 64.0 GB, not 2.00 TB")
    with_fault = RankingReport(Ranking("", (), (), (fake,)))
    without = RankingReport(Ranking("", (), (), ()))
    red = [
        sum(n for n, (r, g, _) in colours if r > 2 * g)
        for found in (with_fault, without)
        if (
            colours := Image.open(io.BytesIO(draw_card("Oberon Hollow 2TB", found)))
            .convert("RGB")
            .getcolors(2**20)
        )
    ]
    assert red[0] > 1000 and red[1] == 0


def test_failed_reads_are_known_by_their_addresses(jovik: Program) -> None:
    steps = ["scan read all in 50 zones", "random read 1MiB depth 4 for 60s within 1500GB"]
    words = ("measure", "model:cinder", *steps, "--passes", "1", "--on-error", "continue")
    told = " ".join(jovik(*words, status=4).out.split())
    # The model's own bad areas: 2 MB at 734 GB, 64 kB at 1,401 GB.
    known = ((734_000_000_000, 734_002_000_000), (1_401_000_000_000, 1_401_000_064_000))
    failed = jovik("runs", "show", "last", "--format", "json").json["steps"]
    ranges = [x for s in failed if "failed" in s["facts"] for x in s["facts"]["failed"]["ranges"]]
    assert ranges and {x["direction"] for x in ranges} == {"read"}
    for x in ranges:
        assert any(x["first_byte"] < end and x["end_byte"] > start for start, end in known), x
    for start, _ in known:
        assert any(x["first_byte"] <= start < x["end_byte"] + 2**20 for x in ranges)
        assert f"{start // 2**20 * 2**20:,}" in told
    assert told.startswith("Veldhaar Comet 2TB failed") and "Addresses that failed" in told
    jovik("measure", "model:slate", steps[1].replace("1500", "500"))
    for asked in (["rank"], ["judge", "Veldhaar Comet 2TB"], ["fit", "Veldhaar Comet 2TB"]):
        first = jovik(*asked, status=None).out.splitlines()[0]
        assert first.startswith("Veldhaar Comet 2TB failed"), asked
    found = jovik("rank", "--format", "json").json
    assert [f["drive"] for f in found["faults"]] == ["Veldhaar Comet 2TB"]
    jovik("report", "Veldhaar Comet 2TB", "--out", "page.html")
    page = (jovik.folder / "page.html").read_text()
    assert "Avoid: in a test, it failed" in page and "Failed reads and writes" in page


def test_a_run_that_stopped_at_a_bad_block_is_known_for_it(jovik: Program) -> None:
    step = "sequential read 1MiB depth 4 over 800GB within 800GB"
    assert "failed a read at byte" in jovik("measure", "model:cinder", step, status=4).err
    first = jovik("rank", status=None).out.splitlines()[0]
    assert re.match(r"Veldhaar Comet 2TB failed \d reads? at 1 place, .* at byte 733,9", first)


def test_a_scan_states_how_much_it_read(jovik: Program) -> None:
    jovik("measure", "model:gannet", "scan read in 50 zones")
    told = " ".join(jovik("runs", "show", "last").out.split())
    assert re.search(r"scan read in 50 zones, 0\.0\d+ % of it read", told), told
    jovik("measure", "model:slate", "scan read all in 50 zones within 20GB")
    assert "100 % of it read" in " ".join(jovik("runs", "show", "last").out.split())
    assert parse("scan read all").canonical == "scan read all in 200 zones"


def test_an_old_disk_is_compared_with_a_class(jovik: Program) -> None:
    steps = [f"{STREAM} for 1s", "random read 4KiB for 1s within 2TB", f"{WRITE} for 1s"]
    jovik("measure", "model:gannet", *steps, "--seed", "1")
    words = ("upgrade", "Corvane Gannet 12TB", "class:sata-ssd", "--instead-of", "900")
    told = jovik(*words).out
    assert told.startswith("yes: a SATA SSD before a machine for 900")
    found = jovik(*words, "--format", "json").json["upgrades"][0]
    reads = next(s for s in found["steps"] if s["kind"].startswith("random read"))
    assert reads["times"]["low"] < reads["times"]["median"] < reads["times"]["high"]
    assert reads["times"]["low"] > 20
    jovik("measure", "model:slate", STREAM, "random read 4KiB", "--seed", "1")
    same = jovik("upgrade", "Corvane Slate 1TB", "class:sata-ssd", "--instead-of", "900").out
    assert same.startswith("no: ") or same.startswith("unknown: ")
    assert "nearest: sata-ssd" in jovik(*words[:2], "class:sata", status=2).err


def test_a_fast_disk_has_a_class_of_its_own() -> None:
    disk = Drive("A", interface="SATA 6 Gb/s", medium="10,000 rpm")
    found = class_of(disk)
    assert found is not None and found.name == "hdd-10000"


def test_phrases_come_after_the_plan_that_they_are_given_with(jovik: Program) -> None:
    words = ("measure", "model:slate", "random read 64KiB for 1s", "--plan", "quick-compare")
    run = jovik(*words, "--format", "json").json
    phrases = [s["phrase"] for s in run["steps"]]
    assert phrases[-1] == "random read 64KiB for 1s" and len(phrases) == 5


# Claims


def test_claims_carry_more_of_their_conditions(jovik: Program) -> None:
    access = parse_claim("access time", "0.1ms")
    assert access.what == "random read 4KiB" and access.shown() == "100 µs"
    mixed = parse_claim("random mixed 70% read 4KiB depth 32", "300,000 IOPS")
    assert mixed.what == "random mixed 70% read 4KiB depth 32"
    verdict = judged(mixed, ran(310_000 * 4096, "random mixed 70% read 4KiB depth 32"))
    assert verdict.verdict is Verdict.MET
    assert suggested_phrase(mixed) == '"random mixed 70% read 4KiB depth 32"'
    jovik("sheet", "new", "Fjord 1TB")
    for figure, source in (("550MB/s", "box"), ("560MB/s", "shop")):
        words = ("sheet", "claim", "Fjord 1TB", "sequential read", figure, "--printed", source)
        told = jovik(*words).err
    assert "the sheet also claims 550 MB/s (box) for the same" in told
    refused = jovik("judge", "Fjord 1TB", status=2).err
    assert "has not been measured" in refused
    jovik("sheet", "new", "Bare")
    assert '"sequential read" FIGURE' in jovik("judge", "Bare", status=2).err


def test_a_stuck_sensor_is_remembered_for_its_sample(jovik: Program) -> None:
    """Ten seconds are too few to tell that a sensor never moves, unless that is known."""
    short = ("measure", "model:ember", f"{STREAM} for 10s", "--passes", "1", "--format", "json")
    assert "stuck_sensors" not in jovik(*short, "--seed", "1").json["steps"][0]["facts"]
    jovik("measure", "model:ember", f"{STREAM} for 8min", "--passes", "1", "--seed", "2")
    facts = jovik(*short, "--seed", "3").json["steps"][0]["facts"]
    assert facts["stuck_sensors"] == ["board"] and facts["temperature"]["peak_c"] < 100
