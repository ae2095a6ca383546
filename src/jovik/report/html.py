"""A document as one self-contained HTML file with a strict content policy."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any

from jovik.base.quantities import parse_size, parse_time
from jovik.base.terminal_text import isolated
from jovik.charts.provenance import LONGEST_NAME, truncate
from jovik.charts.svg import chart_svg
from jovik.report.document import (
    Bullets,
    ClaimMarks,
    CsvAttachment,
    Document,
    Facts,
    Links,
    Paragraph,
    Picture,
    ReviewerText,
    SiteTable,
)
from jovik.report.reviewer_text import as_html
from jovik.report.translation import english_of, stays_english
from jovik.tables import Table

VERDICTS = {
    "met": "good",
    "beaten": "good",
    "faster": "good",
    "yes": "good",
    "OK": "good",
    "short": "bad",
    "suspect": "bad",
    "slower": "bad",
    "no": "bad",
    "too close to call": "open",
    "one pass": "open",
    "held back": "open",
    "untested": "open",
    "warning": "bad",
}
"""Cells with a verdict, and their colour, which supplements the word."""


@dataclass(frozen=True)
class Script:
    """A script that asks the server of a page whether it changed, and the page's mark."""

    source: str
    mark: str


def render_html(document: Document, script: Script | None = None) -> str:
    """Return the page.

    Parameters
    ----------
    script : Script, optional
        Of a page that is served while it is written.

    Its content security policy names the hashes of its own style and script, and lets in pictures
    that it carries itself; so whatever a drive's strings hold, nothing of it can run or load
    anything.
    """
    from markupsafe import Markup, escape

    named = _setting(document.names)

    def say(words: str, **filled: object) -> str:
        return document.words.get(words, words).format(**filled)

    def titled(text: str) -> str:
        words = str(escape(named(text)))
        return f'<span lang="en">{words}</span>' if stays_english(text) else words

    style, own = _part("page.css"), _part("page.js")
    scripts = [own] if script is None else [own, script.source]
    admitted = " ".join(f"'{_hash(x)}'" for x in scripts)
    policy = (
        f"default-src 'none'; img-src data:; style-src '{_hash(style)}'; script-src "
        f"{admitted}; base-uri 'none'; form-action 'none'"
    )
    if script is not None:
        policy += "; connect-src 'self'"
    return str(
        _templates()
        .get_template("page.html")
        .render(
            document=document,
            named=named,
            # Every word in a chart is escaped where it is drawn.
            svg=lambda p: Markup(
                chart_svg(p.chart, p.name, p.alt, titled, say("Lines of this chart"))
            ),
            style=style,
            scripts=scripts,
            policy=policy,
            mark=script.mark if script is not None else "",
            say=say,
            # What no catalogue has stays English (`jovik.report.translation`).
            lang=lambda text: Markup(' lang="en"') if stays_english(text) else "",
            verdict_of=lambda cell: VERDICTS.get(english_of(cell), ""),
        )
    )


def special_names(names: Iterable[str]) -> tuple[str, ...]:
    """Return the names that need shortening, or isolation because they run from right to left."""
    special = {n for n in names if len(n) > LONGEST_NAME or isolated(n) != n}
    return tuple(sorted(special, key=len, reverse=True))


def _setting(names: Sequence[str]) -> Callable[[str], Any]:
    """Return a function that renders text with these names isolated, and long ones shortened."""
    from markupsafe import Markup, escape

    if not names:
        return isolated
    pattern = re.compile("|".join(map(re.escape, names)))

    def named(text: str) -> Any:
        parts, end = [], 0
        for m in pattern.finditer(text):
            name = escape(isolated(m[0]))
            if len(m[0]) > LONGEST_NAME:
                short = escape(isolated(truncate(m[0], LONGEST_NAME)))
                name = Markup(f'<span title="{name}">{short}</span>')
            parts += [escape(isolated(text[end : m.start()])), name]
            end = m.end()
        return Markup("").join([*parts, escape(isolated(text[end:]))])

    return named


def as_data(content: bytes, kind: str) -> str:
    """Return bytes as a link that holds them."""
    return f"data:{kind};base64,{base64.b64encode(content).decode()}"


def sort_key(cell: str) -> str:
    """Return the sort key of a cell.

    The number it begins with, in base units where it is a size or a time; empty if it is text.

    ``1.20 PB`` is 1.2e15, ``2.5 ms`` 2.5e6 (ns), ``7,050 to 7,300`` 7050, ``3-4`` 3.
    """
    cell = english_of(cell)
    match = re.match(r"-?\d[\d,]*(?:\.\d+)?", cell)
    if match is None:
        return ""
    # A time of two units (4 min 1 s), then a single one, then a size; what is neither sorts by its
    # bare number.
    parts = re.findall(r"([\d,.]+) ?(ns|µs|us|ms|s|min|h|d)\b", cell)
    if parts and re.fullmatch(r"(?:[\d,.]+ ?(?:ns|µs|us|ms|s|min|h|d) ?)+", cell):
        return str(sum(parse_time(f"{n.replace(',', '')}{u}") for n, u in parts))
    if re.fullmatch(r"[\d,.]+ ?[kMGTP]B", cell):
        return str(parse_size(cell.replace(",", "").replace(" ", "")))
    return match[0].replace(",", "")


@cache
def _part(name: str) -> str:
    return (files("jovik.report") / "templates" / name).read_text(encoding="utf-8")


def _hash(text: str) -> str:
    return f"sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}"


@cache
def _templates() -> Any:
    from jinja2 import Environment, PackageLoader, StrictUndefined
    from markupsafe import Markup

    environment = Environment(
        loader=PackageLoader("jovik.report"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    sorts: dict[str, type] = {
        "paragraph": Paragraph,
        "bullets": Bullets,
        "marks": ClaimMarks,
        "facts": Facts,
        "picture": Picture,
        "words": ReviewerText,
        "figures": CsvAttachment,
        "links": Links,
        "site": SiteTable,
        "table": Table,
    }
    environment.tests |= {name: _is(sort) for name, sort in sorts.items()}
    filters: dict[str, Any] = {
        "plain": isolated,
        "sort_key": sort_key,
        "csv": lambda text: as_data(text.encode(), "text/csv;charset=utf-8"),
        # Beside the charts, the only place where HTML comes from elsewhere: made by `as_html`,
        # which lets no markup of the writer's through.
        "words": lambda markdown: Markup(as_html(markdown)),
        "sorts": _sorts,
    }
    environment.filters |= filters
    return environment


def _is(sort: type) -> Any:
    return lambda block: isinstance(block, sort)


def _sorts(rows: Sequence[Sequence[str]]) -> bool:
    """Return True if a table gains by being sorted.

    A table that names its step once for several rows would lose its meaning.
    """
    return len(rows) > 2 and all(row[0] for row in rows)
