"""The parts of an access phrase, a row each: how a part is read and how it is spelled.

A new part of the language is a field of `Step` and a row here.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from jovik.base.quantities import parse_rate, parse_size, parse_time, spell_size, spell_time
from jovik.steps.tokens import Cursor

if TYPE_CHECKING:
    from jovik.steps.access import IoStep

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


def whole(text: str) -> int:
    """A whole number; ValueError for anything else."""
    if not text.isascii() or not text.isdigit():
        raise ValueError("not a whole number")
    return int(text)


def percentage(text: str) -> int:
    """``70%`` as 70; ValueError for anything else."""
    if not text.endswith("%"):
        raise ValueError("not a percentage")
    return whole(text[:-1].strip())


def in_range(limits: tuple[int, int], what: str) -> Callable[[int], str]:
    """A check for `Cursor.read`.

    Nothing where a number lies between the limits, else what was expected.
    """
    low, high = limits
    return lambda n: "" if low <= n <= high else f"{what} from {low} to {high}"


def above_zero(what: str) -> Callable[[int], str]:
    """A check for `Cursor.read` of what cannot be nothing."""
    return lambda n: "" if n > 0 else f"{what} above zero"


def _block_fault(size: int) -> str:
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
    if cursor.next is not None and cursor.next.text.endswith("%"):
        share = cursor.read(
            percentage, "a share such as 60% of free", in_range((1, 95), "a percentage")
        )
        cursor.choice("'of free'", "of")
        cursor.choice("'free'", "free")
        return {"amount_free_percent": share}
    return {
        "amount_bytes": cursor.read(
            parse_size, "an amount such as 8GB or 60% of free", above_zero("an amount")
        )
    }


def _spell_amount(step: IoStep) -> str:
    if step.amount_free_percent is not None:
        return f"over {step.amount_free_percent}% of free"
    return f"over {spell_size(step.amount_bytes)}" if step.amount_bytes is not None else ""


def _read_payload(cursor: Cursor) -> dict[str, Any]:
    share = cursor.read(percentage, "a share such as 50%", in_range((0, 100), "a percentage"))
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
        ("for",),
        "for TIME",
        lambda c: {"time_ns": c.read(parse_time, "a time such as 5s", above_zero("a time"))},
        lambda s: f"for {spell_time(s.time_ns)}" if s.time_ns is not None else "",
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
        lambda c: {"span_bytes": c.read(parse_size, "a span such as 1GB", above_zero("a span"))},
        lambda s: f"within {spell_size(s.span_bytes)}" if s.span_bytes is not None else "",
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
        ("verify",), "verify", lambda c: {"verify": True}, lambda s: "verify" if s.verify else ""
    ),
)


def read_head(cursor: Cursor) -> dict[str, Any]:
    """The first words: order, direction and block."""
    order = cursor.choice("'sequential' or 'random'", "sequential", "random")
    direction = cursor.choice("'read', 'write' or 'mixed'", "read", "write", "mixed")
    share = {"read": 100, "write": 0}.get(direction)
    if share is None:
        share = cursor.read(percentage, "a share such as 70%", in_range((1, 99), "a percentage"))
        cursor.choice("'read' (the share of I/Os that read)", "read")
    block = cursor.read(parse_size, "a block such as 4KiB", _block_fault)
    return {"random": order == "random", "read_percent": share, "block_bytes": block}


def spell_head(step: IoStep) -> list[str]:
    """The first words as two parts: the access, the block."""
    order = "random" if step.random else "sequential"
    direction = {100: "read", 0: "write"}.get(step.read_percent, f"mixed {step.read_percent}% read")
    return [f"{order} {direction}", spell_size(step.block_bytes)]
