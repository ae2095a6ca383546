"""The content of a shelf as pandas frames, with a row for each drive, claim, run, result or pass.

Columns say their unit (``rate_bytes_s``, ``elapsed_ns``); times are UTC; what is not known is
missing.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.comparability import rate_of
from jovik.analysis.statistics import interval
from jovik.analysis.step_result import StepResult
from jovik.base.errors import MissingPackageError, UsageError
from jovik.base.installation import to_add
from jovik.base.trace import SLICE_COLUMNS
from jovik.queries.evidence import evidence
from jovik.queries.series import series_of

if TYPE_CHECKING:
    import pandas as pd

    from jovik.shelf.store import Shelf

TIME_COLUMNS = ("started", "ended", "finished", "time")


def drives(shelf: Shelf) -> pd.DataFrame:
    """Return every drive as its sheet has it, in the order they were enrolled."""
    return _frame(
        [asdict(d) for d in shelf.sheets.drives().values()],
        ["name", "maker", "capacity_bytes", "price"],
    )


def claims(shelf: Shelf) -> pd.DataFrame:
    """Return every claim of every drive. `figure` is in `unit` (bytes/s, IOPS or ns)."""
    rows = [
        {"drive": name, "what": c.what, **asdict(c)}
        for name in shelf.sheets.names()
        for c in shelf.sheets.get(name).claims
    ]
    return _frame(rows, ["drive", "what", "figure", "unit"])


def runs(shelf: Shelf, drive: str | None = None) -> pd.DataFrame:
    """Return every run of a drive, or of all, oldest first.

    Raises
    ------
    UnknownNameError
        No drive is called that.
    """
    columns = (
        "id",
        "drive",
        "rig",
        "plan",
        "state",
        "started",
        "ended",
        "seed",
        "laid_out_bytes",
        "version",
        "imported",
    )
    rows = [
        {
            **{f: getattr(r, f) for f in columns},
            "target": r.target.get("path") or f"model:{r.target.get('name')}",
        }
        for r in shelf.runs.every(_named(shelf, drive))
    ]
    return _frame(rows, [*columns, "target"])


def results(shelf: Shelf, drive: str | None = None, *, newest: bool = False) -> pd.DataFrame:
    """Return every result of a drive, or of all.

    A step of a run, with its 95 % interval, its conditions, and its limits.

    Parameters
    ----------
    newest : bool
        Only the newest of each kind of step, as a ranking compares them.

    Raises
    ------
    UnknownNameError
        No drive is called that.
    """
    name = _named(shelf, drive)
    if newest:
        results = evidence(shelf, name, with_latencies=True).results
    else:
        results = shelf.results.every(name, with_latencies=True)
    return _frame(
        [_result_row(r) for r in results],
        [
            "drive",
            "run",
            "started",
            "kind",
            "phrase",
            "passes",
            "rate_bytes_s",
            "rate_low",
            "rate_high",
        ],
    )


def passes(shelf: Shelf, drive: str | None = None, *, run: str | None = None) -> pd.DataFrame:
    """Return every pass of a drive, of a run, or of all: the figures that intervals are made of.

    Raises
    ------
    UnknownNameError
        No drive or no run is called that.
    """
    if run is not None:
        shelf.runs.get(run)
    rows = shelf.results.passes(_named(shelf, drive), run)
    return _frame(
        rows,
        [
            "drive",
            "run",
            "position",
            "phrase",
            "kind",
            "number",
            "finished",
            "seed",
            "rate_bytes_s",
        ],
    )


def slices(shelf: Shelf, run: str, phrase: str | None = None) -> pd.DataFrame:
    """Return the series of a run.

    For each pass of each step (or of one) a row for every tenth of a second.

    `position` and `number` are those of `passes`; the other columns are those of
    `jovik.queries.series.Slice`.

    Raises
    ------
    UnknownNameError
        There is no such run.
    UsageError
        The run has no step of that phrase.
    """
    from jovik.steps import parse

    record = shelf.runs.get(run)
    wanted = parse(phrase).canonical if phrase is not None else None
    phrases = {p["position"]: p["phrase"] for p in shelf.results.passes(key=record.id)}
    if wanted is not None and wanted not in phrases.values():
        raise UsageError(
            f"run {run} has no step '{wanted}'",
            f"it has: {'; '.join(dict.fromkeys(phrases.values()))}",
        )
    rows = [
        {"position": s.step - 1, **{k: v for k, v in asdict(s).items() if k != "step"}}
        for s in series_of(shelf, record.id)
        if wanted in (None, s.phrase)
    ]
    return _frame(rows, ["position", "phrase", "number", "second", *SLICE_COLUMNS])


def _result_row(r: StepResult) -> dict[str, Any]:
    rate, flushed, ios = (
        rate_of(r),
        interval([p.flushed_rate_bytes_s for p in r.passes]),
        r.iops,
    )
    latency = all_latencies_ns(r) or {}
    return {
        "drive": r.drive,
        "run": r.run,
        "started": r.started,
        "kind": r.kind,
        "phrase": r.phrase,
        "passes": len(r.passes),
        "errors": r.errors,
        "rate_bytes_s": rate.median,
        "rate_low": rate.low,
        "rate_high": rate.high,
        "flushed_rate_bytes_s": flushed.median,
        "iops": ios.median,
        "iops_low": ios.low,
        "iops_high": ios.high,
        **{f"latency_{k}_ns": latency.get(k) for k in ("mean", "p50", "p99", "p99_9", "max")},
        **asdict(r.conditions),
        "unit": r.conditions.sample,
        "limited_by": ", ".join(x.what for x in r.limits),
        "notes": "; ".join(r.notes),
    }


def _named(shelf: Shelf, drive: str | None) -> str | None:
    """Return the drive's name as its sheet has it."""
    return shelf.sheets.get(drive).drive.name if drive is not None else None


def _frame(rows: list[dict[str, Any]], columns: list[str]) -> pd.DataFrame:
    """Return rows as a frame that has these columns even if there are no rows."""
    try:
        import pandas as pd
    except ImportError:
        raise MissingPackageError("a frame needs the package pandas", to_add("pandas")) from None

    frame = pd.DataFrame(rows) if rows else pd.DataFrame(columns=columns)
    for name in TIME_COLUMNS:
        if name in frame:
            frame[name] = pd.to_datetime(frame[name], utc=True, format="ISO8601")
    return frame
