"""Pictures of odd shelves, claims and sheets in all their spellings, and the kept machine code."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jovik.analysis.ranking import rank
from jovik.base.errors import PhraseError, UsageError
from jovik.charts.ranking import draw_ranking
from jovik.sheets.sheet import (
    Claim,
    Drive,
    Sheet,
    parse_claim,
    parse_price,
    read_sheet,
    write_sheet,
)
from tests.test_statistics import READ, result


@pytest.mark.parametrize("drives", [1, 3, 30])
def test_a_ranking_of_any_size_is_drawn(tmp_path: Path, drives: int) -> None:
    results = [
        result(
            f"Drive number {n} with a name that goes on and on $x_1$",
            READ,
            [1e8 * (n + 1) * f for f in (1, 1.02, 0.99)],
        )
        for n in range(drives)
    ]
    results.append(result("measured once", "random write 4KiB", [5e7]))
    out = tmp_path / "r.svg"
    draw_ranking(rank(results), out, highlight=results[0].drive)
    drawn = out.read_text()
    assert "Ranking by index" in drawn and "medians of" in drawn
    if drives < 8:
        assert "not measured alike" in drawn or "random write, 4 KiB" not in drawn


@st.composite
def claims(draw: st.DrawFn) -> Claim:
    unit = draw(st.sampled_from(["bytes/s", "IOPS", "ns"]))
    return Claim(
        random=draw(st.booleans()),
        read_percent=draw(st.sampled_from([0, 100])),
        figure=float(draw(st.integers(1, 10**11))),
        unit=unit,
        block_bytes=draw(st.none() | st.integers(1, 2**20).map(lambda n: n * 512)),
        depth=draw(st.none() | st.integers(1, 1024)),
        workers=draw(st.none() | st.integers(1, 64)),
        up_to=draw(st.booleans()),
        sustained=draw(st.booleans()),
        printed=draw(st.text(st.characters(categories=["L", "N", "P", "Zs"]), max_size=20)),
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
        ("Random Read 4 KiB", "0.06ms", "random read, 4 KiB", "60.0 us"),
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
    ],
)
def test_a_claim_about_nothing_is_refused(what: str) -> None:
    with pytest.raises(PhraseError):
        parse_claim(what, "1MB/s")


@pytest.mark.parametrize("figure", ["", "fast", "7000", "0 MB/s", "-5 IOPS", "7000 Mb"])
def test_a_figure_that_is_none_is_refused(figure: str) -> None:
    with pytest.raises(ValueError):
        parse_claim("sequential read", figure)


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


LOAD = (
    "from jovik.engine import code_cache; code_cache.load('blocking_loop'); import sys; "
    "print('numba' in sys.modules)"
)


def load(cache: Path | str) -> str:
    env = os.environ | {"XDG_CACHE_HOME": str(cache)}
    return subprocess.run(
        [sys.executable, "-c", LOAD],
        env=env,
        capture_output=True,
        text=True,
        check=True,
        timeout=120,
    ).stdout.strip()


@pytest.mark.skipif(sys.platform != "linux", reason="the cache folder is set by XDG_CACHE_HOME")
def test_machine_code_is_kept_and_checked(tmp_path: Path) -> None:
    assert load(tmp_path) == "True"
    assert load(tmp_path) == "False"
    kept = next((tmp_path / "jovik").glob("blocking_loop-*.o"))
    whole = kept.read_bytes()
    kept.write_bytes(whole[: len(whole) // 2])
    assert load(tmp_path) == "True" and kept.read_bytes() != whole[: len(whole) // 2]
    assert load("/dev/null/nowhere") == "True"
