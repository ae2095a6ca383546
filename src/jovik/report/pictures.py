"""The pictures of a review, each with the words for who does not see it."""

from __future__ import annotations

import io
import multiprocessing
import os
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.fullness import FillComparison
from jovik.analysis.ranking import Ranking
from jovik.analysis.sweep import Sweep
from jovik.base.atomic_files import MADE
from jovik.base.quantities import show_rate, show_size, show_time_or_dash, significant
from jovik.base.step_result import StepResult
from jovik.base.trace import Trace
from jovik.charts.style import THEMES, Theme
from jovik.queries.claims import Judged
from jovik.queries.instrument import LogBeside
from jovik.queries.real_work import RealWork
from jovik.queries.upgrade import Upgraded
from jovik.report import page_charts
from jovik.report.chart_data import Chart
from jovik.report.document import Block, Document, Picture
from jovik.steps import parse
from jovik.tables.claims import claims_summary
from jovik.tables.instrument import logged_sentences
from jovik.tables.real_work import real_work_alt

SIZE = (1280, 800)
PALETTE = 128
"""Colours of a picture: its own few, and the shades between them at every edge."""


def picture(
    name: str,
    alt: str,
    draw: Callable[..., None],
    *what: Any,
    chart: Chart | None = None,
    **how: Any,
) -> Picture:
    """A picture to be painted.

    Parameters
    ----------
    chart : Chart, optional
        The same as data, which a page of HTML draws by itself.
    draw : callable
        Of `jovik.charts`: it takes `what`, a path, and `how` with a size and a look.
    """

    def paint(out: Path, look: Theme) -> None:
        draw(*what, out, size=SIZE, look=look, **how)

    return Picture(name, alt, SIZE, paint, chart=chart)


def render_pictures(document: Document, *, charts: bool = True) -> Document:
    """The document with its pictures rendered, light and dark, by one process a core.

    Parameters
    ----------
    charts : bool
        Whether those are rendered too that a page draws by itself.
    """
    wanted = [p for p in document.pictures if charts or p.chart is None]
    jobs = [(p.draw, look) for p in wanted for look in THEMES.values()]
    if not jobs:
        return document
    cores = min(len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1, len(jobs))
    if cores > 1 and "fork" in multiprocessing.get_all_start_methods():
        # What is to be drawn is inherited by a fork; it need not be, and could not be, sent.
        _jobs[:] = jobs
        # Loaded once here instead of once in each of them.
        import matplotlib.figure  # noqa: F401

        with multiprocessing.get_context("fork").Pool(cores) as pool:
            bytes_of = iter(pool.map(_paint_job, range(len(jobs)), chunksize=1))
        _jobs.clear()
    else:
        bytes_of = map(_paint, jobs)

    def finished(block: Block) -> Block:
        return (
            replace(block, light=next(bytes_of), dark=next(bytes_of))
            if isinstance(block, Picture) and (charts or block.chart is None)
            else block
        )

    return replace(
        document,
        sections=tuple(
            replace(s, blocks=tuple(finished(b) for b in s.blocks)) for s in document.sections
        ),
    )


_jobs: list[tuple[Callable[..., None], Theme]] = []


def _paint_job(number: int) -> bytes:
    return _paint(_jobs[number])


def _paint(job: tuple[Callable[..., None], Theme]) -> bytes:
    """PNG bytes of one picture, with a palette.

    Lines on paper need no more colours, and a third of the bytes.
    """
    from PIL import Image, PngImagePlugin

    draw, look = job
    with tempfile.TemporaryDirectory(prefix="jovik-") as scratch:
        out = Path(scratch) / "picture.rgba"
        draw(out, look)
        small = io.BytesIO()
        image = Image.frombytes("RGBA", SIZE, out.read_bytes()).convert("RGB")
        about = PngImagePlugin.PngInfo()
        about.add_text("Software", MADE.decode())
        image.quantize(PALETTE, dither=Image.Dither.NONE).save(small, "PNG", pnginfo=about)
        return small.getvalue()


def claims_picture(found: Judged) -> Picture:
    """Claims against measured."""
    from jovik.charts.claims import draw_claims

    each = ", ".join(
        f"{j.claim.label} {100 * j.share.median:.0f} %"
        for j in found.judgements
        if j.share is not None
    )
    alt = (
        "Bars of what was measured as a share of each claim. "
        f"{claims_summary(found.judgements)}. {each}"
    )
    return picture(
        "claims",
        alt,
        draw_claims,
        found.sheet.drive.name,
        found.judgements,
        found.margin,
        chart=page_charts.claims_chart(found.judgements, found.margin),
    )


