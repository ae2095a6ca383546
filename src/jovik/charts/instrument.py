"""The log of an instrument under the rate of its run, over the same time axis."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jovik.base.errors import UsageError
from jovik.base.quantities import show_rate, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.trace import SLICE_NS
from jovik.charts.chart import About, Line, LineChart, Panel, Point, View, between, from_zero
from jovik.charts.provenance import provenance
from jovik.charts.run_time import bands_of, time_unit
from jovik.queries.instrument import LogBeside, logs_beside
from jovik.queries.runs import run_key
from jovik.shelf.store import Shelf
from jovik.tables.instrument import logged_sentences
from jovik.tables.table import figure_words

MOST_PHASES = 4
POINTS, MOST_READINGS = 600, 800


def instrument_of(
    shelf: Shelf, drives: Sequence[str], *, run: str | None = None, quantity: str | None = None
) -> LineChart:
    """Chart the newest log beside a run of the drive, or the one that `run` and `quantity` name.

    Raises
    ------
    UsageError
        There is no such log. The hint lists the quantities that were logged.
    """
    name = shelf.sheets.get(drives[0]).drive.name
    key = run_key(shelf, run) if run is not None else None
    beside = logs_beside(shelf, name, key)
    quantities = ", ".join(sorted({x.log.quantity for x in beside}))
    if quantity is not None:
        beside = [x for x in beside if x.log.quantity.casefold() == quantity.casefold()]
    if not beside:
        raise UsageError(
            f"no log of {quantity or 'any kind'} beside a run of {name}",
            f"there is: {quantities}"
            if quantities
            else f'add one: jovik note "{name}" --log FILE --run last --quantity ... --unit ...',
        )
    footer = provenance(shelf.results.of_run(beside[-1].log.run))
    return instrument_chart(beside[-1], name, footer)


def instrument_chart(laid: LogBeside, drive: str, footer: str) -> LineChart:
    """Chart the rate of each pass, and the log of the instrument below it."""
    log, passes = laid.log, laid.passes
    whole = max(p.end_s for p in passes)
    first, last = min(log.seconds[0], 0.0), max(log.seconds[-1], whole)
    unit, word = time_unit(last - first)
    rates = []
    for p in passes:
        moved = (p.trace.slices[:, 0] + p.trace.slices[:, 2]).astype(float)
        each = min(max(-(-len(moved) * len(passes) // POINTS), 1), max(len(moved), 1))
        sums = moved[: len(moved) // each * each].reshape(-1, each).sum(axis=1)
        width = each * SLICE_NS / 1e9
        for n, total in enumerate(sums):
            at, rate = (p.start_s + (n + 0.5) * width) / unit, float(total) / width
            rates.append(Point(at, rate * per_unit(), f"{p.label}: {show_rate(rate)}"))
    every = max(1, len(log.seconds) // MOST_READINGS)
    shown = tuple(
        Point(s / unit, v, f"{s:.1f} s: {significant(v)} {log.unit}")
        for s, v in list(zip(log.seconds, log.readings, strict=True))[::every]
    )
    low, high = min(log.readings), max(log.readings)
    room = max(high - low, abs(high) * 0.05) * 0.12
    y = between(
        f"{log.quantity}, {log.unit}", max(low - room, 0.0) if low >= 0 else low, high + 2 * room
    )
    top = from_zero(rate_unit(), [p.y for p in rates])
    logged = (Line(log.quantity, shown), *_means(laid, unit))
    panels = (Panel(top, (Line("rate", tuple(rates)),)), Panel(y, logged))
    x = between(f"{word} since the first pass began", first / unit, last / unit)
    at = int(np.argmax(log.readings))
    most = f"most: {significant(log.readings[at])} {log.unit}"
    means = [f"{f.name} {figure_words(f.mean)}" for f in laid.phases[:MOST_PHASES]]
    (description,) = logged_sentences([laid])
    about = About(
        f"{drive}: {log.quantity} during a run",
        f"{log.unit}: {'; '.join([*means, most])}",
        f"run {log.run}; bands are steps, by number; {footer}",
        f"Under the rate, {description}",
    )
    view = View("", x, panels, bands=bands_of([(p.step, p.start_s, p.end_s) for p in passes], unit))
    return LineChart(f"{log.quantity} under the rate", (view,), zooms=True, about=about)


def _means(laid: LogBeside, unit: float) -> list[Line]:
    """Return the mean of each phase over each of its stretches."""
    means = {f.name: f.mean for f in laid.phases}
    return [
        Line(
            "mean of the phase",
            tuple(
                Point(at / unit, mean.median, f"{s.name}: {figure_words(mean)} {laid.log.unit}")
                for at in (s.start_s, s.end_s)
            ),
            marked=False,
        )
        for s in laid.stretches
        if (mean := means.get(s.name)) is not None
    ]
