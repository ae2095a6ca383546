"""The parts of an I/O phrase: how each is read, and how it is spelled.

A new part is a field of `jovik.steps.io_step.IoStep` and a row in `CLAUSES`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from jovik.base.quantities import parse_rate, parse_size, parse_time, spell_size, spell_time
from jovik.steps.tokens import Cursor, above_zero, in_range, percentage, whole

if TYPE_CHECKING:
    from jovik.steps.io_step import IoStep

SECTOR = 512
BLOCKS = (SECTOR, 64 * 2**20)
DEPTHS = (1, 1024)
WORKERS = (1, 64)


@dataclass(frozen=True)
class Clause:
    """One part that may follow the head.

    `keywords` open it, `read` takes what comes after them, `spell` gives the whole part or nothing
    where the default applies. `counts` is whether it decides what sort of result this is.
    """

    keywords: tuple[str, ...]
    shown: str
    read: Callable[[Cursor], dict[str, Any]]
    spell: Callable[[IoStep], str]
    counts: bool = True


def block_fault(size: int) -> str:
    """Return a check for `Cursor.read` of a block size."""
    low, high = BLOCKS
    if not low <= size <= high:
        return f"a block from {spell_size(low)} to {spell_size(high)}"
    return "" if size % SECTOR == 0 else f"a block that is a multiple of {spell_size(SECTOR)}"


def _rate(text: str) -> tuple[int, str]:
    value, unit = parse_rate(text)
    if value < 1 or value != int(value):
        raise ValueError("a rate is a whole number of bytes or I/Os a second")
    return int(value), unit


def _read_rate(cursor: Cursor) -> dict[str, Any]:
    value, unit = cursor.read(_rate, "a rate such as 400MB/s or 2000IOPS")
    return {"rate_iops" if unit == "IOPS" else "rate_bytes_s": value}


def _spell_rate(step: IoStep) -> str:
    if step.rate_bytes_s is not None:
        return f"at most {spell_size(step.rate_bytes_s)}/s"
    return f"at most {step.rate_iops}IOPS" if step.rate_iops is not None else ""


def _read_amount(cursor: Cursor) -> dict[str, Any]:
    share = read_share_of_free(cursor, "a percentage such as 60% of free")
    if share is not None:
        return {"amount_free_percent": share}
    ahead = [w.text.casefold() for w in cursor.words[cursor.at : cursor.at + 2]]
    if ahead[1:] == ["spans"]:
        spans = cursor.read(whole, "a number of spans", in_range((1, 100), "a number of spans"))
        cursor.choice("'spans'", "spans")
        return {"amount_spans": spans}
    return {
        "amount_bytes": cursor.read(
            parse_size, "an amount such as 8GB or 60% of free", above_zero("an amount")
        )
    }


def _spell_amount(step: IoStep) -> str:
    if step.amount_free_percent is not None:
        return f"over {step.amount_free_percent}% of free"
    if step.amount_spans is not None:
        return f"over {step.amount_spans} spans"
    return f"over {spell_size(step.amount_bytes)}" if step.amount_bytes is not None else ""


def _read_span(cursor: Cursor) -> dict[str, Any]:
    share = read_share_of_free(cursor, "a span such as 1GB or 90% of free")
    if share is not None:
        return {"span_free_percent": share}
    return {
        "span_bytes": cursor.read(
            parse_size, "a span such as 1GB or 90% of free", above_zero("a span")
        )
    }


def read_share_of_free(cursor: Cursor, expected: str) -> int | None:
    """``90% of free``, where a percentage comes next."""
    if cursor.next is None or not cursor.next.text.endswith("%"):
        return None
    share = cursor.read(percentage, expected, in_range((1, 95), "a percentage"))
    cursor.choice("'of free'", "of")
    cursor.choice("'free'", "free")
    return share


def _spell_span(step: IoStep) -> str:
    if step.span_free_percent is not None:
        return f"within {step.span_free_percent}% of free"
    return f"within {spell_size(step.span_bytes)}" if step.span_bytes is not None else ""


def _read_steady(cursor: Cursor) -> dict[str, Any]:
    return {"steady": "latency" if cursor.accept("latency") else "rate"}


def _spell_steady(step: IoStep) -> str:
    return {"": "", "rate": "until steady", "latency": "until steady latency"}[step.steady]


def _read_payload(cursor: Cursor) -> dict[str, Any]:
    share = cursor.read(percentage, "a percentage such as 50%", in_range((0, 100), "a percentage"))
    cursor.choice("'compressible'", "compressible")
    return {"compressible_percent": share}


CLAUSES: tuple[Clause, ...] = (
    Clause(
        ("depth",),
        "depth N",
        lambda c: {"depth": c.read(whole, "a depth such as 32", in_range(DEPTHS, "a depth"))},
        lambda s: f"depth {s.depth}" if s.depth != 1 else "",
    ),
    Clause(
        ("workers",),
        "workers N",
        lambda c: {
            "workers": c.read(
                whole, "a number of workers", in_range(WORKERS, "a number of workers")
            )
        },
        lambda s: f"workers {s.workers}" if s.workers != 1 else "",
    ),
    Clause(
        ("until", "steady"),
        "until steady [latency] [for at most TIME]",
        _read_steady,
        _spell_steady,
    ),
    Clause(
        ("for", "at", "most"),
        "for at most TIME",
        lambda c: {"at_most_ns": c.read(parse_time, "a time such as 2h", above_zero("a time"))},
        lambda s: f"for at most {spell_time(s.at_most_ns)}" if s.at_most_ns is not None else "",
        counts=False,
    ),
    Clause(
        ("rounds", "of"),
        "rounds of TIME",
        lambda c: {"round_ns": c.read(parse_time, "a time such as 1min", above_zero("a time"))},
        lambda s: f"rounds of {spell_time(s.time_ns)}" if s.steady and s.time_ns else "",
        counts=False,
    ),
    Clause(
        ("for",),
        "for TIME",
        lambda c: {"time_ns": c.read(parse_time, "a time such as 5s", above_zero("a time"))},
        lambda s: f"for {spell_time(s.time_ns)}" if s.time_ns and not s.steady else "",
        counts=False,
    ),
    Clause(
        ("until", "stopped"),
        "until stopped",
        lambda c: {"until_stopped": True},
        lambda s: "until stopped" if s.until_stopped else "",
        counts=False,
    ),
    Clause(("over",), "over AMOUNT", _read_amount, _spell_amount),
    Clause(
        ("within",),
        "within SPAN",
        _read_span,
        _spell_span,
    ),
    Clause(("at", "most"), "at most RATE", _read_rate, _spell_rate),
    Clause(
        ("durable",),
        "durable",
        lambda c: {"durable": True},
        lambda s: "durable" if s.durable else "",
    ),
    Clause(
        ("payload",),
        "payload N% compressible",
        _read_payload,
        lambda s: (
            f"payload {s.compressible_percent}% compressible" if s.compressible_percent else ""
        ),
    ),
    Clause(
        ("after", "a", "pause", "of"),
        "after a pause of TIME",
        lambda c: {"pause_ns": c.read(parse_time, "a time such as 10s", above_zero("a pause"))},
        lambda s: f"after a pause of {spell_time(s.pause_ns)}" if s.pause_ns else "",
    ),
    Clause(
        ("verify",), "verify", lambda c: {"verify": True}, lambda s: "verify" if s.verify else ""
    ),
)


def _read_head(cursor: Cursor) -> dict[str, Any]:
    """Return the first words: order, direction and block."""
    order = cursor.choice("'sequential' or 'random'", "sequential", "random")
    direction = cursor.choice("'read', 'write' or 'mixed'", "read", "write", "mixed")
    share = {"read": 100, "write": 0}.get(direction)
    if share is None:
        share = cursor.read(
            percentage, "a percentage such as 70%", in_range((1, 99), "a percentage")
        )
        cursor.choice("'read' (the percentage of reads)", "read")
    block = cursor.read(parse_size, "a block such as 4KiB", block_fault)
    return {"random": order == "random", "read_percent": share, "block_bytes": block}


def spell_head(step: IoStep) -> list[str]:
    """Return the first words as two parts: the access, the block."""
    order = "random" if step.random else "sequential"
    direction = {100: "read", 0: "write"}.get(step.read_percent, f"mixed {step.read_percent}% read")
    return [f"{order} {direction}", spell_size(step.block_bytes)]


def read_access(cursor: Cursor) -> dict[str, Any]:
    """Return the fields of a whole phrase."""
    values = _read_head(cursor)
    remaining: list[Clause] = list(CLAUSES)
    places: dict[str, int] = {}
    while cursor.next is not None:
        start = cursor.at
        clause = next((c for c in remaining if cursor.accept(*c.keywords)), None)
        if clause is None:
            if any(cursor.accept(*c.keywords) for c in CLAUSES):
                raise cursor.wrong("each part once only", cursor.words[start])
            raise cursor.wrong(_list([c.shown for c in remaining]) if remaining else "nothing more")
        remaining.remove(clause)
        read = clause.read(cursor)
        places |= dict.fromkeys(read, start)
        values |= read
    _refuse_contradictions(cursor, values, places)
    if "round_ns" in values:
        values["time_ns"] = values.pop("round_ns")
    return values


def _refuse_contradictions(cursor: Cursor, values: dict[str, Any], places: dict[str, int]) -> None:
    block = values["block_bytes"]
    if values["read_percent"] == 100:
        for name, what in (
            ("durable", "'durable' only in a step that writes"),
            ("compressible_percent", "'payload' only in a step that writes"),
        ):
            if values.get(name):
                raise cursor.wrong(what, cursor.words[places[name]])
    if "until_stopped" in values:
        for name in ("time_ns", "amount_bytes", "amount_free_percent"):
            if name in values:
                raise cursor.wrong(
                    "either 'until stopped' or a time and an amount", cursor.words[places[name]]
                )
    rounds = ("at_most_ns", "round_ns")
    ends = ("time_ns", "amount_bytes", "amount_free_percent", "amount_spans", "until_stopped")
    for name in ends if "steady" in values else rounds:
        if name in values:
            expected = (
                "either 'until steady' or another end"
                if "steady" in values
                else "'until steady' in a step with rounds"
            )
            raise cursor.wrong(expected, cursor.words[places[name]])
    for name in ("amount_bytes", "span_bytes"):
        if name in values and values[name] < block:
            raise cursor.wrong(
                f"at least one block ({block} bytes)", cursor.words[places[name] + 1]
            )


def _list(names: list[str]) -> str:
    return ", ".join(names[:-1]) + " or " + names[-1] if len(names) > 1 else names[0]
