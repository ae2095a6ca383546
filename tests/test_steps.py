"""The whole phrase language by property.

Every sort of step, ladders, and plans as people write them.
"""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.base.errors import PhraseError, UsageError
from jovik.base.quantities import parse_size, parse_time, spell_size, spell_time
from jovik.steps import (
    CopyStep,
    EmptyStep,
    FillStep,
    IoStep,
    Plan,
    RestStep,
    ScanStep,
    Step,
    load_plan,
    parse,
    parse_access,
    parse_all,
    plan_names,
)
from jovik.steps.ladder import MOST_RUNGS, expand_ladder
from jovik.steps.rest import LIMIT_NS as REST_LIMIT_NS

names = st.text(st.characters(categories=["L", "N"]), min_size=1, max_size=12)
others: st.SearchStrategy[Step] = st.one_of(
    st.builds(
        ScanStep,
        st.integers(2, 10_000),
        st.integers(1, 2**17).map(lambda n: n * 512),
        st.none() | st.integers(1, 10**15),
    ),
    st.builds(
        lambda i, f: CopyStep(i, folder=f), st.booleans(), names.map(lambda n: f"/some where/{n}")
    ),
    st.builds(
        lambda i, n, b: CopyStep(i, files=n, file_bytes=b),
        st.booleans(),
        st.integers(1, 10**6),
        st.integers(1, 10**13),
    ),
    st.builds(FillStep, st.integers(1, 99)),
    st.just(EmptyStep()),
    st.builds(RestStep, st.integers(1, 10**14)),
    st.builds(
        lambda c, t: RestStep(t, cool_c=c),
        st.integers(1, 120),
        st.just(REST_LIMIT_NS) | st.integers(1, 10**14),
    ),
    st.builds(
        lambda t: RestStep(t, recovered=True), st.just(REST_LIMIT_NS) | st.integers(1, 10**14)
    ),
)


@st.composite
def steps(draw: st.DrawFn) -> IoStep:
    block = 512 * draw(st.integers(1, 2**17))
    share = draw(st.sampled_from([0, 100, 100, 1, 70, 99]))
    writes = share < 100
    rate = draw(st.sampled_from(["", "bytes", "iops"]))
    return IoStep(
        random=draw(st.booleans()),
        read_percent=share,
        block_bytes=block,
        depth=draw(st.integers(1, 1024)),
        workers=draw(st.integers(1, 64)),
        time_ns=draw(st.none() | st.integers(1, 10**14)),
        amount_bytes=draw(st.none() | st.integers(block, 10**15)),
        span_bytes=draw(st.none() | st.integers(block, 10**15)),
        rate_bytes_s=draw(st.integers(1, 10**11)) if rate == "bytes" else None,
        rate_iops=draw(st.integers(1, 10**8)) if rate == "iops" else None,
        durable=writes and draw(st.booleans()),
        compressible_percent=draw(st.integers(0, 100)) if writes else 0,
        verify=draw(st.booleans()),
    )


@given(others)
def test_every_step_has_one_spelling_that_means_it(step: Step) -> None:
    assert parse(step.canonical) == step and parse(step.canonical).canonical == step.canonical
    assert parse(step.kind).kind == step.kind and step.label
    assert step.measures == isinstance(step, ScanStep | CopyStep) and "  " not in step.canonical


@given(
    st.lists(
        st.sampled_from(
            [
                "scan",
                "read",
                "in",
                "9",
                "zones",
                "within",
                "1GB",
                "copy",
                "out",
                "files",
                "of",
                "2.5MB",
                '"a b"',
                '"',
                "fill",
                "to",
                "90%",
                "empty",
                "rest",
                "until",
                "45C",
                "recovered",
                "for",
                "at",
                "most",
                "5min",
                "1..8",
                "1,2",
                "by",
                "0..100%",
                "random",
                "write",
                "4KiB",
                "depth",
                "free",
                "stopped",
            ]
        ),
        max_size=10,
    ).map(" ".join)
)
def test_any_words_are_steps_or_are_refused_with_a_caret(text: str) -> None:
    try:
        steps = parse_all(text)
    except PhraseError as error:
        assert error.hint and "^" in error.message
    else:
        assert steps and all(parse(s.canonical) == s for s in steps)


@given(st.integers(1, 64), st.integers(0, 960))
def test_a_doubling_range_begins_doubles_and_ends_where_it_says(low: int, more: int) -> None:
    high = low + more + 1
    depths = (
        [parse_access(p).depth for p in expand_ladder(f"random read 4KiB depth {low}..{high}")]
        if high <= 1024
        else []
    )
    if not depths:
        return
    assert depths[0] == low and depths[-1] == high and depths == sorted(set(depths))
    assert (
        all(b == 2 * a for a, b in itertools.pairwise(depths[:-1])) and depths[-1] <= 2 * depths[-2]
    )


