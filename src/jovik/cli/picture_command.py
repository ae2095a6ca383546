"""`jovik picture`: what the shelf holds, drawn."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from jovik.cli.completing import drives
from jovik.cli.options import Converted, F, percent, shelf_option
from jovik.cli.say import say

if TYPE_CHECKING:
    from jovik.figures.canvas import Look
    from jovik.results import StepResult
    from jovik.shelf.store import Shelf


def pixels(text: str) -> tuple[int, int]:
    """``1280x800`` as (1280, 800)."""
    width, _, height = text.partition("x")
    try:
        size = int(width), int(height)
    except ValueError:
        size = 0, 0
    if not all(320 <= n <= 10_000 for n in size):
        raise ValueError(f"'{text}' is not a size; write 1280x800 (320 to 10000 each)")
    return size


def _common(command: F) -> F:
    """What every picture takes."""
    for option in (
        shelf_option,
        click.option("--theme", type=click.Choice(["light", "dark"]), default="light", show_default=True, help="Paper or night."),
        click.option("--size", type=Converted("WxH", pixels), default="1280x800", show_default=True, help="In pixels."),
        click.option(
            "--out", required=True, type=click.Path(dir_okay=False, path_type=Path), help="The file; its ending (png, svg, pdf) says the form."
        ),
    ):
        command = option(command)
    return command


def _look(out: Path, theme: str) -> Look:
    """The colours of a theme; the file is checked before anything is drawn."""
    from jovik.figures.canvas import LOOKS, check_out

    check_out(out)
    return LOOKS[theme]


def _shelf(shelf_at: str | None) -> Shelf:
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    return Shelf(where_from(shelf_at))


def _of(shelf: Shelf, drives: Sequence[str], fits: Callable[[StepResult], bool], what: str, phrase: str, **options: Any) -> list[list[StepResult]]:
    """Of each drive the results that a picture is of.

    Raises
    ------
    Misuse
        Too many drives, or one has none: with the phrase that would give one.
    """
    from jovik.errors import Misuse
    from jovik.figures.canvas import MOST_DRIVES

    if len(drives) > MOST_DRIVES:
        raise Misuse(f"{len(drives)} drives cannot be told apart in one picture", f"name {MOST_DRIVES} at most")
    found = []
    for drive in drives:
        name = shelf.sheet(drive).drive.name
        mine = [r for r in shelf.latest_results(name, ladders=True, **options) if fits(r)]
        if not mine:
            raise Misuse(f"{name} has no {what}", f'measure one: jovik measure TARGET --drive "{name}" "{phrase}"')
        found.append(mine)
    return found


def _same_kind(found: Sequence[Sequence[StepResult]], wanted: str | None, what: str) -> list[StepResult]:
    """One result of each drive, all of one kind: the one that is wanted, or the first that all have.

    Raises
    ------
    Misuse
        There is none.
    """
    from jovik.errors import Misuse
    from jovik.phrase import parse

    kinds = [r.kind for r in found[0] if all(any(o.kind == r.kind for o in other) for other in found)]
    kind = parse(wanted).kind if wanted is not None else (kinds[0] if kinds else None)
    if kind is None or kind not in kinds:
        has = sorted({r.kind for mine in found for r in mine})
        raise Misuse(f"there is no {what} that {'this drive has' if len(found) == 1 else 'all of these drives have'} with that phrase",
                     f"there is: {'; '.join(has[:5])}")  # fmt: skip
    return [next(r for r in mine if r.kind == kind) for mine in found]


@click.group()
def picture() -> None:
    """Draw what the shelf holds.

    \b
    jovik picture rank --out ranking.png
    jovik picture long-write "Comet 2TB" "Drift 1TB" --out cliff.svg --theme dark
    """


@picture.command()
@click.option("--highlight", metavar="DRIVE", shell_complete=drives, help="The drive in the strong colour. Default: the best placed.")
@click.option("--yardstick", metavar="DRIVE", shell_complete=drives, help="The drive the index calls 100. Default: the one measured first.")
@_common
def rank(out: Path, size: tuple[int, int], theme: str, highlight: str | None, yardstick: str | None, shelf_at: str | None) -> None:
    """The ranking of all drives, overall and by step, with intervals."""
    from jovik.answers.ranked import ranked
    from jovik.figures.ranking import draw_ranking

    look = _look(out, theme)
    with _shelf(shelf_at) as shelf:
        shown = shelf.sheet(highlight).drive.name if highlight is not None else None
        found = ranked(shelf, yardstick=yardstick)
    draw_ranking(found.ranking, out, highlight=shown, size=size, look=look)
    say(f"drew {out}")


@picture.command()
@click.argument("drive", shell_complete=drives)
@click.option("--margin", type=Converted("SHARE", percent), default="5%", show_default=True, help="How far below a claim still meets it.")
@_common
def claims(drive: str, margin: float, out: Path, size: tuple[int, int], theme: str, shelf_at: str | None) -> None:
    """What was measured of each claim of DRIVE."""
    from jovik.analysis.judge import judge
    from jovik.errors import Misuse
    from jovik.figures.claims import draw_claims

    look = _look(out, theme)
    with _shelf(shelf_at) as shelf:
        sheet = shelf.sheet(drive)
        results = shelf.latest_results(drive, ladders=True)
    if not sheet.claims:
        raise Misuse(f"the sheet of {sheet.drive.name} has no claims", f'add one: jovik sheet claim "{sheet.drive.name}" "sequential read" 7000MB/s')
    draw_claims(sheet.drive.name, judge(sheet.claims, results, margin), margin, out, size=size, look=look)
    say(f"drew {out}")


@picture.command("long-write")
@click.argument("drives", shell_complete=drives, nargs=-1, required=True)
@click.option("--step", "phrase", metavar="PHRASE", help="Which long write, where there are several.")
@click.option("--over", type=click.Choice(["time", "bytes"]), default="time", show_default=True, help="What the rate is drawn over.")
@_common
def long_write(
    drives: tuple[str, ...], phrase: str | None, over: str, out: Path, size: tuple[int, int], theme: str, shelf_at: str | None
) -> None:  # fmt: skip
    """The long write of DRIVES, with the cliff, the steady parts and the temperature."""
    from jovik.figures.longwrite import draw_long_write

    look = _look(out, theme)
    with _shelf(shelf_at) as shelf:
        found = _of(shelf, drives, lambda r: "long_write" in r.facts, "long write", "sequential write 1MiB depth 8 over 30% of free")
        chosen = _same_kind(found, phrase, "long write")
        shown = [(r, shelf.traces(r.run, r.phrase)[0]) for r in chosen]
    draw_long_write(shown, out, over=over, size=size, look=look)
    say(f"drew {out}")


AXES = {"depth": "depth", "block": "block_bytes", "workers": "workers", "mix": "read_percent", "compressible": "compressible_percent"}


@picture.command()
@click.argument("drives", shell_complete=drives, nargs=-1, required=True)
@click.option("--axis", type=click.Choice(list(AXES)), default="depth", show_default=True, help="What the ladder walks.")
@click.option("--writes/--reads", default=False, help="Ladders of writes or of reads, where there are both.")
@_common
def ladder(
    drives: tuple[str, ...], axis: str, writes: bool, out: Path, size: tuple[int, int], theme: str, shelf_at: str | None
) -> None:  # fmt: skip
    """A ladder of DRIVES as a curve, with intervals and the knee."""
    from jovik.analysis.ladder import Curve
    from jovik.answers.series import ladders_of
    from jovik.errors import Misuse
    from jovik.figures.ladder import draw_ladder

    look = _look(out, theme)
    wanted = AXES[axis]
    example = {"depth": "depth 1..64", "block": "depth 4", "workers": "workers 1..8", "mix": "depth 16", "compressible": "depth 8"}[axis]
    chosen: list[Curve] = []
    with _shelf(shelf_at) as shelf:
        for mine in _of(shelf, drives, lambda r: True, "results", f"random read 4KiB {example} for 2s"):
            fitting = [c for c in ladders_of(shelf, mine) if c.axis == wanted]
            by_direction = [c for c in fitting if axis in ("mix", "compressible") or c.step.writes == writes]
            same = [c for c in by_direction if not chosen or c.label == chosen[0].label]
            if not same:
                raise Misuse(f"{mine[0].drive} has no such ladder over {axis}", "see jovik plan show full-review for phrases that make one")
            chosen.append(same[0])
    draw_ladder(chosen, out, size=size, look=look)
    say(f"drew {out}")


@picture.command()
@click.argument("drives", shell_complete=drives, nargs=-1, required=True)
@click.option("--step", "phrase", metavar="PHRASE", default="random read 4KiB", show_default=True, help="Whose latencies.")
@_common
def latency(drives: tuple[str, ...], phrase: str, out: Path, size: tuple[int, int], theme: str, shelf_at: str | None) -> None:
    """How long I/Os of DRIVES take, from half of them to one in a million."""
    from jovik.figures.latency import draw_latency

    look = _look(out, theme)
    with _shelf(shelf_at) as shelf:
        found = _of(shelf, drives, lambda r: bool(r.latencies), "latencies", phrase, with_latencies=True)
        chosen = _same_kind(found, phrase, "step")
    draw_latency(chosen, out, size=size, look=look)
    say(f"drew {out}")


@picture.command()
@click.argument("drive", shell_complete=drives)
@_common
def full(drive: str, out: Path, size: tuple[int, int], theme: str, shelf_at: str | None) -> None:
    """Steps of DRIVE on the empty drive against the same nearly full."""
    from jovik.analysis.fullness import empty_against_full
    from jovik.errors import Misuse
    from jovik.figures.pairs import draw_fullness

    look = _look(out, theme)
    with _shelf(shelf_at) as shelf:
        name = shelf.sheet(drive).drive.name
        pairs = empty_against_full(shelf.latest_results(name, filled=True))
    if not pairs:
        raise Misuse(f"{name} was not measured both empty and full", f'jovik measure TARGET --drive "{name}" --plan full-review')
    draw_fullness(pairs, out, size=size, look=look)
    say(f"drew {out}")


@picture.command()
@click.argument("drive", shell_complete=drives)
@_common
def surface(drive: str, out: Path, size: tuple[int, int], theme: str, shelf_at: str | None) -> None:
    """A scan of DRIVE from the first to the last address."""
    from jovik.figures.surface import draw_surface

    look = _look(out, theme)
    with _shelf(shelf_at) as shelf:
        result = _of(shelf, [drive], lambda r: "surface" in r.facts, "scan", "scan read in 200 zones")[0][0]
        trace = shelf.traces(result.run, result.phrase)[0]
    draw_surface(result, trace, out, size=size, look=look)
    say(f"drew {out}")


@picture.command()
@click.argument("old", shell_complete=drives)
@click.argument("new", shell_complete=drives)
@_common
def upgrade(old: str, new: str, out: Path, size: tuple[int, int], theme: str, shelf_at: str | None) -> None:
    """OLD against NEW, step by step."""
    from jovik.answers.upgraded import upgraded
    from jovik.errors import Misuse
    from jovik.figures.pairs import draw_upgrade

    look = _look(out, theme)
    with _shelf(shelf_at) as shelf:
        found = upgraded(shelf, old, new)
    kinds = {s.kind for s in found.upgrade.steps}
    if not kinds:
        raise Misuse(f"{found.old.name} and {found.new.name} have no step in common", "measure both with the same plan")
    draw_upgrade(found.upgrade, [r for r in found.results if r.kind in kinds], out, size=size, look=look)
    say(f"drew {out}")
