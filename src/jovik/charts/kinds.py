"""Every kind of picture: its name, help, number of drives, options, and the builder of its chart.

The subcommands of `picture`, `jovik.draw` and the documentation read this table. A builder is named
by its place, so that a help text loads none: it takes the shelf, the names of the drives, and the
options, and returns a chart.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jovik.base.errors import UnknownNameError, UsageError
from jovik.charts.canvas import Canvas

if TYPE_CHECKING:
    from jovik.charts.chart import Chart
    from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class KindOption:
    """An option of a kind: its name for the builder and for the command, and its help.

    `of` is what it takes: ``drive``, ``run``, ``share``, ``text``, ``flag``, or a tuple of choices.
    """

    name: str
    help: str
    of: str | tuple[str, ...] = "text"
    default: str | None = None
    flag: str = ""
    metavar: str | None = None


@dataclass(frozen=True)
class ChartKind:
    """A kind of picture.

    `drives` are the names of its arguments, or None for one drive or several in one picture.
    """

    help: str
    builder: str
    drives: tuple[str, ...] | None = ("drive",)
    options: tuple[KindOption, ...] = ()


_RUN = KindOption("run", "The run. Default: the last one that has any.", "run", metavar="RUN")

KINDS = {
    "rank": ChartKind(
        "The ranking of all drives, overall and by step, with intervals.",
        "ranking:ranking_of_shelf",
        (),
        (
            KindOption(
                "highlight", "The drive in the strong colour. Default: the best placed.", "drive"
            ),
            KindOption(
                "yardstick",
                "The drive with an index of 100. Default: the one measured first.",
                "drive",
            ),
        ),
    ),
    "claims": ChartKind(
        "The measured percentage of each claim of DRIVE.",
        "claims:claims_of",
        options=(KindOption("margin", "How far below a claim still meets it.", "share", "5%"),),
    ),
    "long-write": ChartKind(
        "The long write of DRIVES, with the cliff, the steady parts and the temperature.",
        "long_write:long_write_of",
        None,
        (
            KindOption(
                "phrase", "Which long write, if there are several.", flag="--step", metavar="PHRASE"
            ),
            KindOption("axis", "The horizontal axis.", ("time", "bytes"), "time"),
        ),
    ),
    "ladder": ChartKind(
        "A ladder of DRIVES as a curve, with intervals and the knee.",
        "ladder:ladder_of",
        None,
        (
            KindOption(
                "axis",
                "The axis of the ladder.",
                ("depth", "block", "workers", "mix", "compressible", "span", "amount"),
                "depth",
            ),
            KindOption(
                "writes",
                "Ladders of writes or of reads, if there are both.",
                "flag",
                flag="--writes/--reads",
            ),
        ),
    ),
    "latency": ChartKind(
        "How long I/Os of DRIVES take, from half of them to one in a million.",
        "latency:latency_of",
        None,
        (
            KindOption(
                "phrase", "Which step.", default="random read 4KiB", flag="--step", metavar="PHRASE"
            ),
        ),
    ),
    "full": ChartKind(
        "Steps of DRIVE when it is empty and when it is nearly full.", "pairs:fullness_of"
    ),
    "surface": ChartKind(
        "Scans of DRIVES from the first to the last address. A single one has its access time.",
        "surface:surface_of",
        None,
    ),
    "temperature": ChartKind(
        "How warm DRIVE was over a run, step by step.",
        "temperature:temperature_of",
        options=(_RUN,),
    ),
    "instrument": ChartKind(
        "The log of an instrument beside a run of DRIVE, under the rate.",
        "instrument:instrument_of",
        options=(
            _RUN,
            KindOption("quantity", "The quantity, if there are several logs.", metavar="NAME"),
        ),
    ),
    "real-work": ChartKind(
        "Streams, copies and recorded programs of DRIVE as percentages of the advertised rate.",
        "real_work:real_work_of",
    ),
    "rounds": ChartKind(
        "The tracked figure of DRIVE until it was steady, round by round, with the window.",
        "steady_state:rounds_of_drive",
    ),
    "mixes": ChartKind(
        "Steady I/Os a second of DRIVE over mix and block.", "steady_state:mixes_of"
    ),
    "saturation": ChartKind(
        "DRIVES from new to used: a long random write, minute by minute.",
        "steady_state:saturation_of_drives",
        None,
    ),
    "demand": ChartKind(
        "From which load on DRIVE more requests only wait longer.", "steady_state:demand_of_drive"
    ),
    "upgrade": ChartKind("OLD against NEW, step by step.", "pairs:upgrade_of", ("old", "new")),
}
"""In the order of the overview."""


def chart_of(shelf: Shelf, kind: str, drives: Sequence[str], **options: Any) -> Chart:
    """Build a chart of a kind from the shelf.

    Parameters
    ----------
    **options
        Those of the kind, by their names.

    Raises
    ------
    UnknownNameError
        There is no such kind.
    UsageError
        The kind is of another number of drives, has no such option, or there is nothing to draw.
    """
    if kind not in KINDS:
        raise UnknownNameError("kind of picture", kind, KINDS)
    chosen = KINDS[kind]
    wanted = chosen.drives
    if (wanted is None and not drives) or (wanted is not None and len(drives) != len(wanted)):
        many = "one drive or several" if wanted is None else f"{len(wanted)} drives"
        raise UsageError(f"a picture '{kind}' is of {many}, not of {len(drives)}")
    names = [o.name for o in chosen.options]
    for name in options:
        if name not in names:
            raise UnknownNameError(f"option of a picture '{kind}'", name, names)
    module, _, builder = chosen.builder.partition(":")
    chart: Chart = getattr(import_module(f"jovik.charts.{module}"), builder)(
        shelf, drives, **options
    )
    return chart


def draw(
    shelf: Shelf,
    kind: str,
    drives: Sequence[str],
    out: Path,
    canvas: Canvas,
    *,
    force: bool = False,
    **options: Any,
) -> None:
    """Draw a picture of a kind to a file (`chart_of`, `jovik.charts.image.draw`)."""
    chart = chart_of(shelf, kind, drives, **options)
    # Matplotlib takes longer to load than most charts to draw.
    from jovik.charts import image

    image.draw(chart, out, canvas, force=force)
