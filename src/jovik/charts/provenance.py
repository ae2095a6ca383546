"""Where the figures of a picture come from, in its small print."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from jovik.analysis.step_result import StepResult
from jovik.base.terminal_text import strip_control


def provenance(results: Sequence[StepResult], *, units: bool = True) -> str:
    """Return samples, passes, conditions and date of the results, for the footer."""
    if not results:
        return ""
    samples = sorted({r.conditions.sample for r in results if r.conditions.sample and units})
    passes = sorted({len(r.passes) for r in results})
    spread = f"{passes[0]}" if len(passes) == 1 else f"{passes[0]} to {passes[-1]}"
    engines = sorted({r.conditions.engine.replace("model", "simulated") for r in results})
    direct = sorted({"direct" if r.conditions.direct else "through the cache" for r in results})
    rigs = sorted({r.conditions.rig for r in results if r.conditions.rig})
    links = sorted({r.conditions.link for r in results if r.conditions.link})
    parts = [
        ", ".join(samples),
        f"{spread} {'pass' if spread == '1' else 'passes'}",
        f"engine: {', '.join(engines)}, {' and '.join(direct)}",
        f"rig: {', '.join(rigs)}" if rigs else "",
        f"link: {', '.join(links)}" if links else "",
        days_words(r.started[:10] for r in results if r.started),
        "Jovik",
    ]
    return "; ".join(p for p in parts if p)


def days_words(days: Iterable[str]) -> str:
    """Return the first and the last of some days, or the only one, or nothing."""
    ordered = sorted(days)
    return " to ".join(dict.fromkeys((ordered[0], ordered[-1]))) if ordered else ""


LONGEST_NAME = 40
"""Letters of a drive's name where there is room: in titles, tables, sentences and on cards."""


def truncate(name: str, most: int = 24) -> str:
    """Return a drive's name without control characters, cut to fit."""
    name = strip_control(name)
    return name if len(name) <= most else name[: most - 1] + "…"
