"""Sizes, times, rates and step phrases: what is read, what is spelled, what is refused."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.base.errors import PhraseError
from jovik.base.quantities import (
    parse_rate,
    parse_size,
    parse_time,
    significant,
    spell_size,
    spell_time,
)
from jovik.steps import IoStep, load_plan, parse, plan_names


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("4KiB", 4096),
        ("4 kib", 4096),
        ("1.5GB", 1_500_000_000),
        ("512B", 512),
        ("1,000 MB", 10**9),
        ("0.5KiB", 512),
        ("1TiB", 2**40),
    ],
)
def test_sizes(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize(
    "text", ["4k", "4", "", "KiB", "1.2.3MB", "7,5GB", "0.3B", "-4KiB", "4 apples", "1e3MB"]
)
def test_sizes_that_can_be_read_twice_or_not_at_all(text: str) -> None:
    with pytest.raises(ValueError):
        parse_size(text)


@pytest.mark.parametrize(
    ("text", "value", "unit"),
    [
        ("550 MB/s", 550e6, "bytes/s"),
        ("95,000 IOPS", 95000, "IOPS"),
        ("1.2M IOPS", 1.2e6, "IOPS"),
        ("120k IOPS", 120_000, "IOPS"),
        ("1GiB/s", 2**30, "bytes/s"),
    ],
)
def test_rates(text: str, value: float, unit: str) -> None:
    assert parse_rate(text) == (value, unit)


@given(st.integers(0, 2**60))
def test_spelling_is_exact(number: int) -> None:
    assert parse_size(spell_size(number)) == number
    assert parse_time(spell_time(number)) == number


@given(st.floats(1e-3, 1e12))
def test_three_significant_digits(value: float) -> None:
    assert float(significant(value).replace(",", "")) == pytest.approx(value, rel=0.0051)


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


@given(steps())
def test_a_canonical_phrase_means_the_same_step(step: IoStep) -> None:
    assert parse(step.canonical) == step
    assert parse(step.canonical).canonical == step.canonical
    assert step.span % (step.block_bytes * step.workers) == 0


@given(steps())
def test_the_kind_is_a_phrase_without_its_time(step: IoStep) -> None:
    assert parse(step.kind).kind == step.kind
    assert parse(step.label).kind == step.kind
    assert " for " not in step.kind


def test_words_come_in_any_order_and_units_are_normalised() -> None:
    one = parse("random write 4096B for 5000ms within 1000MB depth 32 workers 1")
    assert one == parse("Random WRITE 4 KiB depth 32 within 1GB for 5 s")
    assert one.canonical == "random write 4KiB depth 32 for 5s within 1GB"
    assert one.kind == "random write 4KiB depth 32 within 1GB"
    assert (
        parse("sequential read 1MiB depth 1 for 10s within 1GiB").canonical
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
        ("random read 4KiB durable", 17, "written"),
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
        # First-look promises two minutes; laying out 1 GiB has the rest.
        if name == "first-look":
            assert sum(s.time or 0 for s in plan.steps) * plan.passes < 60e9
