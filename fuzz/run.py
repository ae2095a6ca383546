"""Fuzz the parsers with atheris, guided by coverage.

`make fuzz`, or `python -m fuzz.run TARGET --seconds 60`.

An input that raises what it should not, takes over ten seconds, or two gigabytes is kept in
fuzz/found/ and ends the run with status 1.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
from pathlib import Path

FOUND = Path(__file__).parent / "found"
MEMORY = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
MOST_SECONDS_EACH, MOST_MEMORY_MB, MOST_BYTES = 10, 2048, 65_536


def fuzz_one(name: str, seconds: int, scratch: Path, seed: int) -> None:
    """Fuzz one target in this process, in a folder of its own; libFuzzer ends it."""
    import atheris

    with atheris.instrument_imports(include=["jovik", "fuzz.targets"]):
        from fuzz.targets import attempt, seeds_of
    corpus = scratch / "corpus"
    corpus.mkdir()
    for number, content in enumerate(seeds_of(name)):
        (corpus / f"seed-{number}").write_bytes(content)
    work = scratch / "work" / "inside"
    work.mkdir(parents=True)
    FOUND.mkdir(exist_ok=True)
    arguments = [
        sys.argv[0],
        str(corpus),
        f"-max_total_time={seconds}",
        f"-timeout={MOST_SECONDS_EACH}",
        f"-rss_limit_mb={MOST_MEMORY_MB}",
        f"-max_len={MOST_BYTES}",
        f"-artifact_prefix={FOUND}/{name}-",
        "-print_final_stats=1",
        f"-seed={seed}",
    ]
    atheris.Setup(arguments, lambda content: attempt(name, content, work))
    atheris.Fuzz()


def main() -> int:
    """Each target in a process of its own; 1 when one of them stumbled."""
    from fuzz.targets import TARGETS

    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("targets", nargs="*", choices=[[], *TARGETS], default=[])
    parser.add_argument("--seconds", type=int, default=30, help="for each target")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--here", type=Path, help=argparse.SUPPRESS)
    asked = parser.parse_args()
    if asked.here is not None:
        fuzz_one(asked.targets[0], asked.seconds, asked.here, asked.seed)
    faults = 0
    for name in asked.targets or TARGETS:
        # Whatever ends the process, its folder is removed here.
        with tempfile.TemporaryDirectory(dir=MEMORY, prefix="jovik-fuzz-") as scratch:
            command = [
                sys.executable,
                "-m",
                "fuzz.run",
                name,
                "--here",
                scratch,
                "--seconds",
                str(asked.seconds),
                "--seed",
                str(asked.seed),
            ]
            done = subprocess.run(command, check=False, capture_output=True, text=True)
        ran = [
            line.rsplit(":", 1)[1].strip()
            for line in done.stderr.splitlines()
            if "number_of_executed_units" in line
        ]
        faults += done.returncode != 0
        print(
            f"{name}: {ran[0] if ran else '?'} inputs, "
            f"{'no fault' if done.returncode == 0 else 'A FAULT'}",
            flush=True,
        )
        if done.returncode:
            print("\n".join(done.stderr.splitlines()[-40:]))
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
