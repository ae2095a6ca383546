"""The steps that are no plain access.

A scan of the surface, copying real files, filling, giving back, resting.

Each says how it is read and how it is spelled; a new sort of step is a class here and a row in
`HEADS`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from jovik.base.quantities import parse_size, parse_time, spell_size, spell_time
from jovik.steps.clauses import BLOCKS, above_zero, in_range, percentage, whole
from jovik.steps.step import Step
from jovik.steps.tokens import Cursor

ZONES = (2, 10_000)
FILES = (1, 1_000_000)
FILL = (1, 99)
SCAN_BLOCK_BYTES = 2**20
REST_LIMIT_NS = 10 * 60 * 10**9
"""How long a rest that waits for something waits when the phrase does not say."""


@dataclass(frozen=True)
class ScanStep(Step):
    """Rate and access time from the first to the last address, in zones of equal size.

    `span_bytes` None is the whole device, or on a file system the area of the default span.
    """

    zones: int
    block_bytes: int = SCAN_BLOCK_BYTES
    span_bytes: int | None = None

    reads = True
    once = True

    def parts(self, *, timed: bool = True) -> list[str]:
        """See `Step.parts`."""
        block = "" if self.block_bytes == SCAN_BLOCK_BYTES else f" {spell_size(self.block_bytes)}"
        within = [] if self.span_bytes is None else [f"within {spell_size(self.span_bytes)}"]
        return [f"scan read{block} in {self.zones} zones", *within]

    @classmethod
    def read(cls, cursor: Cursor) -> ScanStep:
        """What comes behind ``scan``."""
        cursor.choice("'read'", "read")
        block, zones, span = SCAN_BLOCK_BYTES, None, None
        if cursor.next is not None and cursor.next.text[:1].isdigit():
            block = cursor.read(
                parse_size,
                "a block such as 1MiB",
                lambda n: "" if BLOCKS[0] <= n <= BLOCKS[1] and n % 512 == 0 else "a block",
            )
        while cursor.next is not None:
            if zones is None and cursor.accept("in"):
                zones = cursor.read(
                    whole, "a number of zones such as 200", in_range(ZONES, "a number of zones")
                )
                cursor.choice("'zones'", "zones")
            elif span is None and cursor.accept("within"):
                span = cursor.read(parse_size, "a span such as 1GB", above_zero("a span"))
            else:
                raise cursor.wrong("in N zones or within SPAN")
        if zones is None:
            raise cursor.wrong("in N zones")
        return cls(zones, block, span)


@dataclass(frozen=True)
class CopyStep(Step):
    """Real files copied onto the drive or off it, as a desktop copies them.

    Either `folder` (a person's own) or `files` made-up ones of `file_bytes` each.
    """

    inward: bool
    folder: str | None = None
    files: int = 0
    file_bytes: int = 0

    @property
    def reads(self) -> bool:
        """Copying out reads the drive."""
        return not self.inward

    @property
    def writes(self) -> bool:
        """Even copying out has to put the files there first."""
        return True

    def parts(self, *, timed: bool = True) -> list[str]:
        """See `Step.parts`."""
        head = f"copy {'in' if self.inward else 'out'}"
        if self.folder is not None:
            return [head, f'"{self.folder}"']
        return [
            head,
            f"{self.files} file{'s' if self.files > 1 else ''}",
            f"of {spell_size(self.file_bytes)}",
        ]

    @property
    def label(self) -> str:
        """``copy in, 4000 files of 2.5 MB``."""
        head, *rest = super().label.split(", ")
        return f"{head}, {' '.join(rest)}"

    @classmethod
    def read(cls, cursor: Cursor) -> CopyStep:
        """What comes behind ``copy``."""
        inward = cursor.choice("'in' or 'out'", "in", "out") == "in"
        word = cursor.next
        if word is not None and len(word.text) > 2 and word.text[0] == word.text[-1] == '"':
            cursor.at += 1
            step = cls(inward, folder=word.text[1:-1])
        else:
            files = cursor.read(
                whole,
                "a folder in quotes, or a number of files",
                in_range(FILES, "a number of files"),
            )
            cursor.choice("'files of SIZE'", "file", "files")
            cursor.choice("'of SIZE'", "of")
            step = cls(
                inward,
                files=files,
                file_bytes=cursor.read(parse_size, "a size such as 2.5MB", above_zero("a size")),
            )
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return step


@dataclass(frozen=True)
class FillStep(Step):
    """Write until the target is this full."""

    percent: int

    measures = False
    writes = True
    once = True

    def parts(self, *, timed: bool = True) -> list[str]:
        """See `Step.parts`."""
        return [f"fill to {self.percent}%"]

    @classmethod
    def read(cls, cursor: Cursor) -> FillStep:
        """What comes behind ``fill``."""
        cursor.choice("'to N%'", "to")
        step = cls(
            cursor.read(percentage, "a fill level such as 90%", in_range(FILL, "a percentage"))
        )
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return step


@dataclass(frozen=True)
class DiscardStep(Step):
    """Give all space back that Jovik took, and tell the drive so where the file system can."""

    measures = False
    once = True

    def parts(self, *, timed: bool = True) -> list[str]:
        """See `Step.parts`."""
        return ["empty"]

    @classmethod
    def read(cls, cursor: Cursor) -> DiscardStep:
        """Nothing comes behind ``empty``."""
        if cursor.next is not None:
            raise cursor.wrong("nothing more")
        return cls()


@dataclass(frozen=True)
class IdleStep(Step):
    """Stay idle for a time, until cool enough, or until writes are fast again.

    `time_ns` is the time, or with a condition the longest that is waited for it.
    """

    time_ns: int
    cool_c: int | None = None
    recovered: bool = False

    measures = False
    once = True

    @property
    def waits(self) -> bool:
        """Whether it waits for something else than time."""
        return self.cool_c is not None or self.recovered

    @property
    def writes(self) -> bool:
        """Whether the drive has recovered is found out by short writes."""
        return self.recovered

    def parts(self, *, timed: bool = True) -> list[str]:
        """See `Step.parts`."""
        if not self.waits:
            return [f"rest {spell_time(self.time_ns)}"]
        limit = [] if self.time_ns == REST_LIMIT_NS else [f"for at most {spell_time(self.time_ns)}"]
        return [f"rest until {'recovered' if self.recovered else f'{self.cool_c}C'}", *limit]

    @classmethod
    def read(cls, cursor: Cursor) -> IdleStep:
        """What comes behind ``rest``."""
        if not cursor.accept("until"):
            step = cls(
                cursor.read(parse_time, "a time such as 60s, or 'until'", above_zero("a time"))
            )
        else:
            recovered = cursor.accept("recovered")
            cool = (
                None
                if recovered
                else cursor.read(
                    _degrees,
                    "'recovered' or a temperature such as 45C",
                    in_range((1, 120), "degrees"),
                )
            )
            limit = REST_LIMIT_NS
            if cursor.accept("for", "at", "most"):
                limit = cursor.read(parse_time, "a time such as 10min", above_zero("a time"))
            step = cls(limit, cool, recovered)
        if cursor.next is not None:
            raise cursor.wrong(
                "'for at most TIME' or nothing more" if step.waits else "nothing more"
            )
        return step


def _degrees(text: str) -> int:
    if not text.endswith(("C", "c")):
        raise ValueError("not a temperature")
    return whole(text[:-1].strip())


HEADS: dict[str, Callable[[Cursor], Step]] = {
    "scan": ScanStep.read,
    "copy": CopyStep.read,
    "fill": FillStep.read,
    "empty": DiscardStep.read,
    "rest": IdleStep.read,
}
"""The first word of each of these steps, and what reads the rest."""
