"""`jovik fit`: which loads a drive carries, how many at once, and what ends it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from jovik.cli.options import format_option, shelf_option

if TYPE_CHECKING:
    from collections.abc import Sequence

    from jovik.analysis.fit import Fit
    from jovik.load import Load


@click.command()
@click.argument("drive", required=False)
@click.option(
    "--load", "names", multiple=True, metavar="NAME", help="A load, or the path of its .toml file; repeat it at will. Default: all that ship."
)
@click.option("--loads", "listing", is_flag=True, help="Say which loads there are and how their rates are computed.")
@format_option()
@shelf_option
def fit(drive: str | None, names: tuple[str, ...], listing: bool, form: str, shelf_at: str | None) -> int:
    """Say which loads DRIVE carries, from what was measured.

    Writing counts at the rate after the cliff where a long write was made. With results of a filled drive, those are shown too.
    Exit status 1 when a load that was asked for is not carried.

    \b
    jovik fit --loads
    jovik fit "Comet 2TB"
    jovik fit "Comet 2TB" --load telescope --load mine.toml
    """
    from jovik.analysis.fit import fit as judge_fit
    from jovik.errors import Misuse
    from jovik.load import load_names, read_load
    from jovik.shelf.opening import where_from
    from jovik.shelf.store import Shelf

    loads = [read_load(n) for n in names or load_names()]
    if listing or drive is None:
        if not listing:
            raise Misuse("which drive? NAME is missing", "jovik fit NAME; jovik fit --loads says which loads there are")
        _list(loads, form)
        return 0
    with Shelf(where_from(shelf_at)) as shelf:
        sheet = shelf.sheet(drive)
        results = shelf.latest_results(drive, with_latencies=True, filled=True, ladders=True)
    name = sheet.drive.name
    if not results:
        raise Misuse(f"{name} has not been measured", f'measure it: jovik measure TARGET --drive "{name}" --plan full-review')
    empty = [r for r in results if r.conditions.filled_percent is None]
    levels = sorted({r.conditions.filled_percent for r in results if r.conditions.filled_percent is not None})
    fits: dict[int | None, list[Fit]] = {None: [judge_fit(x, empty, sheet.drive.endurance_bytes) for x in loads]}
    fits |= {level: [judge_fit(x, [r for r in results if r.conditions.filled_percent == level], sheet.drive.endurance_bytes) for x in loads]
             for level in levels}  # fmt: skip
    _show(name, fits, sheet.drive.warranty_years, form)
    return 1 if names and not all(f.carried for f in fits[None]) else 0


def _list(loads: Sequence[Load], form: str) -> None:
    from jovik.cli.output import emit_csv, emit_json, table
    from jovik.units import show_rate, spell_size

    rows = []
    for x in loads:
        needs = " and ".join(f"{word} {show_rate(r)}" for word, r in (("reads", x.read_bytes_s), ("writes", x.write_bytes_s)) if r)
        rows.append(
            (x.name, x.title, needs, f"{'random' if x.random else 'sequential'}, {spell_size(x.block_bytes)}", f"{x.hours_a_day:g}", x.formula)
        )
    if form == "json":
        emit_json({"loads": [load_json(x) for x in loads]})
    elif form == "csv":
        emit_csv(["name", "title", "needs", "how", "hours_a_day", "formula"], rows)
    else:
        table("Loads", ["name", "load", "one stream", "how", "hours a day", "formula"], rows, right=(4,), spare=(4,))


def load_json(x: Load) -> dict[str, Any]:
    """A load as documented."""
    return {
        "name": x.name, "title": x.title, "about": x.about, "read_bytes_s": x.read_bytes_s, "write_bytes_s": x.write_bytes_s, "random": x.random,
        "block_bytes": x.block_bytes, "depth": x.depth, "latency_ns": x.latency_ns, "hours_a_day": x.hours_a_day, "formula": x.formula,
    }  # fmt: skip


def fit_json(f: Fit, level: int | None) -> dict[str, Any]:
    """A fit as documented."""
    return {
        "load": f.load.name, "filled_percent": level, "carried": f.carried if f.headroom is not None else None, "streams": f.streams,
        "headroom": f.headroom, "ends": f.ends, "years_of_endurance": f.years, "missing": f.missing or None,
    }  # fmt: skip


def _show(name: str, fits: dict[int | None, list[Fit]], warranty_years: float | None, form: str) -> None:
    from jovik.cli.output import emit_csv, emit_json, table
    from jovik.units import significant

    every = [(level, f) for level, found in fits.items() for f in found]
    if form == "json":
        emit_json({"drive": name, "fits": [fit_json(f, level) for level, f in every]})
        return
    if form == "csv":
        header = ["load", "filled_percent", "streams", "headroom", "ends", "years_of_endurance"]
        emit_csv(header, [(f.load.name, level, f.streams, f.headroom, f.ends, f.years) for level, f in every])
        return
    rows, notes = [], []
    for number, f in enumerate(fits[None]):
        full = [(level, found[number]) for level, found in fits.items() if level is not None and found[number].headroom is not None]
        worn = f.years is not None and warranty_years is not None and f.years < warranty_years
        rows.append(
            (
                f.load.title,
                _answer(f),
                f"{significant(f.headroom, 2)} times" if f.headroom is not None else "-",
                f.ends or "-",
                "-" if f.years is None else f"{significant(f.years, 2)} years{' !' if worn else ''}",
                ", ".join("-" if _short(x) else _answer(x) for _, x in full) or "-",
            )
        )
        if f.headroom is None:
            notes.append(f'{f.load.title}: not known without "{f.missing}"')
        elif worn:
            notes.append(f"{f.load.title}: {f.load.hours_a_day:g} hours a day wear it out before its warranty ends")
    if any(_short(f) for f in fits[None]):
        notes.append('writing counts at the rate of a short test: how long that lasts is told by "sequential write 1MiB depth 8 over 30% of free"')
    levels = [level for level in fits if level is not None]
    header = ["load", "streams", "headroom", "what ends it", "endurance lasts", f"filled to {' and '.join(str(x) for x in levels)} %"]
    shown = len(header) if levels else len(header) - 1
    table(
        f"{name}: what it carries", header[:shown], [row[:shown] for row in rows], right=(2,), spare=(5, 4) if levels else (4,),
        notes=[*notes, "counted at the lower end of each 95 % interval; endurance is one stream's, at the hours a day of the load"],
    )  # fmt: skip


def _short(f: Fit) -> bool:
    """Whether its write rate is of a test too short to tell what lasts."""
    return any(s.source.startswith(" of a short test") for s in f.supplies)


def _answer(f: Fit) -> str:
    if f.headroom is None:
        return "-"
    if not f.carried:
        return "no"
    return f"{f.streams:,}" if f.load.many else "yes"
