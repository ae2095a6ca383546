"""Build the sdist and the wheel twice, compare them bit for bit, and list their dependencies.

The bill of materials (CycloneDX) is of a fresh environment that holds the wheel and nothing else.
"""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
import tempfile
from pathlib import Path

TOP = Path(__file__).parents[1]
OUT = TOP / "dist"
BIN = Path(sys.executable).parent


def main() -> int:
    """Return 0, or 1 if the two builds differ."""
    OUT.mkdir(exist_ok=True)
    for old in (*OUT.glob("jovik-*"), *OUT.glob("*.cdx.json")):
        old.unlink()
    with tempfile.TemporaryDirectory() as scratch:
        again = Path(scratch) / "again"
        for place in (OUT, again):
            _build(place)
        first, second = _sums(OUT), _sums(again)
        for name, total in first.items():
            print(f"{total}  {name}")
        if first != second:
            print("the second build differs", file=sys.stderr)
            return 1
        _bill_of_materials(Path(scratch) / "environment", next(OUT.glob("*.whl")))
    return 0


def _build(out: Path) -> None:
    # The moment of the last commit dates every file; without one, the builder's own constant does.
    asked = ["git", "log", "-1", "--format=%ct"]
    dated = subprocess.run(asked, cwd=TOP, capture_output=True, text=True, check=False)
    env = {"SOURCE_DATE_EPOCH": dated.stdout.strip()} if dated.returncode == 0 else {}
    subprocess.run(
        [BIN / "uv", "build", "--quiet", "--out-dir", out, TOP], env=os.environ | env, check=True
    )


def _sums(folder: Path) -> dict[str, str]:
    files = sorted((*folder.glob("*.whl"), *folder.glob("*.tar.gz")))
    return {f.name: hashlib.sha256(f.read_bytes()).hexdigest() for f in files}


def _bill_of_materials(environment: Path, wheel: Path) -> None:
    subprocess.run([BIN / "uv", "venv", "--quiet", environment], check=True)
    python = environment / "bin" / "python"
    subprocess.run([BIN / "uv", "pip", "install", "--quiet", "--python", python, wheel], check=True)
    out = OUT / f"{wheel.stem}.cdx.json"
    subprocess.run(
        [BIN / "cyclonedx-py", "environment", "--output-reproducible", "-o", out, python],
        check=True,
    )
    print(f"wrote {out.relative_to(TOP)}")


if __name__ == "__main__":
    sys.exit(main())
