"""The tester's own limits on this machine: the answer of `jovik ceiling`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.errors import EngineUnavailableError
from jovik.base.plain_data import plain
from jovik.base.quantities import show_size, significant
from jovik.base.this_system import need_posix
from jovik.engine.ceiling import Ceiling, survey
from jovik.engine.ring import Ring
from jovik.tables.table import Table


@dataclass(frozen=True)
class CeilingAnswer(Answer):
    """Rates of the measuring loop without a drive."""

    schema: ClassVar[str] = "ceilings"

    ceilings: tuple[Ceiling, ...]
    remarks: tuple[str, ...] = ()

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        figures = [plain(c) | {"rate_bytes_s": c.rate_bytes_s} for c in self.ceilings]
        return {"ceilings": figures, "notes": list(self.remarks)}

    def csv(self) -> Csv:
        """Return a row for each engine, depth and block."""
        names = ("engine", "behind", "depth", "workers", "block_bytes", "iops", "rate_bytes_s")
        return csv_of(self.ceilings, *names)

    def tables(self) -> Sequence[Table]:
        """Return a row for each engine, depth and block."""
        rows = [
            (
                c.engine,
                c.behind,
                str(c.depth),
                str(c.workers),
                "4 KiB" if c.block_bytes == 4096 else "1 MiB",
                significant(c.iops),
                "-" if c.behind == "nothing" else f"{show_size(c.rate_bytes_s)}/s",
            )
            for c in self.ceilings
        ]
        return [
            Table(
                "Limits of the tester",
                ["engine", "backend", "depth", "workers", "block", "IOPS", "throughput"],
                rows,
                right=(2, 3, 4, 5, 6),
                notes=[
                    *self.remarks,
                    "a result above 70 % of the loop's rate without a drive, at its depth "
                    "and workers, is marked as limited by the tester",
                ],
            )
        ]


def ceiling(engine: str = "auto", time_ns: int = 300_000_000) -> CeilingAnswer:
    """Measure the tester's own limits here, without a drive.

    Parameters
    ----------
    engine : {"auto", "io_uring", "blocking"}
        Both for ``auto``, or only the second one if the first is not available.
    time_ns : int
        Duration of each measurement.

    Raises
    ------
    TargetError
        No drive can be measured on this system.
    """
    need_posix()
    engines, remarks = [engine], []
    if engine == "auto":
        engines = ["io_uring", "blocking"]
        try:
            Ring(1).close()
        except EngineUnavailableError as error:
            engines, remarks = ["blocking"], [error.message]
    return CeilingAnswer(tuple(c for e in engines for c in survey(e, time_ns)), tuple(remarks))
