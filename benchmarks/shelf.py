"""What a large shelf costs.

Ranking 10,000 runs, judging one drive of them, a page of all, and the review of one drive.

    benchmarks/shelf.py                 10,000 runs of 200 drives, four steps of three passes each
    benchmarks/shelf.py --runs 1000     fewer
    benchmarks/shelf.py --server        1,000,000 passes on a PostgreSQL server of its own

The shelf is filled through the tables themselves, with the results of one measured pass, since
10,000 real runs would take a day.
"""

from __future__ import annotations

import argparse
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import sqlalchemy as sa

from jovik.shelf.encoding import pack, pack_latencies
from jovik.shelf.engines import open_engine
from jovik.shelf.schema import drive, one_pass, rig, run, step

KINDS = (
    "sequential read 1MiB depth 8",
    "sequential write 1MiB depth 8",
    "random read 4KiB",
    "random read 4KiB depth 32",
)
PASSES = 3
VARIANTS = 7
"""Different passes of each step of each drive."""


def fill(where: str, runs: int, drives: int, each: int = PASSES) -> None:
    """Write the shelf, `each` passes of each step."""
    engine = open_engine(where, create=True)
    none = pack_latencies({})
    rng = np.random.default_rng(1)
    conditions = {"engine": "io_uring", "direct": True, "span_bytes": 2**30}
    with engine.begin() as c:
        names = [f"Made-up drive {n}" for n in range(drives)]
        plain = {"maker": "", "model": "", "interface": "", "medium": "", "currency": ""}
        c.execute(
            drive.insert(),
            [
                {"id": n + 1, "name": x, "folded_name": x.casefold(), **plain}
                for n, x in enumerate(names)
            ],
        )
        c.execute(rig.insert().values(id=1, name="bench", facts={}))
        stamps = [
            f"2026-01-{1 + n % 28:02d}T{n // 28 % 24:02d}:{n // 672 % 60:02d}"
            f":{n % 60:02d}.{n % 1000:03d}Z"
            for n in range(runs)
        ]
        common = {
            "rig_id": 1,
            "target": {},
            "plan": "first-look",
            "seed": 1,
            "options": {},
            "state": "done",
            "laid_out_bytes": 0,
            "version": "0",
        }
        c.execute(
            run.insert(),
            [
                {"id": f"r{n:06d}", "drive_id": 1 + n % drives, "started": stamps[n], **common}
                for n in range(runs)
            ],
        )
        series = {}
        for d in range(drives):
            for position in range(len(KINDS)):
                for variant in range(VARIANTS):
                    rate = (1 + d) * 1e7 * (1 + position) * float(np.exp(rng.normal(0, 0.01)))
                    slices = np.zeros((10, 5), np.int64)
                    slices[:, 0], slices[:, 1] = round(rate / 10), 1
                    whole = int(slices[:, 0].sum())
                    series[d, position, variant] = (float(whole), pack(slices=slices))
        steps, passes = [], []
        for n in range(runs):
            for position, kind in enumerate(KINDS):
                key = n * len(KINDS) + position + 1
                steps.append(
                    {
                        "id": key,
                        "run_id": f"r{n:06d}",
                        "position": position,
                        "phrase": kind,
                        "kind": kind,
                        "conditions": conditions,
                        "limits": [],
                        "notes": [],
                        "started": stamps[n],
                        "finished": True,
                    }
                )
                for number in range(each):
                    rate, slices = series[n % drives, position, (n + number) % VARIANTS]
                    passes.append(
                        {
                            "step_id": key,
                            "number": number + 1,
                            "finished": stamps[n],
                            "seed": 1,
                            "rate_bytes_s": rate,
                            "flushed_rate_bytes_s": rate,
                            "iops": 10.0,
                            "read_bytes": round(rate),
                            "written_bytes": 0,
                            "elapsed_ns": 10**9,
                            "flush_ns": 0,
                            "cpu_ns": 1,
                            "errors": 0,
                            "slices": slices,
                            "latencies": none,
                        }
                    )
            if n % 1000 == 999 or n == runs - 1:
                c.execute(step.insert(), steps)
                c.execute(one_pass.insert(), passes)
                steps, passes = [], []
        c.execute(sa.text("analyze"))
    engine.dispose()


