"""The pictures of a review as files, for a medium that cannot draw a chart by itself."""

from __future__ import annotations

import io
import multiprocessing
import os
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from jovik.base.atomic_files import MADE_WITH_JOVIK
from jovik.charts.canvas import THEMES, Canvas, Theme
from jovik.charts.chart import Chart
from jovik.report.document import Block, Document, Picture

PALETTE = 128
"""Colours of a picture: its own few, and the shades between them at every edge."""


def render_pictures(document: Document) -> Document:
    """Return the document with its pictures rendered, light and dark, by one process per core."""
    jobs = [(p.chart, look) for p in document.pictures for look in THEMES.values()]
    if not jobs:
        return document
    cores = min(len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1, len(jobs))
    if cores > 1 and "fork" in multiprocessing.get_all_start_methods():
        # A fork inherits what is to be drawn. Matplotlib is loaded once here instead of in each.
        from jovik.charts import image  # noqa: F401

        _jobs[:] = jobs
        with multiprocessing.get_context("fork").Pool(cores) as pool:
            painted = iter(pool.map(_paint_job, range(len(jobs)), chunksize=1))
        _jobs.clear()
    else:
        painted = iter([_paint(*job) for job in jobs])
    sections = tuple(
        replace(s, blocks=tuple(_rendered(b, painted) for b in s.blocks)) for s in document.sections
    )
    return replace(document, sections=sections)


def _rendered(block: Block, painted: Iterator[bytes]) -> Block:
    if not isinstance(block, Picture):
        return block
    return replace(block, light=next(painted), dark=next(painted))


_jobs: list[tuple[Chart, Theme]] = []


def _paint_job(number: int) -> bytes:
    return _paint(*_jobs[number])


def _paint(chart: Chart, look: Theme) -> bytes:
    """Return the PNG bytes of a picture, with a palette.

    Lines on paper need no more colours, and a third of the bytes.
    """
    from PIL import Image, PngImagePlugin

    from jovik.charts import image

    canvas = Canvas(theme=look)
    with tempfile.TemporaryDirectory(prefix="jovik-") as scratch:
        out = Path(scratch) / "picture.rgba"
        image.draw(chart, out, canvas)
        size = (canvas.width, canvas.height)
        drawn = Image.frombytes("RGBA", size, out.read_bytes()).convert("RGB")
    small, about = io.BytesIO(), PngImagePlugin.PngInfo()
    about.add_text("Software", MADE_WITH_JOVIK.decode())
    drawn.quantize(PALETTE, dither=Image.Dither.NONE).save(small, "PNG", pnginfo=about)
    return small.getvalue()