def ranking_picture(ranking: Ranking, drive: str | None = None) -> Picture:
    """The ranking, with this drive in the strong colour."""
    from jovik.charts.ranking import draw_ranking

    first = [
        f"{d.drive} {significant(d.index.median)} (place {d.place})"
        for d in ranking.drives
        if d.index is not None
    ][:10]
    return picture(
        "ranking",
        f"Bars of the index of every drive: {', '.join(first)}",
        draw_ranking,
        ranking,
        highlight=drive,
        chart=page_charts.ranking_chart(ranking, drive),
    )


def ladder_picture(number: int, curve: Sweep) -> Picture:
    """A ladder as a curve."""
    from jovik.charts.sweep import draw_ladder

    return picture(
        f"ladder-{number}",
        f"A curve of {curve.label}: {curve.words()}",
        draw_ladder,
        [curve],
        chart=page_charts.ladder_chart(curve),
    )


def latency_picture(results: Sequence[StepResult]) -> Picture:
    """Distributions of latencies over each other."""
    from jovik.charts.latency import draw_latency

    said = []
    for r in results:
        short = all_latencies_ns(r)
        if short is not None:
            said.append(
                f"{parse(r.kind).label}: p50 {show_time_or_dash(short['p50'])}, p99 "
                f"{show_time_or_dash(short['p99'])}"
            )
    return picture(
        "latency",
        f"Curves of how long I/Os take. {'; '.join(said)}",
        draw_latency,
        results,
        chart=page_charts.latency_chart(results),
    )


def long_write_picture(number: int, result: StepResult, trace: Trace) -> Picture:
    """A long write, over time and over bytes."""
    from jovik.charts.long_write import draw_long_write

    found = result.findings.long_write
    cliff = found.cliff if found is not None else None
    fall = (
        f"it falls after {show_size(cliff.at_bytes)} from "
        f"{show_rate(cliff.before_bytes_s)} to {show_rate(cliff.after_bytes_s)}"
        if cliff is not None
        else "it does not fall"
    )
    return picture(
        f"long-write-{number}",
        f"The rate of {parse(result.kind).label}: {fall}",
        draw_long_write,
        [(result, trace)],
        chart=page_charts.long_write_chart(result, trace),
    )


def surface_picture(number: int, result: StepResult, trace: Trace) -> Picture:
    """A scan from the first to the last address."""
    from jovik.charts.scan import draw_surface

    found = result.findings.scan
    ends = (
        f"{show_rate(found.first_bytes_s)} at the first address"
        if found is not None and found.first_bytes_s
        else "rates"
    )
    return picture(
        f"surface-{number}",
        f"Rate and access times of {parse(result.kind).label}, {ends}",
        draw_surface,
        result,
        trace,
        chart=page_charts.surface_chart(result, trace),
    )


def instrument_picture(
    number: int, laid: LogBeside, drive: str, results: Sequence[StepResult]
) -> Picture:
    """What an instrument logged beside a run, under the rate."""
    from jovik.charts.instrument import draw_log

    (said,) = logged_sentences([laid])
    name = f"instrument-{number + 1}"
    alt, chart = f"Under the rate, {said}", page_charts.instrument_chart(laid)
    return picture(name, alt, draw_log, laid, drive, results, chart=chart)


def real_work_picture(found: RealWork) -> Picture:
    """Streams, copies and programs against the box."""
    from jovik.charts.real_work import draw_real_work

    chart = page_charts.real_work_chart(found)
    return picture("real-work", real_work_alt(found), draw_real_work, found, chart=chart)


def fullness_picture(pairs: Sequence[FillComparison]) -> Picture:
    """Empty against full."""
    from jovik.charts.paired_bars import draw_fullness

    each = ", ".join(f"{parse(p.kind).label} {100 * p.share.median:.0f} %" for p in pairs)
    return picture(
        "full",
        f"Paired bars of each step empty and filled to {pairs[0].filled_percent} %; of "
        f"empty: {each}",
        draw_fullness,
        pairs,
        chart=page_charts.fullness_chart(pairs),
    )


def upgrade_picture(number: int, found: Upgraded) -> Picture:
    """Old against new."""
    from jovik.charts.paired_bars import draw_upgrade

    kinds = {s.kind for s in found.upgrade.steps}
    each = ", ".join(
        f"{parse(s.kind).label} {significant(s.times.median)} times" for s in found.upgrade.steps
    )
    alt = f"Paired bars of {found.old.name} and {found.new.name}: {each}"
    return picture(
        f"against-{number}",
        alt,
        draw_upgrade,
        found.upgrade,
        [r for r in found.results if r.kind in kinds],
        chart=page_charts.upgrade_chart(found.upgrade),
    )
