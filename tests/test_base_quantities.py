"""Sizes, times, rates and step phrases: what is read, what is spelled, what is refused."""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.base.errors import UsageError
from jovik.base.quantities import (
    parse_endurance,
    parse_rate,
    parse_size,
    parse_time,
    significant,
    spell_size,
    spell_time,
)
from jovik.sheets.reading import parse_reading
from jovik.sheets.sheet import parse_price


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


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("6Gb/s", "6GB if bytes are meant, or 750MB if it is bits"),
        ("480 mb/s", "480MB if bytes are meant, or 60.0MB"),
        ("95.000 IOPS", "95,000 or 95"),
        ("7.000 MB/s", "7,000 or 7"),
        ("1.250 MB/s", "1,250 or 1.25"),
    ],
)
def test_rates_that_can_be_read_twice_are_refused_with_both_readings(text: str, said: str) -> None:
    with pytest.raises(ValueError, match=re.escape(said)):
        parse_rate(text)


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("9min 30s", 570), ("9:30", 570), ("1:09:30", 4170), ("1h 20min", 4800), ("1:30 h", 5400)],
)
def test_compound_times(text: str, seconds: int) -> None:
    assert parse_time(text) == seconds * 10**9


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("start=8,9s", "write 8.9"),
        ("start=24,1s", "write 24.1"),
        ("start=95.000 IOPS", "95,000 or 95"),
        ("start=7.000 MB/s", "7,000 or 7"),
        ("link=6Gb/s", "750MB if it is bits"),
    ],
)
def test_a_reading_that_can_be_read_twice_is_refused(text: str, said: str) -> None:
    with pytest.raises(UsageError) as caught:
        parse_reading(text)
    assert said in caught.value.message


def test_readings_as_people_write_them() -> None:
    assert parse_reading("boot=9min 30s").value == 570
    assert parse_reading("rate=3.3GiB/s").value == pytest.approx(3.3 * 2**30)
    assert parse_reading("weight=1,234 g").value == 1234
    assert parse_price("$79") == (79.0, "USD") and parse_endurance("300TBW") == 300 * 10**12


@given(st.integers(0, 2**60))
def test_spelling_is_exact(number: int) -> None:
    assert parse_size(spell_size(number)) == number
    assert parse_time(spell_time(number)) == number


@given(st.floats(1e-3, 1e12))
def test_three_significant_digits(value: float) -> None:
    assert float(significant(value).replace(",", "")) == pytest.approx(value, rel=0.0051)
