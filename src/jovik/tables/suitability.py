"""The loads that a drive can sustain."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.lost_data import lost_words
from jovik.analysis.suitability import Suitability
from jovik.base.interval import Interval
from jovik.base.quantities import significant
from jovik.queries.suitability import Fitted, Pace
from jovik.tables.evidence import fault_lines, passed_over_words
from jovik.tables.replay import PREDICTED, how_words
from jovik.tables.table import Table
from jovik.tables.upgrade import seconds_words


def fit_table(found: Fitted) -> Table:
    """Streams at once, the headroom and limiting factor, empty and nearly full."""
    rows, notes, small, wearing = [], list[str](), list[str](), list[str]()
    warranty = found.drive.warranty_years
    for number, f in enumerate(found.empty):
        full = [fits[number] for fits in found.filled.values() if fits[number].headroom is not None]
        worn = f.years is not None and warranty is not None and f.years < warranty
        rows.append(
            (
                f.load.title,
                stream_words(f),
                f"{significant(f.headroom, 2)}x" if f.headroom is not None else "-",
                f.ends or (f'unknown without "{f.missing}"' if f.missing else "-"),
                "-"
                if f.years is None
                else f"{significant(f.years, 2)} years{' !' if worn else ''}",
                ", ".join("-" if by_short_test(x) else stream_words(x) for x in full) or "-",
            )
        )
        if worn:
            wearing.append(f"{f.load.title} ({f.load.hours_a_day:g} hours a day)")
    if wearing:
        notes.append(f"these loads wear it out before its warranty ends (!): {'; '.join(wearing)}")
    if any(by_short_test(f) for f in found.empty):
        notes.append(
            "writing counts at the rate of a short test: its duration is shown by "
            '"sequential write 512KiB depth 4 over 30% of free"'
        )
    small.append(
        "based on the lower end of each 95 % interval; endurance is for one stream, at "
        "the hours a day of the load"
    )
    header = [
        "load",
        "max streams",
        "headroom",
        "limiting factor",
        "endurance",
        f"filled to {' and '.join(map(str, found.filled))} %",
    ]
    shown = len(header) if found.filled else len(header) - 1
    return Table(
        f"{found.drive.name}: "
        + (
            lost_words(found.lost, found.drive.capacity_bytes)
            if found.lost
            else "sustainable loads"
        ),
        header[:shown],
        [row[:shown] for row in rows],
        right=(2,),
        optional_columns=(5, 4) if found.filled else (4,),
        notes=[*notes, *passed_over_words(found.passed_over)],
        verdict=[*fault_lines(found.passed_over), _fit_sentence(found)],
        small=small,
    )


def asked_programs_table(found: Fitted) -> Table:
    """Return what each recorded program takes on the drive, and took when it was recorded."""
    rows, lines = [], []
    for p in found.asked:
        here = seconds_words(p.time.elapsed_s)
        then = seconds_words(Interval(p.recorded_s))
        rows.append((p.name, here, then, p.recorded_on or "-", how_words(p.time)))
        lines.append(
            f"{found.drive.name} runs {p.name} {_VERDICTS[p.verdict]} when recorded: {here} "
            f"({p.time.how}), {then} then"
        )
    return Table(
        f"{found.drive.name}: recorded programs",
        ["program", "takes", "when recorded", "on", "how"],
        rows,
        right=(1, 2),
        verdict=[*fault_lines(found.passed_over), *lines],
        notes=[PREDICTED] if any(p.time.predicted for p in found.asked) else [],
        optional_columns=(3,),
    )


_VERDICTS = {
    Pace.FASTER: "faster than",
    Pace.SLOWER: "slower than",
    Pace.AS_FAST: "as fast as",
}


def _fit_sentence(found: Fitted) -> str:
    """Return how many loads it can sustain, which it cannot, and which are unknown."""
    known = [f for f in found.empty if f.headroom is not None]
    no = [f.load.title for f in known if not f.carried]
    carried = len(known) - len(no)
    if found.lost is not None:
        lost = lost_words(found.lost, found.drive.capacity_bytes)
        return f"{found.drive.name} can sustain no load: it {lost}"
    words = f"{found.drive.name} can sustain {carried} of {len(found.empty)} loads"
    more = f" and {len(no) - 3} more" if no[3:] else ""
    words += f"; not {', '.join(no[:3])}{more}" if no else ""
    unknown = len(found.empty) - len(known)
    return words + (f"; {unknown} unknown" if unknown else "")


def by_short_test(f: Suitability) -> bool:
    """Return True if its write rate is from a test too short for a lasting rate."""
    return any(s.short_test for s in f.supplies)


def stream_words(f: Suitability) -> str:
    """Return how many streams of a load a drive sustains: a number, yes, no or a dash."""
    if f.headroom is None:
        return "-"
    if not f.carried:
        return "no"
    return f"{f.streams:,}" if f.load.many else "yes"


def carriers_tables(every: Sequence[Fitted]) -> list[Table]:
    """For each load the drives that carry it, the one with the most headroom first."""
    tables = []
    for number, load in enumerate(f.load for f in every[0].empty):
        fits = [(x, x.empty[number]) for x in every]
        fits.sort(key=lambda pair: -(pair[1].headroom if pair[1].headroom is not None else -1.0))
        carried = sum(f.carried for _, f in fits)
        rows = [
            (
                x.drive.name,
                stream_words(f),
                f"{significant(f.headroom, 2)}x" if f.headroom is not None else "-",
                f.ends or (f'unknown without "{f.missing}"' if f.missing else "-"),
            )
            for x, f in fits
        ]
        tables.append(
            Table(
                f"{load.title}: {carried} of {len(fits)} drives carry it",
                ["drive", "max streams" if load.many else "carried", "headroom", "limiting factor"],
                rows,
                right=(2,),
                notes=[
                    "counted at the lower end of each 95 % interval, on drives that are not full"
                ],
            )
        )
    return tables
