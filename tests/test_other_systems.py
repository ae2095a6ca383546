"""Work that needs no drive, on systems on which none can be measured.

`.ci/run` does a larger part of the suite in the same way.
"""

from __future__ import annotations

import pytest

from tests.conftest import SYSTEM, Program

COMET, SLATE = "Veldhaar Comet 2TB", "Corvane Slate 1TB"


@pytest.mark.parametrize("system", ["win32", "darwin"])
def test_all_but_measuring_works_on_other_systems(jovik: Program, system: str) -> None:
    jovik.env[SYSTEM] = system
    steps = ["random read 4KiB for 1s", "sequential read 512KiB depth 4 for 1s"]
    for model in ("comet", "slate"):
        jovik("measure", f"model:{model}", *steps, "--passes", "3", "--seed", "3")
    assert "of 6 claims" in jovik("judge", COMET).out
    assert "first of 2" in jovik("rank").out
    assert "times" in jovik("upgrade", SLATE, COMET).out
    jovik("fit", COMET, status=None)
    jovik("report", COMET, "--out", "review.html")
    # The second time, Jovik knows its own file and replaces it, and no other.
    jovik("report", COMET, "--out", "review.html")
    jovik("picture", "claims", COMET, "--out", "claims.png")
    jovik("shelf", "export", "--out", "all.zip")
    assert "is there already" in jovik("shelf", "export", "--out", "all.zip", status=2).err
    assert "added 2 drives" in jovik.on_shelf("other.db")("shelf", "import", "all.zip").out
    assert (jovik.folder / "claims.png").read_bytes().startswith(b"\x89PNG")
    assert not list(jovik.folder.glob(".jovik*"))


def test_a_real_drive_is_refused_in_one_line_on_windows(jovik: Program) -> None:
    jovik.env[SYSTEM] = "win32"
    for words in (["measure", "."], ["scout"], ["ceiling"], ["record", "take", "--out", "a", "ls"]):
        refused = jovik(*words, status=3).err
        assert "Jovik measures drives on Linux, and this is Windows" in refused


def test_what_was_delivered_does_not_wait_again_on_windows(jovik: Program) -> None:
    jovik.env |= {SYSTEM: "win32", "XDG_DATA_HOME": str(jovik.folder / "data")}
    jovik("sheet", "new", "Fjord 1TB")
    waiting = jovik.folder / "data" / "jovik" / "spool" / "cut-off.jsonl"
    waiting.parent.mkdir(parents=True)
    waiting.touch()
    jovik("measure", "model:comet", "random read 4KiB for 1s", "--passes", "1")
    assert not waiting.exists()
