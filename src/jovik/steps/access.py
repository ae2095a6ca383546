"""An I/O step: sequential or random, every number resolved, one canonical spelling."""

from __future__ import annotations

from dataclasses import dataclass

from jovik.steps.clauses import CLAUSES, spell_head
from jovik.steps.step import Step

DEFAULT_TIME_NS = 10 * 10**9
"""How long a pass runs when the phrase says neither `for` nor `over`."""
DEFAULT_SPAN_BYTES = 2**30
"""The area a pass falls in when neither `within` nor a sequential `over` says so."""


@dataclass(frozen=True)
class IoStep(Step):
    """One access phrase.

    `read_percent` is 100 for ``read``, 0 for ``write``, between for ``mixed``. `time_ns`,
    `amount_bytes` and `span_bytes` are None where the default applies; `time` and `span` say what
    that is. `amount_free_percent` is an amount as a share of what is free on the target, which only
    the target can turn into `amount_bytes`; `until_stopped` is a pass that a person ends. Of
    `rate_bytes_s` and `rate_iops` at most one is set.
    """

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
        return spell_head(self) + [s for s in spelled if s]
