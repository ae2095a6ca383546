"""An I/O step: sequential or random, every number resolved, one canonical spelling.

A new part of an I/O phrase is a field of `IoStep` and a row in `CLAUSES`.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, ClassVar

from jovik.base.errors import TargetError
from jovik.base.quantities import (
    parse_rate,
    parse_size,
    parse_time,
    show_size,
    spell_size,
    spell_time,
)
from jovik.base.session import Workload
from jovik.steps.cost import PlanCost
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor, above_zero, in_range, percentage, whole

if TYPE_CHECKING:
    from jovik.base.session import Session
    from jovik.base.step_result import StepResult
    from jovik.base.trace import Trace
    from jovik.steps.running import StepRun

SECTOR = 512
BLOCKS = (SECTOR, 64 * 2**20)
DEPTHS = (1, 1024)
WORKERS = (1, 64)
DEFAULT_TIME_NS = 10 * 10**9
"""How long a pass runs when the phrase says neither `for` nor `over`."""
DEFAULT_SPAN_BYTES = 2**30
"""The area a pass falls in when neither `within` nor a sequential `over` says so."""
LONGEST_PASS_NS = 24 * 3600 * 10**9
"""A pass that only a person ends is taken to last a day."""


@dataclass(frozen=True)
class IoStep(Step):
    """One I/O phrase.

    `read_percent` is 100 for ``read``, 0 for ``write``, between for ``mixed``. `time_ns`,
    `amount_bytes` and `span_bytes` are None where the default applies; `time` and `span` say what
    that is. `amount_free_percent` is an amount as a share of what is free on the target, which only
    the target can turn into `amount_bytes`; `until_stopped` is a pass that a person ends. Of
    `rate_bytes_s` and `rate_iops` at most one is set.
    """

    word: ClassVar[str] = ""

    random: bool
    read_percent: int
    block_bytes: int
    depth: int = 1
    workers: int = 1
    time_ns: int | None = None
    amount_bytes: int | None = None
    amount_free_percent: int | None = None
    until_stopped: bool = False
    span_bytes: int | None = None
    rate_bytes_s: int | None = None
    rate_iops: int | None = None
    durable: bool = False
    compressible_percent: int = 0
    verify: bool = False

    def __post_init__(self) -> None:
        # Two steps that do the same must be equal, so what only repeats a default is dropped.
        if self.span_bytes == self._default_span():
            object.__setattr__(self, "span_bytes", None)
        if self.time_ns == DEFAULT_TIME_NS and not self.has_amount and not self.until_stopped:
            object.__setattr__(self, "time_ns", None)
        if self.read_percent == 100:
            object.__setattr__(self, "compressible_percent", 0)

    def _default_span(self) -> int:
        # A sequential pass over an amount goes through that amount once.
        if self.amount_bytes is not None and not self.random:
            return self.amount_bytes
        return max(DEFAULT_SPAN_BYTES, self.block_bytes * self.workers)

    @property
    def span(self) -> int:
        """Bytes of the area the I/O falls in, a multiple of the block for each worker."""
        share = self.block_bytes * self.workers
        return max((self.span_bytes or self._default_span()) // share, 1) * share

    @property
    def time(self) -> int | None:
        """Nanoseconds after which a pass ends; None where only the amount ends it."""
        if self.time_ns is None and not self.has_amount and not self.until_stopped:
            return DEFAULT_TIME_NS
        return self.time_ns

    @property
    def has_amount(self) -> bool:
        """Whether it ends after an amount, in bytes or as a share of what is free."""
        return self.amount_bytes is not None or self.amount_free_percent is not None

    @property
    def fresh(self) -> bool:
        """Whether it writes space that nothing was laid out in.

        A sequential write over an amount.
        """
        return not self.random and self.read_percent == 0 and self.has_amount

    @property
    def once(self) -> bool:
        """Whether it runs a single pass: a long write changes the drive.

        A person stops one pass.
        """
        return self.fresh or self.until_stopped

    @property
    def reads(self) -> bool:
        """Whether any of it reads."""
        return self.read_percent > 0

    @property
    def writes(self) -> bool:
        """Whether any of it writes."""
        return self.read_percent < 100

    def parts(self, *, timed: bool = True) -> list[str]:
        """The phrase in parts, in the one order; `timed` leaves the `for` part in."""
        spelled = [c.spell(self) for c in CLAUSES if timed or c.counts]
        return _spell_head(self) + [s for s in spelled if s]

    @classmethod
    def read(cls, cursor: Cursor) -> IoStep:
        """See `Step.read`; an I/O phrase has no word of its own and begins with the order."""
        return cls(**_read(cursor))

    @property
    def plain(self) -> bool:
        """Whether nothing but order, block, depth and workers bears on its rate.

        A pace, durable writes, compressible data and reading back each make it another test.
        """
        paced = self.rate_bytes_s is not None or self.rate_iops is not None
        return not (paced or self.durable or self.compressible_percent or self.verify)

    def workload(self, seed: int, *, stop_on_error: bool = True) -> Workload:
        """One pass, as a session takes it."""
        rate = float(self.rate_bytes_s) if self.rate_bytes_s is not None else None
        if self.rate_iops is not None:
            rate = float(self.rate_iops * self.block_bytes)
        return Workload(
            random=self.random,
            read_percent=self.read_percent,
            block_bytes=self.block_bytes,
            depth=self.depth,
            workers=self.workers,
            span_bytes=self.span,
            seed=seed,
            time_ns=self.time,
            amount_bytes=self.amount_bytes,
            fresh=self.fresh,
            rate_limit_bytes_s=rate,
            durable=self.durable,
            compressible_percent=self.compressible_percent,
            verify=self.verify,
            stop_on_error=stop_on_error,
        )

    def resolve(self, session: Session, taken_bytes: int = 0) -> IoStep:
        """See `Step.resolve`: an amount as a share of what is free becomes bytes."""
        if self.amount_free_percent is None:
            return self
        free = session.free_bytes()
        if free is None:
            raise TargetError(
                "what is free on this target cannot be told",
                "write the amount in bytes, such as 'over 100GB'",
            )
        free = max(free - taken_bytes, 0)
        amount = free * self.amount_free_percent // 100 // self.block_bytes * self.block_bytes
        if amount < self.block_bytes:
            raise TargetError(
                f"{self.amount_free_percent} % of {show_size(free)} free is less than one block"
            )
        return replace(self, amount_bytes=amount)

    def check(self, session: Session) -> None:
        """See `Step.check`."""
        session.check(self.workload(0))

    def pass_time_ns(self, session: Session, rate_bytes_s: float) -> float:
        """See `Step.pass_time_ns`."""
        limits: list[float | None] = [self.time, LONGEST_PASS_NS]
        if self.amount_bytes is not None:
            rate = min(rate_bytes_s, self.rate_bytes_s or rate_bytes_s)
            limits.append(self.amount_bytes / rate * 1e9)
        return min(x for x in limits if x is not None)

    def add_cost(self, cost: PlanCost, session: Session, passes: int) -> None:
        """See `Step.add_cost`."""
        work = self.workload(0)
        cost.endless = cost.endless or work.endless
        if self.fresh:
            cost.laid_out_bytes = 0
        else:
            missing = session.to_lay_out_bytes(work)
            more = max(missing - cost.laid_out_bytes, 0)
            cost.certain_bytes += more
            cost.time_ns += round(more / cost.rate_bytes_s * 1e9)
            cost.laid_out_bytes = max(cost.laid_out_bytes, missing)
        share = 1 - self.read_percent / 100
        if self.amount_bytes is not None:
            cost.certain_bytes += round(self.amount_bytes * share) * passes
        elif self.time is not None and self.writes:
            cost.writing_ns += round(self.time * share) * passes
        cost.take_space(self.span)

    def room_bytes(self, rate_bytes_s: float) -> float:
        """See `Step.room_bytes`."""
        if not self.writes or self.time is None or self.once:
            return 0.0
        rate = min(rate_bytes_s, self.rate_bytes_s or math.inf)
        return (1 - self.read_percent / 100) * rate * self.time / 1e9

    def run(self, run: StepRun) -> StepResult:
        """Repeat the pass until the passes are enough."""
        first = self.workload(0)
        run.begin(self, run.session.engine_for(first), self.span, first)
        return run.finish(run.repeat(lambda number: self._pass(run, number)))

    def _pass(self, run: StepRun, number: int) -> Trace:
        work = self.workload(run.seed(number), stop_on_error=run.stop_on_error)
        if self.once and run.share_ns is not None:
            allowed = max(run.share_ns, 10**9)
            work = replace(work, time_ns=min(work.time_ns or run.share_ns, allowed))
        run.prepare(work)
        return run.measure(work, number)


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
    """A check for `Cursor.read` of a block size."""
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


def _read_head(cursor: Cursor) -> dict[str, Any]:
    """The first words: order, direction and block."""
    order = cursor.choice("'sequential' or 'random'", "sequential", "random")
    direction = cursor.choice("'read', 'write' or 'mixed'", "read", "write", "mixed")
    share = {"read": 100, "write": 0}.get(direction)
    if share is None:
        share = cursor.read(percentage, "a share such as 70%", in_range((1, 99), "a percentage"))
        cursor.choice("'read' (the share of I/Os that read)", "read")
    block = cursor.read(parse_size, "a block such as 4KiB", block_fault)
    return {"random": order == "random", "read_percent": share, "block_bytes": block}


def _spell_head(step: IoStep) -> list[str]:
    """The first words as two parts: the access, the block."""
    order = "random" if step.random else "sequential"
    direction = {100: "read", 0: "write"}.get(step.read_percent, f"mixed {step.read_percent}% read")
    return [f"{order} {direction}", spell_size(step.block_bytes)]


def _read(cursor: Cursor) -> dict[str, Any]:
    values = _read_head(cursor)
    left: list[Clause] = list(CLAUSES)
    places: dict[str, int] = {}
    while cursor.next is not None:
        start = cursor.at
        clause = next((c for c in left if cursor.accept(*c.keywords)), None)
        if clause is None:
            if any(cursor.accept(*c.keywords) for c in CLAUSES):
                raise cursor.wrong("each part once only", cursor.words[start])
            raise cursor.wrong(_list([c.shown for c in left]) if left else "nothing more")
        left.remove(clause)
        read = clause.read(cursor)
        places |= dict.fromkeys(read, start)
        values |= read
    _refuse_contradictions(cursor, values, places)
    return values


def _refuse_contradictions(cursor: Cursor, values: dict[str, Any], places: dict[str, int]) -> None:
    block = values["block_bytes"]
    if values["read_percent"] == 100:
        for name, what in (
            ("durable", "'durable' only where something is written"),
            ("compressible_percent", "'payload' only where something is written"),
        ):
            if values.get(name):
                raise cursor.wrong(what, cursor.words[places[name]])
    if "until_stopped" in values:
        for name in ("time_ns", "amount_bytes", "amount_free_percent"):
            if name in values:
                raise cursor.wrong(
                    "either 'until stopped' or a time and an amount", cursor.words[places[name]]
                )
    for name in ("amount_bytes", "span_bytes"):
        if name in values and values[name] < block:
            raise cursor.wrong(
                f"at least one block ({block} bytes)", cursor.words[places[name] + 1]
            )


def _list(names: list[str]) -> str:
    return ", ".join(names[:-1]) + " or " + names[-1] if len(names) > 1 else names[0]
