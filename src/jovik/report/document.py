"""A document as plain data.

Sections of paragraphs, lists, tables and pictures, which each form of the review sets in its own
way.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from jovik.charts.chart import Chart
from jovik.tables import Table


@dataclass(frozen=True)
class Paragraph:
    """A few sentences. `loud` marks the verdict's first line."""

    text: str
    loud: bool = False


@dataclass(frozen=True)
class Bullets:
    """A list under a heading of its own, such as the best uses of a drive.

    `mark` replaces the bullet.
    """

    title: str
    items: tuple[str, ...]
    mark: str = "-"


@dataclass(frozen=True)
class Picture:
    """A chart with a name for its file.

    A page draws the chart by itself. `light` and `dark` are its PNG bytes in both themes for other
    media, once `jovik.report.pictures.render_pictures` has rendered them.
    """

    name: str
    chart: Chart = field(repr=False)
    light: bytes = b""
    dark: bytes = b""

    @property
    def alt(self) -> str:
        """Return the content of the picture in words."""
        return self.chart.about.alt


@dataclass(frozen=True)
class ClaimMarks:
    """Claims as a row of marks: each with its label, figure, verdict and style.

    `items` hold label, figure, claimed figure, verdict in words, and ``good``, ``bad`` or ``open``.
    """

    items: tuple[tuple[str, str, str, str, str], ...]
    claimed: str = "claimed"


@dataclass(frozen=True)
class Facts:
    """Names with their values, such as a price."""

    items: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class ReviewerText:
    """The reviewer's own Markdown."""

    markdown: str


@dataclass(frozen=True)
class CsvAttachment:
    """Raw figures as CSV, to take along."""

    name: str
    csv: str
    what: str


@dataclass(frozen=True)
class Links:
    """Names that lead to other pages in the same folder."""

    items: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class SiteTable:
    """A table whose rows lead to pages, and that a reader of a site can narrow.

    Attributes
    ----------
    column : int
        The column that carries the links.
    hrefs : tuple of str or None
        Of each row.
    filters : tuple of (int, str)
        Columns to narrow by: ``choice`` among what they hold, ``most`` a number.
    chooses : bool
        Whether columns but the first are chosen, two to six at once.
    """

    table: Table
    column: int = 0
    hrefs: tuple[str | None, ...] = ()
    filters: tuple[tuple[int, str], ...] = ()
    chooses: bool = False


Block = (
    Paragraph
    | Bullets
    | ClaimMarks
    | Facts
    | Picture
    | ReviewerText
    | CsvAttachment
    | Links
    | SiteTable
    | Table
)


@dataclass(frozen=True)
class Section:
    """A part of a document. `key` names it in links.

    A `folded` one is small print that a page of HTML opens on request.
    """

    key: str
    title: str
    blocks: tuple[Block, ...]
    folded: bool = False


@dataclass(frozen=True)
class HeadTag:
    """A tag for the head of a page: ``meta`` or ``link``, with its attributes."""

    tag: str
    attributes: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Document:
    """A page: its title, a line below it, its sections, and a last line on how it came about.

    `names` are those of drives that a page of HTML shortens or keeps apart in tables and
    sentences. `summary` is its answer in a sentence, and `data` describes it for machines in
    the vocabulary of schema.org, if it is a review. `words` are those of the page itself in its
    language, by the English ones.
    """

    title: str
    subtitle: str
    sections: tuple[Section, ...]
    colophon: str
    head: tuple[HeadTag, ...] = ()
    language: str = "en"
    names: tuple[str, ...] = ()
    summary: str = ""
    data: dict[str, Any] = field(default_factory=dict)
    words: dict[str, str] = field(default_factory=dict)

    @property
    def pictures(self) -> list[Picture]:
        """Return all of them, in order."""
        return [b for s in self.sections for b in s.blocks if isinstance(b, Picture)]
