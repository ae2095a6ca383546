"""Whatever somebody else wrote is read, or refused in words.

No traceback, no hang, nothing outside the folder (see fuzz/).
"""

from __future__ import annotations

import os
import re
import tempfile
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from fuzz.targets import TARGETS, attempt, seeds_of
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import MEMORY, Program

HUGE = "9" * 5000
DEEP = "[" * 5000

_seeds: dict[str, tuple[bytes, ...]] = {}


@st.composite
def bent(draw: st.DrawFn, seeds: tuple[bytes, ...]) -> bytes:
    """An example with places cut, doubled, changed or replaced by hard input."""
    content = bytearray(draw(st.sampled_from(seeds)))
    pieces = st.one_of(
        st.binary(max_size=8),
        st.text(max_size=8).map(lambda t: t.encode("utf-8", "surrogatepass")),
        st.sampled_from(
            [
                b"-1",
                b"1e400",
                b"0",
                b"nan",
                b"inf",
                b"99999999999999999999",
                b"''",
                b'"',
                b"\x00",
                b"[[",
                b"= {}",
                b",,",
                b"\xff\xfe",
            ]
        ),
    )
    for _ in range(draw(st.integers(0, 4))):
        at = draw(st.integers(0, len(content)))
        end = min(len(content), at + draw(st.integers(0, 12)))
        content[at:end] = (
            content[at:end] * 2 if draw(st.booleans()) and draw(st.booleans()) else draw(pieces)
        )
    return bytes(content)


@pytest.fixture
def inside() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(dir=MEMORY, prefix="jovik-test-") as scratch:
        (Path(scratch) / "inside").mkdir()
        yield Path(scratch) / "inside"


@pytest.mark.parametrize("name", TARGETS)
def test_a_parser_takes_its_examples_and_refuses_the_rest_in_words(
    name: str, inside: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("JOVIK_CONFIG", "")
    seeds = seeds_of(name)
    assert [s for s in seeds if not attempt(name, s, inside)] == []

    @settings(
        max_examples=60 if name.startswith(("archive", "workbook")) else 150,
        suppress_health_check=list(HealthCheck),
        database=None,
    )
    @given(bent(seeds) | st.binary(max_size=200))
    def tried(content: bytes) -> None:
        attempt(name, content, inside)

    tried()


@pytest.mark.parametrize("name", sorted(n for n in TARGETS if TARGETS[n].seeds))
def test_numbers_without_end_and_depths_without_bottom_are_refused(
    name: str, inside: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("JOVIK_CONFIG", "")
    for seed in TARGETS[name].seeds[:4]:
        text = seed.decode("utf-8", "replace")
        # Long files repeat themselves: two dozen places, spread over all of it.
        numbers = list(re.finditer(r"\d+(\.\d+)?", text))
        for number in numbers[:: max(1, len(numbers) // 24)]:
            for hard in (
                HUGE,
                "1" + "0" * 400,
                "1" + "0" * 18,
                "1e308",
                "1e-320",
                "0.0",
                "-5",
                "0",
            ):
                attempt(
                    name, (text[: number.start()] + hard + text[number.end() :]).encode(), inside
                )
    for hard in (HUGE, DEEP, "{" * 5000, "-" * 5000, "\u202e" * 50):
        for given_text in (
            hard,
            f"x = {hard}",
            text.replace("\n", hard, 1),
            text.replace(" ", hard, 1),
            text.replace("'", hard, 1),
        ):
            attempt(name, given_text.encode(), inside)


def test_an_archive_cannot_write_beside_the_shelf(jovik: Program) -> None:
    path = jovik.folder / "evil.zip"
    with zipfile.ZipFile(path, "w") as made:
        made.writestr(
            "manifest.json",
            '{"format": "jovik shelf", "version": 1, "files": {"../../evil": "x", '
            '"runs/../../../evil.json": "x"}}',
        )
        made.writestr("../../evil", "x")
        made.writestr("runs/../../../evil.json", "x")
        made.writestr("drives.json", f"[{HUGE}]")
    before = sorted(os.listdir(jovik.folder.parent)), sorted(os.listdir(jovik.folder))
    assert "cannot be read" in jovik("shelf", "import", path, status=2).err
    assert (sorted(os.listdir(jovik.folder.parent)), sorted(os.listdir(jovik.folder))) == before


def test_what_is_no_file_of_a_person_is_refused_at_once(jovik: Program) -> None:
    big = jovik.folder / "big.toml"
    with big.open("wb") as file:
        file.truncate(3 * 10**9)
    bad = jovik.folder / "bad.toml"
    bad.write_bytes(b"\xff\xfe")
    jovik("sheet", "new", "Tern 1TB")
    for words in (
        ("plan", "check"),
        ("fit", "Tern 1TB", "--load"),
        ("sheet", "new", "--from"),
        ("note", "Tern 1TB", "--csv"),
        ("measure", "model:{}"),
    ):
        for path, said in ((big, "longer than"), (bad, "not UTF-8")):
            given_words = (
                [w.format(path) for w in words] if "{}" in words[-1] else [*words, str(path)]
            )
            answer = jovik(*given_words, status=2, timeout=20)
            assert said in answer.err, (given_words, answer.err)