@given(st.integers(0, 50), st.integers(1, 50), st.integers(1, 30))
def test_a_range_by_steps_walks_them(low: int, width: int, stride: int) -> None:
    shares = [
        parse_access(p).compressible_percent
        for p in expand_ladder(
            f"random write 4KiB payload {low}..{low + width}% compressible by {stride}"
        )
    ]
    assert shares == [*range(low, low + width, stride), low + width]


@given(st.lists(st.integers(1, 1024), min_size=2, max_size=8, unique=True))
def test_a_list_is_what_it_says_in_its_order(depths: list[int]) -> None:
    # A comma before a zero groups thousands, as in 2,000 IOPS; no depth begins with one.
    assert [
        parse_access(p).depth
        for p in expand_ladder(f"random read 4KiB depth {','.join(map(str, depths))}")
    ] == depths


def test_thousands_and_labels_are_no_lists() -> None:
    assert expand_ladder("random read 4KiB at most 2,000IOPS") == [
        "random read 4KiB at most 2,000IOPS"
    ]
    assert expand_ladder("random read, 4 KiB, depth 32") == ["random read, 4 KiB, depth 32"]
    assert expand_ladder('copy in "1..8 of 1,2"') == ['copy in "1..8 of 1,2"']
    with pytest.raises(PhraseError, match="not understood") as caught:
        parse_all("random read 512B..64MiB depth 1..1024 workers 1..64 at most 1,2MB/s")
    assert str(MOST_RUNGS) in caught.value.hint


@given(st.integers(0, 2**60), st.sampled_from([spell_size, spell_time]))
def test_one_decimal_is_exact(number: int, spell: object) -> None:
    back = parse_size if spell is spell_size else parse_time
    text = spell(number)  # type: ignore[operator]
    assert back(text) == number and text.count(".") <= 1


@pytest.mark.parametrize(
    ("number", "text"),
    [(2_500_000, "2.5MB"), (1536, "1536B"), (1_500_000_000, "1.5GB"), (10**9 + 1, "1000000001B")],
)
def test_sizes_as_people_write_them(number: int, text: str) -> None:
    assert spell_size(number) == text


def test_default_times_spans_and_amounts() -> None:
    assert (
        parse_access("sequential write 1MiB over 60% of free").time is None
        and parse_access("sequential write 1MiB over 60% of free").fresh
    )
    assert (
        parse_access("random write 4KiB until stopped").time is None
        and parse_access("random write 4KiB until stopped").once
    )
    assert (
        parse_access("random write 4KiB over 1GB").once is False
        and parse_access("sequential write 1MiB over 1GB").once
    )
    assert parse_access("sequential write 1MiB over 1GB for 5s").time == 5 * 10**9
    assert isinstance(parse("random read 4KiB"), IoStep)


@pytest.mark.parametrize("name", plan_names())
def test_a_plan_that_ships_tells_why_and_survives_its_file(name: str, tmp_path: Path) -> None:
    from jovik.steps.plan import plan_text

    plan = load_plan(name)
    again = tmp_path / f"{name}.toml"
    again.write_text(plan_text(name)[0])
    assert load_plan(str(again)) == plan
    assert (
        plan.title
        and plan.about
        and [s for line in plan.lines for s in line.steps] == list(plan.steps)
    )
    reasons = [line for line in plan.lines if line.why]
    assert len(reasons) >= len(plan.lines) / 2, "a plan says why its steps are there"
    # A rest serves what comes behind it, so a budget must not take it away before that: the more
    # spare goes first, and 0 never.
    for rest, behind in itertools.pairwise(plan.lines):
        if (
            isinstance(rest.steps[0], RestStep)
            and behind.steps[0].measures
            and behind.steps[0].writes
        ):
            assert rest.drop_order <= behind.drop_order, (rest.phrase, behind.phrase)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "'steps' is missing"),
        ("steps = []", "line 1: steps"),
        ('steps = "random read 4KiB"', "line 1: steps"),
        ("steps = [5]", "line 1"),
        ('steps = ["random read 4KiB"]\npasses = 0', "line 2: passes"),
        ('steps = [{ phrase = "random read 4KiB", spare = 12 }]', "spare"),
        ('steps = [{ why = "x" }]', "'phrase' is missing"),
        ('steps = ["random read 4KiB"]\ntitel = "x"', "'titel' is not a key here"),
        ('steps = ["random read 4KiB depth 9..1"]', "smaller to the larger"),
        ("steps = [", "not TOML"),
    ],
)
def test_what_is_no_plan_is_refused_with_its_line(tmp_path: Path, text: str, said: str) -> None:
    mine = tmp_path / "mine.toml"
    mine.write_text(text)
    with pytest.raises(UsageError) as caught:
        load_plan(str(mine))
    assert said in f"{caught.value.message}\n{caught.value.hint}"


