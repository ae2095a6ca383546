"""A result as a slower link would leave it."""

from __future__ import annotations

from dataclasses import replace

from jovik.analysis.step_result import PassFigures, StepResult
from jovik.base.findings import LongWrite
from jovik.base.interval import Interval

SAME_LINK = 1.02
"""A link that carries up to this times as much is taken for the same one."""


def on_link(result: StepResult, carries_bytes_s: float | None) -> StepResult | None:
    """Return a result with no rate above what a link carries.

    None if it cannot be told: a program that was replayed on a faster link takes longer on this
    one, by how much nobody measured.
    """
    if carries_bytes_s is None:
        return result
    if result.findings.replay is not None:
        measured_on = result.conditions.link_bytes_s
        slow = measured_on is not None and measured_on <= SAME_LINK * carries_bytes_s
        return result if slow else None
    written = result.findings.long_write
    findings = result.findings
    if written is not None:
        findings = replace(findings, long_write=_write_on(written, carries_bytes_s))
    passes = tuple(_pass_on(p, carries_bytes_s) for p in result.passes)
    return replace(result, passes=passes, findings=findings)


def _pass_on(p: PassFigures, most: float) -> PassFigures:
    share = min(1.0, most / p.rate_bytes_s) if p.rate_bytes_s > 0 else 1.0
    return replace(
        p,
        rate_bytes_s=p.rate_bytes_s * share,
        flushed_rate_bytes_s=min(p.flushed_rate_bytes_s, most),
        iops=p.iops * share,
        elapsed_ns=round(p.elapsed_ns / share),
    )


def _write_on(written: LongWrite, most: float) -> LongWrite:
    """Return a long write with its levels limited. A fall from above the link to above it is none.

    Places stay in bytes: the cache is full after as much.
    """
    falls = tuple(
        replace(f, before_bytes_s=min(f.before_bytes_s, most), best_bytes_s=None)
        for f in written.falls
        if f.after_bytes_s < most
    )
    parts = tuple(replace(p, rate_bytes_s=_within(p.rate_bytes_s, most)) for p in written.parts)
    steady = written.steady_bytes
    return replace(
        written,
        falls=falls,
        parts=parts,
        steady_bytes_s=_within(steady, most) if steady is not None else None,
    )


def _within(rate: Interval, most: float) -> Interval:
    low, high = (min(x, most) if x is not None else None for x in (rate.low, rate.high))
    return Interval(min(rate.median, most), low, high)
