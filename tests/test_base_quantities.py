"""Sizes, times, rates and step phrases: what is read, what is spelled, what is refused."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.base.quantities import (
    parse_rate,
    parse_size,
    parse_time,
    significant,
    spell_size,
    spell_time,
)


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