def test_bare_phrases_are_a_plan() -> None:
    plan = Plan.of(["random read 4KiB depth 1,2", "empty"])
    assert len(plan.lines) == 2 and len(plan.steps) == 3 and plan.name == "phrases"


@given(steps())
def test_a_canonical_phrase_means_the_same_step(step: IoStep) -> None:
    assert parse(step.canonical) == step
    assert parse(step.canonical).canonical == step.canonical
    assert step.span % (step.block_bytes * step.workers) == 0


@given(steps())
def test_the_kind_is_a_phrase_without_its_time(step: IoStep) -> None:
    assert parse(step.kind).kind == step.kind
    assert parse(step.label).kind == step.kind
    assert (" for " in step.kind) == step.long_timed, "a long write's time is part of it"


def test_words_come_in_any_order_and_units_are_normalised() -> None:
    one = parse("random write 4096B for 5000ms within 1000MB depth 32 workers 1")
    assert one == parse("Random WRITE 4 KiB depth 32 within 1GB for 5 s")
    assert one.canonical == "random write 4KiB depth 32 for 5s within 1GB"
    assert one.kind == "random write 4KiB depth 32 within 1GB"
    assert (
        parse("sequential read 1MiB depth 1 for 10s within 768MiB").canonical
        == "sequential read 1MiB"
    )
    assert (
        parse("sequential write 1MiB over 8GB within 8GB").canonical
        == "sequential write 1MiB over 8GB"
    )


@pytest.mark.parametrize(
    ("phrase", "at", "expected"),
    [
        ("rand read 4KiB", 0, "'sequential' or 'random'"),
        ("random raed 4KiB", 7, "'read', 'write' or 'mixed'"),
        ("random read 4k", 12, "4KiB (binary)"),
        ("random read 1000B", 12, "multiple of 512B"),
        ("random read 128MiB", 12, "from 512B to 64MiB"),
        ("random read", 12, "a block"),
        ("random read 4KiB depth 2000", 23, "from 1 to 1024"),
        ("random read 4KiB depth 4 depth 8", 25, "once"),
        ("random read 4KiB dept 4", 17, "depth N"),
        ("random read 4KiB for ever", 21, "a time"),
        ("random read 4KiB durable", 17, "writes"),
        ("random write 1MiB over 4KiB", 23, "one block"),
        ("random mixed 100% read 4KiB", 13, "from 1 to 99"),
        ("sequential write 1MiB at most fast", 30, "a rate"),
        ("", 0, "'sequential' or 'random'"),
    ],
)
def test_a_caret_stands_under_the_word_at_fault(phrase: str, at: int, expected: str) -> None:
    with pytest.raises(PhraseError) as caught:
        parse(phrase)
    _, shown, marks = caught.value.message.split("\n")
    assert shown == "  " + phrase
    assert marks.index("^") == 2 + at
    assert expected in caught.value.hint


@given(
    st.text(max_size=60)
    | st.lists(
        st.sampled_from(
            [
                "random",
                "read",
                "write",
                "4KiB",
                "depth",
                "7",
                "for",
                "5s",
                "over",
                "at",
                "most",
                "%",
                ",",
                '"',
                "1e9",
            ]
        ),
        max_size=9,
    ).map(" ".join)
)
def test_any_text_parses_or_is_refused_with_a_caret(text: str) -> None:
    try:
        assert parse(parse(text).canonical) == parse(text)
    except PhraseError as error:
        assert 0 <= error.start <= error.end <= len(text) + 1


def test_every_plan_that_ships_can_be_read() -> None:
    assert "first-look" in plan_names()
    for name in plan_names():
        plan = load_plan(name)
        assert plan.steps and plan.title and plan.about
        # First-look promises about a minute; prefilling and up to six claims have the rest.
        if name == "first-look":
            assert sum(s.time_ns or 0 for s in plan.steps) * plan.passes < 60e9
            assert all(line.why for line in plan.lines), "each step has its reason"


@pytest.mark.parametrize("sizes", ["1K..4KiB", "4e..64KiB", "4KiB..1q"])
def test_a_range_of_sizes_that_are_none_is_refused_with_a_caret(sizes: str) -> None:
    with pytest.raises(PhraseError, match=r"\^") as caught:
        parse_all(f"random read {sizes}")
    assert "a range of sizes" in caught.value.expected
