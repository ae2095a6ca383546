"""Claims and sheets in all their spellings."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.base.errors import PhraseError, UsageError
from jovik.sheets.sheet import (
    Claim,
    Drive,
    Sheet,
    parse_claim,
    parse_price,
    read_sheet,
    write_sheet,
)


@st.composite
def claims(draw: st.DrawFn) -> Claim:
    unit = draw(st.sampled_from(["bytes/s", "IOPS", "ns"]))
    sectors = st.integers(1, 2**20).map(lambda n: n * 512)
    read_percent = draw(st.sampled_from([0, 30, 100]))
    sustained = not read_percent and draw(st.booleans())
    one_at_a_time = unit == "ns"
    block = draw(st.none() | sectors)
    return Claim(
        random=draw(st.booleans()),
        read_percent=read_percent,
        figure=float(draw(st.integers(1, 10**11))),
        unit=unit,
        block_bytes=block,
        depth=draw(st.none() | st.integers(1, 1 if one_at_a_time else 1024)),
        workers=draw(st.none() | st.integers(1, 1 if one_at_a_time else 64)),
        up_to=draw(st.booleans()),
        sustained=sustained,
        steady=not sustained and draw(st.booleans()),
        printed=draw(st.text(st.characters(categories=["L", "N", "P", "Zs"]), max_size=20)),
        span_bytes=None if sustained else draw(st.none() | sectors.map((block or 0).__add__)),
        compressible_percent=None if read_percent == 100 else draw(st.none() | st.integers(0, 100)),
        conditions=draw(st.text(st.characters(categories=["L", "N"]), max_size=20)),
    )


@given(
    st.lists(claims(), max_size=4),
    st.text(st.characters(categories=["L", "N"]), min_size=1, max_size=20),
)
def test_any_sheet_survives_its_file(listed: list[Claim], name: str) -> None:
    sheet = Sheet(
        Drive(name, maker='a "quoted" maker', capacity_bytes=10**12, price=89.5, currency="EUR"),
        tuple(listed),
    )
    assert read_sheet(write_sheet(sheet), "x") == sheet


@pytest.mark.parametrize(
    ("what", "figure", "label", "shown"),
    [
        ("sequential read", "7,000 MB/s", "sequential read", "7,000 MB/s"),
        (
            "random write 4KiB depth 32 workers 4",
            "1.2M IOPS",
            "random write, 4 KiB, depth 32, workers 4",
            "1,200,000 IOPS",
        ),
        ("Random Read 4 KiB", "0.06ms", "random read, 4 KiB", "60.0 µs"),
        (
            "sequential write within 8GiB payload 46% compressible",
            "5GB/s",
            "sequential write, within 8 GiB, payload 46% compressible",
            "5,000 MB/s",
        ),
    ],
)
def test_claims_as_people_write_them(what: str, figure: str, label: str, shown: str) -> None:
    claim = parse_claim(what, figure)
    assert (claim.label, claim.shown()) == (label, shown)
    assert parse_claim(claim.what, figure) == claim


@pytest.mark.parametrize(
    "what",
    [
        "",
        "sequential",
        "read",
        "random read 4KiB fast",
        "random read 4KiB depth",
        "random read 4KiB depth 0",
        "sequential read payload 50% compressible",
        "sequential write within 60% of free",
    ],
)
def test_a_claim_about_nothing_is_refused(what: str) -> None:
    with pytest.raises(PhraseError):
        parse_claim(what, "1MB/s")


@pytest.mark.parametrize("figure", ["", "fast", "7000", "0 MB/s", "-5 IOPS", "7000 Mb"])
def test_a_figure_that_is_none_is_refused(figure: str) -> None:
    with pytest.raises(ValueError):
        parse_claim("sequential read", figure)


@pytest.mark.parametrize(
    ("what", "figure", "more", "said"),
    [
        ("random read 4KiB depth 4", "60us", {}, "one request at a time"),
        ("sequential read", "5GB/s", {"sustained": True}, "only a write is sustained"),
        ("sequential write within 8GiB", "1GB/s", {"sustained": True}, "an amount of its own"),
        ("sequential write 1MiB within 512KiB", "1GB/s", {}, "one block"),
        ("random write 4KiB", "9kIOPS", {"sustained": True, "steady": True}, "not both"),
    ],
)
def test_conditions_that_no_step_can_meet_are_refused(
    what: str, figure: str, more: dict[str, bool], said: str
) -> None:
    with pytest.raises(ValueError, match=said):
        parse_claim(what, figure, **more)
    keys = "".join(f"\n{k} = true" for k in more)
    text = f"[drive]\nname = 'A'\n[[claim]]\nwhat = '{what}'\nfigure = '{figure}'{keys}"
    with pytest.raises(UsageError, match=said):
        read_sheet(text, "a.toml")


def test_a_file_larger_than_the_drive_is_refused() -> None:
    text = (
        "[drive]\nname = 'A'\ncapacity = '1TB'\n[[claim]]\n"
        "what = 'sequential read within 2TB'\nfigure = '5GB/s'"
    )
    with pytest.raises(UsageError, match=r"does not fit on a drive of 1\.00 TB"):
        read_sheet(text, "a.toml")


def test_prices() -> None:
    assert parse_price("89.90 eur") == (89.9, "EUR") and parse_price("12") == (12.0, "")
    with pytest.raises(ValueError):
        parse_price("cheap")


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "'drive' is missing"),
        ("drive = 3", "drive"),
        ("[drive]\nname = ''", "name"),
        ("x = [", "not TOML"),
    ],
)
def test_what_is_no_sheet_is_refused(text: str, said: str) -> None:
    with pytest.raises(UsageError, match=said):
        read_sheet(text, "file.toml")
