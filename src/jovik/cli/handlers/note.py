"""Carry out `jovik note`."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from jovik.answers.notes import LogAnswer, NotedListAnswer, NotesAnswer
from jovik.base.errors import UsageError
from jovik.base.quantities import parse_time
from jovik.base.settings import where_from
from jovik.cli.echo import echo
from jovik.cli.output import show
from jovik.hardware.boot import last_boot
from jovik.queries.instrument import laid_beside, log_beside
from jovik.queries.readings import noted, noted_in_order, remove_noted
from jovik.queries.runs import run_key
from jovik.sheets.instrument_log import read_log
from jovik.sheets.reading import Note, Reading, parse_reading, parse_when, read_csv, table_form
from jovik.sheets.table_file import read_table
from jovik.shelf.corrections import noted_words
from jovik.shelf.store import Shelf


def note(
    drive: str,
    texts: tuple[str, ...],
    method: str,
    instrument: str,
    source: Path | None,
    log_file: Path | None,
    quantity: str | None,
    unit: str | None,
    shift: str | None,
    fit_clock: bool,
    boot: bool,
    pro: tuple[str, ...],
    con: tuple[str, ...],
    remark: tuple[str, ...],
    run_name: str | None,
    date: str | None,
    listing: bool,
    number: int | None,
    form: str,
    shelf_at: str | None,
) -> int:
    """Note readings, pros and cons of DRIVE. Without any, show its notes."""
    readings = [parse_reading(t, method, instrument) for t in texts]
    if source is not None:
        text = read_table(source)
        readings += read_csv(text, str(source))
        if reformatted := table_form(text):
            echo(f"{source}: {reformatted}", err=True)
    readings += _boot(method, instrument) if boot else []
    if log_file is not None:
        asked = LogRequest(run_name, quantity, unit, shift, method, instrument, fit_clock)
        return _log(drive, log_file, asked, form, shelf_at)
    remarks = [(sort, t) for sort, texts in _sorts(pro, con, remark) for t in texts if t.strip()]
    if (date or run_name) and not remarks:
        raise UsageError("--run and --date belong to a note", 'add --remark "..."')
    if number is not None and (remarks or readings or listing):
        raise UsageError("--remove takes no other option")
    happened = parse_when(date) if date is not None else None
    with Shelf(where_from(shelf_at)) as shelf:
        name = shelf.sheets.get(drive).drive.name
        key = run_key(shelf, run_name) if run_name is not None else None
        if key is not None and shelf.runs.get(key).drive != name:
            raise UsageError(f"run {key} is of {shelf.runs.get(key).drive}, not of {name}")
        if number is not None:
            echo(f"removed: {noted_words(remove_noted(shelf, name, number))}")
            return 0
        notes = [Note(sort, text, happened=happened, run=key) for sort, text in remarks]
        if notes or readings:
            shelf.additions.note(name, notes, readings)
        if listing:
            noted_list = NotedListAnswer(name, tuple(noted_in_order(shelf, name)))
            return show(noted_list, form)
        return show(NotesAnswer(noted(shelf, name)), form)


def _boot(method: str, instrument: str) -> list[Reading]:
    """Return the last boot of this machine as readings: all of it, and each part that is known."""
    boot_time = last_boot()
    how = method or boot_time.method
    parts = [("boot time", boot_time.total_s), *((f"boot, {n}", s) for n, s in boot_time.parts)]
    return [Reading(what, seconds, "s", how, instrument) for what, seconds in parts]


@dataclass(frozen=True)
class LogRequest:
    """Which run a log was taken beside, what it shows, and how it was taken."""

    run: str | None
    quantity: str | None
    unit: str | None
    shift: str | None
    method: str
    instrument: str
    fit_clock: bool = False


def _log(drive: str, file: Path, asked: LogRequest, form: str, shelf_at: str | None) -> int:
    """Lay a log beside a run, note its phases as readings, and show it."""
    quantity, unit = asked.quantity, asked.unit
    if asked.run is None or not quantity or not unit:
        raise UsageError(
            "--log needs --run, --quantity and --unit",
            "such as --run last --quantity 'noise level' --unit 'dB(A)'",
        )
    log = read_log(read_table(file), str(file))
    with Shelf(where_from(shelf_at)) as shelf:
        name = shelf.sheets.get(drive).drive.name
        key = run_key(shelf, asked.run)
        if shelf.runs.get(key).drive != name:
            raise UsageError(f"run {key} is of {shelf.runs.get(key).drive}, not of {name}")
        if asked.fit_clock and asked.shift is not None:
            raise UsageError("--fit-clock finds the shift itself", "omit --shift")
        shift_s = _shift_s(asked.shift)
        laid = laid_beside(shelf, key, log, quantity, unit, shift_s, fit_clock=asked.fit_clock)
        laid = replace(laid, method=asked.method, instrument=asked.instrument)
        beside = log_beside(shelf, laid)
        # Logs that say how they were taken can be compared with those of other drives.
        method = asked.method or f"logged beside run {key}"
        readings = [
            Reading(f"{quantity}, {f.name}", f.mean.median, unit, method, asked.instrument)
            for f in beside.phases
        ]
        if shelf.additions.log(name, laid, readings):
            echo(f"this takes the place of the log of {quantity} beside that run", err=True)
    return show(LogAnswer(beside), form)


def _shift_s(text: str | None) -> float:
    if text is None:
        return 0.0
    sign = -1 if text.startswith("-") else 1
    try:
        return sign * parse_time(text.lstrip("+-")) / 1e9
    except ValueError as error:
        raise UsageError(f"--shift: {error}", "write 2.5s or -1h") from None


def _sorts(
    pro: tuple[str, ...], con: tuple[str, ...], remark: tuple[str, ...]
) -> list[tuple[str, tuple[str, ...]]]:
    return [("pro", pro), ("con", con), ("remark", remark)]
