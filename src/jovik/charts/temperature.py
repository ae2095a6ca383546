"""The temperature of a drive over a whole run, step by step."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.charts.chart import About, Line, LineChart, Panel, Point, View, between
from jovik.charts.provenance import provenance, truncate
from jovik.charts.run_time import bands_of, time_unit
from jovik.queries.runs import run_key
from jovik.queries.temperature import RunTemperatures, run_temperatures
from jovik.shelf.store import Shelf

LONGEST_LABEL = 44


def temperature_of(shelf: Shelf, drives: Sequence[str], *, run: str | None = None) -> LineChart:
    """Chart a run of the drive, its last with temperatures unless `run` names one."""
    key = run_key(shelf, run) if run is not None else None
    return temperature_chart(run_temperatures(shelf, drives[0], key))


def temperature_chart(found: RunTemperatures) -> LineChart:
    """Chart the warmest trusted sensor over time. Between passes there are no readings."""
    read = [(t, c, p) for p in found.passes for t, c in p.temperatures]
    at_s, most, where = max(read, key=lambda r: r[1])
    whole = max(p.end_s for p in found.passes)
    unit, word = time_unit(whole)
    points = tuple(Point(t / unit, c, f"{p.label}: {c:.0f} °C") for t, c, p in read)
    lowest = min(c for _, c, _ in read)
    y = between("°C", min(20.0, lowest - 5), max(most * 1.12, lowest + 20))
    x = between(f"{word} since the first pass began", 0.0, whole / unit)
    words = f"{most:.0f} °C: {truncate(where.label, LONGEST_LABEL)}"
    view = View(
        *("", x, (Panel(y, (Line("", points),)),)),
        bands=bands_of([(p.step, p.start_s, p.end_s) for p in found.passes], unit),
        notes=((at_s / unit, most, words),),
    )
    about = About(
        f"{found.drive}: temperature over a run",
        f"warmest trusted sensor: {read[0][1]:.0f} °C at first, {most:.0f} °C at most "
        f"(step {where.step})",
        f"run {found.run}; bands are steps; {provenance(found.results)}",
        f"The temperature over a run: {read[0][1]:.0f} °C at first, {most:.0f} °C at most",
    )
    return LineChart("Temperature over a run", (view,), about=about)
