"""Which workloads a drive carries: the answers of `jovik fit`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from jovik.analysis.suitability import Suitability
from jovik.answers.answer import Answer, Csv, csv_of
from jovik.base.errors import UsageError
from jovik.base.plain_data import keyed
from jovik.base.quantities import show_rate, spell_size
from jovik.queries.programs import program_called
from jovik.queries.suitability import Fitted, Pace, fitted, fitted_all
from jovik.sheets.drive_class import DriveClass, class_names, read_class
from jovik.sheets.load import Load, load_names, read_load
from jovik.shelf.store import Shelf
from jovik.tables.drive_class import classes_table
from jovik.tables.evidence import passed_over_json
from jovik.tables.replay import programs_table
from jovik.tables.suitability import asked_programs_table, carriers_tables, fit_table
from jovik.tables.table import Table


@dataclass(frozen=True)
class FitAnswer(Answer):
    """The workloads that one drive carries."""

    schema: ClassVar[str] = "fits"

    found: Fitted
    asked: bool = False

    @property
    def status(self) -> int:
        """Return 1 if a workload that was asked for is not carried, or a program is slower."""
        slower = any(p.verdict is Pace.SLOWER for p in self.found.asked)
        return int(slower or (self.asked and not all(f.carried for f in self.found.empty)))

    @property
    def empty(self) -> tuple[Suitability, ...]:
        """Return the results of a drive that is not full."""
        return self.found.empty

    def _every(self) -> list[tuple[int | None, Suitability]]:
        filled = [(level, f) for level, fits in self.found.filled.items() for f in fits]
        return [*((None, f) for f in self.found.empty), *filled]

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        report = self.found
        programs = [
            keyed(r, "phrase", "run")
            | keyed(r.findings.replay, "elapsed_s", "waited_s", "recorded_s")
            for r in report.programs
            if r.findings.replay is not None
        ]
        fits = [_fit(f, level) for level, f in self._every()]
        return {
            "drive": report.drive.name,
            "fits": fits,
            "programs": programs,
            "asked": [
                keyed(p, "name", "verdict", "recorded_s", "recorded_on")
                | keyed(p.time, "elapsed_s", "predicted", "typical_error")
                for p in report.asked
            ],
            **passed_over_json(report.passed_over),
        }

    def csv(self) -> Csv:
        """Return a row for each workload and fill level."""
        return csv_of(
            [{"level": level, "f": f} for level, f in self._every()],
            load="f.load.name",
            filled_percent="level",
            streams="f.streams",
            headroom="f.headroom",
            ends="f.ends",
            years_of_endurance="f.years",
        )

    def tables(self) -> Sequence[Table]:
        """Return the workloads, and recorded programs if there are any."""
        found = self.found
        tables = [asked_programs_table(found)] if found.asked else []
        tables += [fit_table(found)] if found.empty else []
        if found.programs and not found.asked:
            tables.append(programs_table(found.drive.name, found.programs))
        return tables


def _fit(f: Suitability, level: int | None) -> dict[str, Any]:
    return keyed(f, "streams", "headroom", "ends", load="load.name", years_of_endurance="years") | {
        "filled_percent": level,
        "carried": f.carried if f.headroom is not None else None,
        "missing": f.missing or None,
    }


@dataclass(frozen=True)
class CarriersAnswer(Answer):
    """The drives that carry each workload."""

    schema: ClassVar[str] = "fits-of-drives"

    found: tuple[Fitted, ...]

    @property
    def status(self) -> int:
        """Return 1 if no drive carries any of the workloads."""
        return 0 if any(f.carried for x in self.found for f in x.empty) else 1

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        drives = [
            {"drive": x.drive.name, "fits": [_fit(f, None) for f in x.empty]} for x in self.found
        ]
        return {"drives": drives}

    def csv(self) -> Csv:
        """Return a row for each drive and workload."""
        return csv_of(
            [{"x": x, "f": f} for x in self.found for f in x.empty],
            load="f.load.name",
            drive="x.drive.name",
            carried="f.carried",
            streams="f.streams",
            headroom="f.headroom",
            ends="f.ends",
        )

    def tables(self) -> Sequence[Table]:
        """Return a table for each workload, the drive with the most headroom first."""
        return carriers_tables(self.found)


@dataclass(frozen=True)
class LoadsAnswer(Answer):
    """The workloads there are."""

    schema: ClassVar[str] = "loads"

    loads: tuple[Load, ...]

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        names = ("name", "title", "about", "read_bytes_s", "write_bytes_s", "random")
        more = ("block_bytes", "depth", "latency_ns", "hours_a_day", "formula")
        return {"loads": [keyed(x, *names, *more) for x in self.loads]}

    def csv(self) -> Csv:
        """Return a row for each workload."""
        header = ["name", "title", "needs", "how", "hours_a_day", "formula"]
        return Csv(header, self._rows())

    def tables(self) -> Sequence[Table]:
        """Return the workloads with their formulas."""
        header = ["name", "load", "one stream", "how", "hours a day", "formula"]
        return [Table("Loads", header, self._rows(), right=(4,), optional_columns=(4,))]

    def _rows(self) -> list[tuple[str, ...]]:
        rows: list[tuple[str, ...]] = []
        for x in self.loads:
            needs = [("reads", x.read_bytes_s), ("writes", x.write_bytes_s)]
            words = " and ".join(f"{word} {show_rate(r)}" for word, r in needs if r)
            how = f"{'random' if x.random else 'sequential'}, {spell_size(x.block_bytes)}"
            rows.append((x.name, x.title, words, how, f"{x.hours_a_day:g}", x.formula))
        return rows


@dataclass(frozen=True)
class ClassesAnswer(Answer):
    """The usual figures of each class of drive."""

    schema: ClassVar[str] = "classes"

    classes: tuple[DriveClass, ...]

    def data(self) -> dict[str, Any]:
        """Return the answer as documented."""
        return {
            "classes": [
                keyed(c, "name", "title", "about")
                | {"figures": [_usual(f) | keyed(f, "why", "source") for f in c.figures]}
                for c in self.classes
            ]
        }

    def csv(self) -> Csv:
        """Return a row for each class and step."""
        return csv_of(
            [{"name": c.name, "f": f} for c in self.classes for f in c.figures],
            **{"class": "name", "what": "f.what", "unit": "f.unit", "from": "f.low"},
            **{"usual": "f.usual", "to": "f.high", "why": "f.why", "source": "f.source"},
        )

    def tables(self) -> Sequence[Table]:
        """Return the classes with their usual figures."""
        return [classes_table(self.classes)]


def _usual(figure: Any) -> dict[str, Any]:
    return keyed(figure, "what", "unit", "usual", **{"from": "low", "to": "high"})


def fit(shelf: Shelf, drive: str, *loads: str) -> FitAnswer:
    """Return the workloads that a drive can sustain, with its headroom.

    All that ship with Jovik unless some are named. The name of a recorded program stands for what
    it takes on the drive.

    Raises
    ------
    UnknownNameError
        There is no such drive or load.

    Examples
    --------
    >>> [f.load.name for f in jovik.fit(shelf, "Veldhaar Comet 2TB", "telescope").empty]
    ['telescope']
    """
    programs = {name: p for name in loads if (p := program_called(name)) is not None}
    names = [name for name in loads if name not in programs]
    read = every_load(names) if names or not programs else []
    found = fitted(shelf, drive, read, tuple(programs.values()))
    return FitAnswer(found, asked=bool(names))


def carriers(shelf: Shelf, *loads: str) -> CarriersAnswer:
    """Return the drives of the shelf that carry each load.

    Raises
    ------
    UsageError
        Nothing was measured, or a name is a recorded program's.
    """
    program = next((name for name in loads if program_called(name) is not None), None)
    if program is not None:
        raise UsageError(
            f"'{program}' is a recorded program, which every drive carries in its own time",
            f"jovik rank --load {program} ranks the drives by it",
        )
    return CarriersAnswer(tuple(fitted_all(shelf, every_load(loads))))


def every_load(names: Sequence[str]) -> list[Load]:
    """Read the loads of these names, or all that ship with Jovik."""
    return [read_load(n) for n in names or load_names()]


def classes() -> ClassesAnswer:
    """Return the classes of drives, the slowest first."""
    classes = map(read_class, class_names())
    return ClassesAnswer(tuple(sorted(classes, key=lambda c: next(f.usual for f in c.figures))))
