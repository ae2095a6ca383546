"""A drive in its class, and the classes themselves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jovik.analysis.drive_class import ClassFigure, Standing, Usual
from jovik.base.quantities import significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.queries.drive_class import ClassGap, ClassStanding, shortfalls
from jovik.sheets.drive_class import DriveClass, UsualFigure
from jovik.tables.table import Table, figure_words, interval_json

SHORT_NAMES = {
    "sequential read": "seq. read",
    "sequential write": "seq. write",
    "sustained write": "sustained write",
    "random read 4KiB": "random read",
    "random read 4KiB depth 32": "random read, depth 32",
    "random write 4KiB": "random write",
    "random write 4KiB depth 32": "random write, depth 32",
}
"""Classes of step as column heads. Random ones are of 4 KiB."""


def usual_words(usual: Usual | UsualFigure) -> str:
    """``480 to 560 MB/s``, ``5,000 to 14,000 IOPS``."""
    is_iops = usual.is_iops if isinstance(usual, Usual) else usual.unit == "IOPS"
    if is_iops:
        return f"{_whole(usual.low)} to {_whole(usual.high)} IOPS"
    return f"{_whole(usual.low * per_unit())} to {_whole(usual.high * per_unit())} {rate_unit()}"


def _whole(value: float) -> str:
    return f"{value:,.0f}"


def standing_lines(found: ClassStanding) -> list[str]:
    """Return the class index, and a line each for steps below and above what is usual."""
    title = found.drive_class.title
    if found.index is None:
        return []
    count = len(found.figures)
    every = len(found.drive_class.figures)
    words = f"class index {figure_words(found.index)}, where 100 is usual for a {title}"
    words += f", by {count} of its {every} figures"
    words += f" (on {found.link}, slower than its own link)" if found.link else ""
    if not found.own:
        return [f"{words}; its own class is unknown (jovik sheet edit NAME --class)"]
    lines = [words]
    for standing in (Standing.BELOW, Standing.ABOVE):
        of_standing = [
            f"{f.result.step.label} {_value(f)} (usual {usual_words(f.usual)})"
            for f in found.figures
            if f.standing is standing
        ]
        if of_standing:
            lines.append(f"{standing}: {'; '.join(of_standing)}")
    return [*lines, *shortfall_lines(found)]


USES = {
    "sequential read": "reads large files",
    "sequential write": "writes large files",
    "sustained write": "writes more than its cache holds",
    "random read 4KiB": "starts programs",
    "random read 4KiB depth 32": "serves many readers",
    "random write 4KiB": "saves small changes",
    "random write 4KiB depth 32": "writes for many programs at once",
}
"""What a drive does for its user by a class of step."""


def shortfall_lines(found: ClassStanding) -> list[str]:
    """Return where a drive is no faster than a slower class that most readers know."""
    lines = []
    for s in shortfalls(found):
        scale, unit = (1.0, "IOPS") if s.figure.usual.is_iops else (per_unit(), rate_unit())
        lines.append(
            f"{USES[s.usual.what]} no faster than a {s.other.title}: {_value(s.figure)}, where "
            f"{_whole(s.usual.usual * scale)} {unit} is usual"
        )
    return lines


def _value(f: ClassFigure) -> str:
    """Return the figure with its interval. One pass has none."""
    scale, unit = (1.0, "IOPS") if f.usual.is_iops else (per_unit(), rate_unit())
    return f"{figure_words(f.value, scale)} {unit}"


def standing_table(found: ClassStanding) -> Table:
    """Return each class of step beside its usual figure, for a page."""
    rows = [
        (
            f.result.step.label,
            _value(f),
            usual_words(f.usual),
            str(f.standing),
        )
        for f in found.figures
    ]
    index = f": {figure_words(found.index)}, where 100 is usual" if found.index else ""
    return Table(
        f"Compared with the usual {found.drive_class.title}{index}",
        ["step", "measured (95 % interval)", "usual", ""],
        rows,
        right=(1, 2),
    )


def standing_json(found: ClassStanding | None) -> dict[str, Any] | None:
    """Return a standing as documented, or None if there is none."""
    if found is None:
        return None
    return {
        "name": found.drive_class.name,
        "title": found.drive_class.title,
        "own": found.own,
        "link": found.link,
        "index": interval_json(found.index) if found.index else None,
        "figures": [
            {
                "what": f.usual.what,
                "unit": "IOPS" if f.usual.is_iops else "bytes/s",
                "value": interval_json(f.value),
                "from": f.usual.low,
                "usual": f.usual.usual,
                "to": f.usual.high,
                "standing": f.standing.name.lower(),
                "kind": f.result.kind,
            }
            for f in found.figures
        ],
    }


def gap_words(gap: ClassGap) -> str:
    """Why two classes are an order of magnitude apart, in a sentence."""
    return (
        f"a {gap.faster.title} is usually {significant(gap.times, 2)} times as fast as a "
        f"{gap.slower.title} in {gap.what}: {gap.why_faster}, compared with: {gap.why_slower}"
    )


def classes_table(classes: Sequence[DriveClass]) -> Table:
    """Return the rules of thumb: from and to of each class in each class of step."""
    whats = list(dict.fromkeys(f.what for c in classes for f in c.figures))
    rows = []
    for c in classes:
        figures = {f.what: f for f in c.figures}
        rows.append((c.title, *(_range(figures.get(w)) for w in whats)))
    return Table(
        "Usual figures by class of drive (streams in MB/s, small accesses of 4 KiB in IOPS)",
        ["class", *(SHORT_NAMES.get(w, w) for w in whats)],
        rows,
        right=range(1, len(whats) + 1),
        notes=[
            "from and to: ordinary drives, new and not full; for reasons and sources: "
            "jovik fit --classes --format json",
        ],
    )


def _range(figure: UsualFigure | None) -> str:
    if figure is None:
        return "-"
    scale = 1.0 if figure.unit == "IOPS" else 1e-6
    return f"{_short(figure.low * scale)} to {_short(figure.high * scale)}"


def _short(value: float) -> str:
    """``480``, ``14k``, ``1.1M``."""
    if value >= 1e6:
        return f"{value / 1e6:g}M"
    return f"{value / 1e3:g}k" if value >= 10_000 else f"{value:,g}"
