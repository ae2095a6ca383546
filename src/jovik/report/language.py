"""A page in another language: every sentence, heading and chart label, and its numbers.

What a reviewer wrote stays as it is. A language is a catalogue (`jovik.report.languages`) that
`jovik.report.translation` reads.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import fields, is_dataclass, replace
from functools import cache
from typing import Any

from jovik.base.errors import UnknownNameError
from jovik.base.shipped import shipped_names, shipped_path
from jovik.charts.chart import Bar
from jovik.charts.provenance import LONGEST_NAME, truncate
from jovik.report.document import (
    Bullets,
    ClaimMarks,
    CsvAttachment,
    Document,
    HeadTag,
    Links,
    Picture,
    ReviewerText,
    Section,
    SiteTable,
)
from jovik.report.translation import Catalogue, Translator
from jovik.shelf.store import Shelf

ENGLISH = "en"
PAGE_WORDS = (
    *("Skip to {text}", "{figure} notes on this table", "Contents", "Claims", "all"),
    *("{text}, at most", "closer", "farther", "earlier", "later", "link to this view"),
    *("{figure} of {figure2}", "Two to six at once", "Lines of this chart"),
)
"""What a page says by itself, in its template and script."""
UNSAID: dict[type, frozenset[str]] = {
    Bar: frozenset({"mark"}),
    Bullets: frozenset({"mark"}),
    CsvAttachment: frozenset({"name", "csv"}),
    Document: frozenset({"head", "language", "names", "data", "words"}),
    HeadTag: frozenset({"tag", "attributes"}),
    Picture: frozenset({"name", "light", "dark"}),
    ReviewerText: frozenset({"markdown"}),
    Section: frozenset({"key"}),
    SiteTable: frozenset({"hrefs", "filters"}),
}
"""Texts that no reader sees, or that are the reviewer's own."""


def language_names() -> list[str]:
    """Return those that there are, English included."""
    return sorted([ENGLISH, *shipped_names("language")])


@cache
def read_language(name: str) -> Catalogue | None:
    """Return the catalogue of a language by its two letters, or None for English.

    Raises
    ------
    UnknownNameError
        There is no catalogue for it.
    """
    if name == ENGLISH:
        return None
    if name not in language_names():
        raise UnknownNameError(
            "language", name, language_names(), "docs/review.md explains how to add one"
        )
    return Catalogue(**json.loads(shipped_path("language", name).read_text(encoding="utf-8")))


def translator_for(shelf: Shelf, name: str) -> Translator | None:
    """Return what says the pages of a shelf in a language, or None for English.

    Raises
    ------
    UnknownNameError
        There is no catalogue for it.
    """
    catalogue = read_language(name)
    if catalogue is None:
        return None
    names = list(shelf.sheets.names())
    written = [[*shelf.notes.of(n), *shelf.notes.readings(n), shelf.sheets.get(n)] for n in names]
    runs = [(run.plan, run.rig, run.device) for run in shelf.runs.every()]
    samples = [(s.name, s.serial_tail) for n in names for s in shelf.sheets.samples(n)]
    full = [f"{d.maker} {d.model}" for d in shelf.sheets.drives().values()]
    # Charts and tables shorten names.
    short = [truncate(n, LONGEST_NAME) for n in names]
    return Translator(catalogue, [*names, *short], _texts([written, runs, samples, full]))


def _texts(thing: Any) -> Iterator[str]:
    """Yield every text in plain data."""
    if isinstance(thing, str):
        yield thing
    elif isinstance(thing, tuple | list | dict):
        for part in thing.values() if isinstance(thing, dict) else thing:
            yield from _texts(part)
    elif is_dataclass(thing):
        for f in fields(thing):
            yield from _texts(getattr(thing, f.name))


def in_language(document: Document, translator: Translator | None) -> Document:
    """Return a page in the language of a translator; as it is if there is none."""
    if translator is None:
        return document
    said: Document = _said(document, translator)
    language, messages = translator.catalogue.language, translator.catalogue.messages
    data = dict(document.data)
    if data:
        data |= {"reviewBody": str(translator(data["reviewBody"])), "inLanguage": language}
    words = {w: messages.get(w) or str(translator(w)) for w in PAGE_WORDS}
    return replace(said, language=language, data=data, words=words)


def _said(thing: Any, translator: Translator) -> Any:
    """Return plain data with every text that a reader sees in the language."""
    if isinstance(thing, str):
        return translator(thing) if thing.strip() else thing
    if isinstance(thing, tuple | list):
        return type(thing)(_said(t, translator) for t in thing)
    if isinstance(thing, ClaimMarks):
        items = tuple((*_said(i[:4], translator), i[4]) for i in thing.items)
        return replace(thing, items=items, claimed=translator(thing.claimed))
    if isinstance(thing, Links):
        return replace(thing, items=tuple((translator(name), at) for name, at in thing.items))
    if is_dataclass(thing) and not isinstance(thing, type):
        unsaid = UNSAID.get(type(thing), frozenset())
        changed = {
            f.name: _said(getattr(thing, f.name), translator)
            for f in fields(thing)
            if f.init and f.name not in unsaid
        }
        return replace(thing, **changed)
    return thing
