"""Claims against measured: each as a bar of what was claimed, with the margin drawn in."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from jovik.analysis.claims import ClaimVerdict
from jovik.base.interval import Interval
from jovik.charts.style import (
    LIGHT,
    Theme,
    error_bars,
    provenance,
    save,
    small_print,
    titled,
)

WIDEST = 2.2
"""Bars beyond so many times the claim are cut, and say so."""


def draw_claims(
    drive: str,
    judgements: Sequence[ClaimVerdict],
    margin: float,
    out: Path,
    *,
    size: tuple[int, int] = (1280, 800),
    look: Theme = LIGHT,
) -> None:
    """Draw what was measured of each claim as a share of it.

    Access times are turned round, so that right is better everywhere.
    """
    below = "share of the claim, turned round for access times; whiskers are 95 % intervals"
    fig, ax = titled(size, look, f"{drive}: claims against measured", below)
    ax.set_position((0.30, 0.17, 0.66, 0.66))
    top = 1.3
    for y, j in enumerate(judgements):
        share = _share(j)
        if share is None:
            ax.text(0.02, y, str(j.verdict), va="center", fontsize=12.5, color=look.quiet)
            continue
        shown = min(share.median, WIDEST)
        colour = look.accent if str(j.verdict) == "short" else look.pale
        ax.barh(y, shown, height=0.56, color=colour, zorder=2)
        error_bars(
            ax, share if share.median <= WIDEST else Interval(shown), y, look.ink, across=True
        )
        end = min(max(share.high or 0, share.median), WIDEST)
        top = max(top, end + 0.55)
        cut = " (bar cut)" if share.median > WIDEST else ""
        assert j.measured is not None
        ax.text(
            max(end, 1.0) + 0.03,
            y,
            f"{j.claim.shown(j.measured.median)}{cut}\n{j.verdict}",
            va="center",
            fontsize=12,
            linespacing=1.25,
        )
    ax.axvline(1, color=look.ink, linewidth=1.6)
    ax.axvline(1 - margin, color=look.ink, linewidth=1.2, linestyle=":")
    ax.set_yticks(
        range(len(judgements)),
        [
            f"{j.claim.label}\n{'up to ' if j.claim.up_to else ''}{j.claim.shown()}"
            for j in judgements
        ],
        fontsize=12,
    )
    ax.set_ylim(len(judgements) - 0.4, -0.6)
    ax.set_xlim(0, min(top, WIDEST + 0.6))
    ax.grid(axis="x", visible=True)
    ax.grid(axis="y", visible=False)
    ax.xaxis.set_major_formatter(lambda v, _: f"{100 * v:.0f} %")
    ax.set_xlabel(f"of the claim (solid: the claim; dotted: {100 * margin:g} % below it)")
    small_print(
        fig,
        provenance([j.step for j in judgements if j.step is not None]) or "nothing measured; Jovik",
        look.quiet,
    )
    save(fig, out)


def _share(j: ClaimVerdict) -> Interval | None:
    share = j.share
    if share is None or not share.median or not j.claim.lower_is_better:
        return share
    return Interval(
        1 / share.median,
        1 / share.high if share.high else None,
        1 / share.low if share.low else None,
    )
