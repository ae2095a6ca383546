"""The measuring loops as a library: what it needs, what is there without it, and its refusals."""

from __future__ import annotations

import platform
import sys
from pathlib import Path

import pytest

from jovik.engine import loops
from tests.programs import need, run

library = pytest.importorskip("jovik.engine.kernel.library", reason="needs Numba")


def test_the_library_is_no_older_than_the_sources_that_lie_here() -> None:
    """Whoever changes a loop has to link it again: make does."""
    sources = Path(library.__file__).parent.glob("*.py")
    assert max(s.stat().st_mtime for s in sources) <= loops.LIBRARY.stat().st_mtime


def test_a_library_is_the_same_whenever_it_is_built(tmp_path: Path) -> None:
    code = "import sys, pathlib; from jovik.engine.kernel import library; "
    code += "library.build(pathlib.Path(sys.argv[1]), sys.argv[2])"
    run(sys.executable, "-c", code, tmp_path / "again.so", platform.machine())
    assert (tmp_path / "again.so").read_bytes() == loops.LIBRARY.read_bytes()


def test_the_library_needs_nothing_but_libc() -> None:
    need("nm")
    found = run("nm", "--dynamic", "--undefined-only", loops.LIBRARY).split()
    assert set(found) - {"U"} <= library.IMPORTED
    exported = run("nm", "--dynamic", "--defined-only", loops.LIBRARY).split()
    assert {n for n in exported if n.startswith("jovik_")} == {f"jovik_{n}" for n in loops.LOOPS}


def test_a_library_of_another_architecture_is_linked_without_its_tools(tmp_path: Path) -> None:
    other = "aarch64" if platform.machine() == "x86_64" else "x86_64"
    try:
        library.build(tmp_path / "other.so", other)
    except RuntimeError as error:
        pytest.skip(str(error))
    head = (tmp_path / "other.so").read_bytes()[:20]
    # e_machine of ELF: EM_AARCH64 or EM_X86_64.
    assert head[:4] == b"\x7fELF" and head[18] == {"aarch64": 183, "x86_64": 62}[other]


LOAD = """
import sys
from pathlib import Path
from jovik.base.errors import JovikError
from jovik.engine import loops
loops.LIBRARY = Path(sys.argv[1])
if "without" in sys.argv:
    sys.modules["numba"] = None
    loops.find_spec = lambda name: None
try:
    loops.load("blocking_loop")
    print("numba" in sys.modules)
except JovikError as error:
    print(error.message, error.hint, sep="; ")
"""


def load(*words: str | Path) -> str:
    return run(sys.executable, "-c", LOAD, *words)


def test_the_loops_are_loaded_without_numba_and_compiled_where_there_is_no_library(
    tmp_path: Path,
) -> None:
    assert load(loops.LIBRARY) == "False"
    assert load(tmp_path / "none.so") == "True"
    assert load(tmp_path / "none.so", "without") == (
        f"this installation has no measuring loops for {platform.machine()}; "
        "pip install 'jovik[loops]' to compile them at each start"
    )
    (tmp_path / "bad.so").write_bytes(b"no library")
    refused = load(tmp_path / "bad.so")
    assert "cannot be loaded" in refused and "bad.so" in refused and "install Jovik" in refused