def cost(words: list[str], env: dict[str, str]) -> tuple[float, float]:
    """Seconds and CPU seconds of a whole command."""
    before, began = resource.getrusage(resource.RUSAGE_CHILDREN), time.monotonic()
    subprocess.run(
        [sys.executable, "-m", "jovik", *words], env=env, check=False, capture_output=True
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return (
        time.monotonic() - began,
        after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime,
    )


def main() -> None:
    options = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    options.add_argument("--runs", type=int, default=10_000)
    options.add_argument("--drives", type=int, default=200)
    options.add_argument("--server", action="store_true")
    given = options.parse_args()
    if given.server:
        million()
        return
    with tempfile.TemporaryDirectory() as folder:
        where = Path(folder) / "shelf.db"
        fill(str(where), given.runs, given.drives)
        env = os.environ | {"JOVIK_SHELF": str(where)}
        subprocess.run(
            [
                sys.executable,
                "-m",
                "jovik",
                "sheet",
                "claim",
                "Made-up drive 7",
                "sequential read",
                "80MB/s",
            ],
            env=env,
            check=True,
        )
        start = min(cost(["sheet", "list"], env)[1] for _ in range(3))
        for name, words, most in (
            ("rank --no-steps", ["rank", "--no-steps"], 1.0),
            ("judge", ["judge", "Made-up drive 7"], 0.5),
            ("runs", ["runs", "list", "Made-up drive 7"], 1.0),
            ("runs of all", ["runs", "list", "--format", "csv"], 1.0),
            ("compare", ["compare", "Made-up drive 7", "Made-up drive 8"], 1.0),
        ):
            found = [cost(words, env) for _ in range(5)]
            wall, cpu = (sorted(x[i] for x in found)[2] for i in (0, 1))
            print(
                f"{name:16} {wall:.2f} s, CPU {cpu:.2f} s, {cpu - start:.2f} s above an empty "
                f"look at the shelf (at most {most} s)"
            )
        wall, cpu = cost(["shelf", "check"], env)
        print(f"shelf check      {wall:.2f} s, CPU {cpu:.2f} s (at most 10 s)")
        wall, cpu = cost(["report", "--all", "--out", f"{folder}/site"], env)
        size = (Path(folder) / "site" / "index.html").stat().st_size
        print(f"report --all     {wall:.2f} s, CPU {cpu:.2f} s, {size / 1e6:.2f} MB (at most 10 s)")
    review()


def million() -> None:
    """Ranking a million passes that lie on a server."""
    from tests.server import running

    server, folder = running(None)
    try:
        where = server.database()
        fill(where, 10_000, 200, 25)
        env = os.environ | {"JOVIK_SHELF": where}
        start = min(cost(["sheet", "list"], env)[0] for _ in range(3))
        wall = sorted(cost(["rank", "--no-steps"], env)[0] for _ in range(5))[2]
        print(
            f"rank, server     {wall:.2f} s, {wall - start:.2f} s above an empty look (at most 2 s)"
        )
    finally:
        server.stop()
        folder.cleanup()


def review() -> None:
    """The review of a drive with a full review behind it, against two others.

    Thirteen pictures in two themes.
    """
    with tempfile.TemporaryDirectory() as folder:
        env = os.environ | {"JOVIK_SHELF": f"{folder}/shelf.db"}
        for model in ("comet", "slate", "drift"):
            subprocess.run(
                [
                    sys.executable,
                    "-m",
                    "jovik",
                    "measure",
                    f"model:{model}",
                    "--plan",
                    "full-review",
                ],
                env=env,
                check=True,
                capture_output=True,
            )
        words = [
            "report",
            "Veldhaar Comet 2TB",
            "--against",
            "Corvane Slate 1TB",
            "--against",
            "Ilmaris Drift 1TB",
            "--out",
            f"{folder}/review.html",
        ]
        wall, cpu = cost(words, env)
        page = (Path(folder) / "review.html").read_text()
        print(
            f"report DRIVE     {wall:.2f} s, CPU {cpu:.2f} s, {page.count('<img')} pictures, "
            f"{len(page) / 1e6:.2f} MB (at most 10 s and 3 MB)"
        )


if __name__ == "__main__":
    main()
