"""The site: a page for each drive, the ranking, drives side by side, classes, a feed, a map.

What it is made from is kept in ``site.json`` beside the pages, so that only what changed is made
again, and so that a drive keeps its address when it is renamed.
"""

from __future__ import annotations

import hashlib
import json
import multiprocessing
import os
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from jovik.base.atomic_files import cannot_write, write_atomically
from jovik.base.errors import UsageError
from jovik.base.sanitize import file_name
from jovik.base.version import VERSION
from jovik.queries.drive_class import class_of
from jovik.queries.ranking import Ranked, ranked
from jovik.report.card import draw_card
from jovik.report.document import Document, HeadTag
from jovik.report.overview import class_page, front_page, side_by_side
from jovik.report.page_files import make_folder, write_html
from jovik.report.privacy import folders_of, without_paths
from jovik.report.review import review
from jovik.report.reviewer_text import words_beside
from jovik.shelf.read_runs import RunRecord
from jovik.shelf.store import Shelf

STATE = "site.json"
STATE_FORM = "jovik site 1"
ATOM = "http://www.w3.org/2005/Atom"
SITEMAP = "http://www.sitemaps.org/schemas/sitemap/0.9"
TAKEN = {"index", "compare", "feed", "sitemap", "site"}


@dataclass(frozen=True)
class SitePage:
    """A page of a drive: its name and address, when it was measured last, and what it rests on."""

    drive: str
    address: str
    updated: str
    key: str


def check_base_url(text: str) -> str:
    """The address of a site, with a slash at its end.

    Raises
    ------
    UsageError
        It is none.
    """
    from urllib.parse import urlsplit

    try:
        parts = urlsplit(text)
    except ValueError:
        parts = urlsplit("")
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.query or parts.fragment:
        raise UsageError(
            f"'{text}' is not the address of a site", "write https://reviews.example/drives/"
        )
    return text.rstrip("/") + "/"


def publish_site(
    shelf: Shelf,
    folder: Path,
    *,
    base_url: str | None = None,
    said: Callable[[Path], None] = lambda _: None,
    force: bool = False,
) -> list[Path]:
    """Write the whole site, as far as it is not as it should be already.

    Parameters
    ----------
    base_url : str, optional
        Where it will be found: pictures for those who link to it, and a map for search engines,
        need that.
    said : callable
        Told each file as soon as it is written.

    Returns
    -------
    list of Path
        The files that were written.
    """
    make_folder(folder)
    found = ranked(shelf)
    state = _read_state(folder)
    pages = _pages(shelf, found, state, base_url)
    written: list[Path] = []

    def keep(paths: Sequence[Path]) -> None:
        written.extend(paths)
        for path in paths:
            said(path)

    stale = [p for p in pages if state["keys"].get(p.address) != p.key or not _there(folder, p)]
    for done in _each_page(shelf, found, stale, folder, base_url, force):
        keep(done)
    if stale or not (folder / "index.html").exists():
        addresses = {p.drive: f"{p.address}.html" for p in pages}
        hide = folders_of(shelf.copied())
        for name, document in _common_pages(shelf, found, addresses):
            whole = _headed(without_paths(document, hide), f"{name}.html", base_url)
            keep(write_html(whole, folder / f"{name}.html", force=force))
        keep([_write(folder / "feed.xml", _feed(pages, base_url))])
        if base_url is not None:
            names = ["index.html", "compare.html", *addresses.values()]
            keep([_write(folder / "sitemap.xml", _sitemap(names, pages, base_url))])
        kept = {"form": STATE_FORM, "addresses": state["addresses"]}
        kept["keys"] = {p.address: p.key for p in pages}
        _write(folder / STATE, json.dumps(kept, indent=1).encode())
    return written


def _there(folder: Path, page: SitePage) -> bool:
    return (folder / f"{page.address}.html").exists()


def _read_state(folder: Path) -> dict[str, dict[str, str]]:
    """Addresses by the drive's number on the shelf, and keys by address; none where there is none.

    What cannot be read is made again.
    """
    try:
        found = json.loads((folder / STATE).read_text(encoding="utf-8"))
        if found["form"] == STATE_FORM:
            return {k: {str(a): str(b) for a, b in found[k].items()} for k in ("addresses", "keys")}
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        pass
    return {"addresses": {}, "keys": {}}


def _pages(
    shelf: Shelf, found: Ranked, state: dict[str, dict[str, str]], base_url: str | None
) -> list[SitePage]:
    """A page for each measured drive, at the address that it had before."""
    numbers = shelf.drive_numbers()
    runs: dict[str, list[RunRecord]] = {}
    for run in shelf.runs():
        runs.setdefault(run.drive, []).append(run)
    taken = {*TAKEN, *state["addresses"].values()}
    others = [(d.drive, str(d.place), d.index) for d in found.ranking.drives]
    pages = []
    for drive in dict.fromkeys(r.drive for r in shelf.latest_results(ladders=True)):
        number = str(numbers[drive])
        if number not in state["addresses"]:
            plain = file_name(drive)
            names = (plain, *(f"{plain}-{n}" for n in range(2, len(taken) + 3)))
            state["addresses"][number] = next(n for n in names if n not in taken)
            taken.add(state["addresses"][number])
        words = words_beside(shelf.where, drive)
        about = (
            *(VERSION, base_url, asdict(shelf.sheet(drive)), others),
            [(r.id, r.ended, r.excluded) for r in runs.get(drive, [])],
            [asdict(n) for n in shelf.notes(drive)],
            [asdict(n) for n in shelf.readings(drive)],
            [(x.run, x.quantity, x.written) for x in shelf.logs(drive)],
            words.read_text(encoding="utf-8") if words is not None and words.exists() else None,
        )
        key = hashlib.sha256(repr(about).encode()).hexdigest()[:32]
        last = max((r.started for r in runs.get(drive, [])), default="")
        pages.append(SitePage(drive, state["addresses"][number], last, key))
    return pages


def _each_page(
    shelf: Shelf,
    found: Ranked,
    pages: Sequence[SitePage],
    folder: Path,
    base_url: str | None,
    force: bool,
) -> Iterator[list[Path]]:
    """Write the reviews, by one process a core where that pays."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1
    workers = min(cores, len(pages) // 4)
    _work[:] = [(shelf, found, folder, base_url, force)]
    if workers < 2 or "fork" not in multiprocessing.get_all_start_methods():
        yield from map(_one_page, pages)
        return
    # A connection must not be used on both sides of a fork.
    shelf.forget_connections()
    with multiprocessing.get_context("fork").Pool(workers, shelf.forget_connections) as pool:
        yield from pool.imap_unordered(_one_page, pages)


_work: list[tuple[Shelf, Ranked, Path, str | None, bool]] = []
"""Of a process that writes a share of the pages."""


def _one_page(page: SitePage) -> list[Path]:
    shelf, found, folder, base_url, force = _work[0]
    words = words_beside(shelf.where, page.drive)
    own = words if words is not None and words.exists() else None
    made = review(shelf, page.drive, words=own, found=found)
    made = without_paths(made, folders_of(shelf.copied(page.drive)))
    image, written = "", []
    if base_url is not None:
        image = f"{page.address}.png"
        written = [_write(folder / image, draw_card(page.drive, found.ranking))]
    whole = _headed(made, f"{page.address}.html", base_url, image)
    return [*write_html(whole, folder / f"{page.address}.html", force=force), *written]


def _common_pages(
    shelf: Shelf, found: Ranked, addresses: Mapping[str, str]
) -> Iterator[tuple[str, Document]]:
    """The front, drives side by side, and a page for each class that a drive is of."""
    classes: dict[str, tuple[str, list[str]]] = {}
    for name, drive in shelf.drives().items():
        kind = class_of(drive)
        if kind is not None and name in addresses:
            classes.setdefault(kind.name, (kind.title, []))[1].append(name)
    links = [("Drives side by side", "compare.html")]
    links += [(title, f"class-{n}.html") for n, (title, _) in sorted(classes.items())]
    yield "index", front_page(shelf, found, addresses, links)
    yield "compare", side_by_side(found, addresses)
    for name, (title, drives) in sorted(classes.items()):
        yield f"class-{name}", class_page(found, addresses, name, title, drives)


def _headed(document: Document, name: str, base_url: str | None, image: str = "") -> Document:
    """The document with what those who link to it, and readers of feeds, look for."""
    tags = [
        HeadTag("meta", (("property", "og:title"), ("content", document.title))),
        HeadTag("meta", (("property", "og:type"), ("content", "article"))),
        HeadTag("meta", (("property", "og:description"), ("content", document.subtitle))),
        HeadTag(
            "link",
            (("rel", "alternate"), ("type", "application/atom+xml"), ("href", "feed.xml")),
        ),
    ]
    if base_url is not None:
        tags.append(HeadTag("meta", (("property", "og:url"), ("content", base_url + name))))
        tags.append(HeadTag("link", (("rel", "canonical"), ("href", base_url + name))))
    if base_url is not None and image:
        tags.append(HeadTag("meta", (("property", "og:image"), ("content", base_url + image))))
    return replace(document, head=tuple(tags))


def _feed(pages: Sequence[SitePage], base_url: str | None) -> bytes:
    """An Atom feed (RFC 4287), the drive measured last first."""
    ElementTree.register_namespace("", ATOM)
    feed = ElementTree.Element(f"{{{ATOM}}}feed")
    _add(feed, "title", "Drives measured")
    _add(feed, "id", _name_of(base_url or "jovik"))
    _add(feed, "updated", max((p.updated for p in pages), default="1970-01-01T00:00:00Z"))
    author = ElementTree.SubElement(feed, f"{{{ATOM}}}author")
    _add(author, "name", "Jovik")
    for page in sorted(pages, key=lambda p: p.updated, reverse=True):
        entry = ElementTree.SubElement(feed, f"{{{ATOM}}}entry")
        _add(entry, "title", page.drive)
        _add(entry, "id", _name_of(f"{base_url or ''}{page.address}"))
        _add(entry, "updated", page.updated)
        address = f"{base_url or ''}{page.address}.html"
        ElementTree.SubElement(entry, f"{{{ATOM}}}link", {"href": address})
    return _xml(feed)


def _name_of(text: str) -> str:
    """A name that stays the same wherever the feed lies."""
    return f"urn:uuid:{uuid.uuid5(uuid.NAMESPACE_URL, text)}"


def _sitemap(names: Sequence[str], pages: Sequence[SitePage], base_url: str) -> bytes:
    """A map of the site for search engines (sitemaps.org, 0.9)."""
    ElementTree.register_namespace("", SITEMAP)
    top = ElementTree.Element(f"{{{SITEMAP}}}urlset")
    updated = {f"{p.address}.html": p.updated for p in pages}
    for name in names:
        url = ElementTree.SubElement(top, f"{{{SITEMAP}}}url")
        ElementTree.SubElement(url, f"{{{SITEMAP}}}loc").text = base_url + name
        if updated.get(name):
            ElementTree.SubElement(url, f"{{{SITEMAP}}}lastmod").text = updated[name]
    return _xml(top)


def _add(parent: Any, name: str, text: str) -> None:
    from jovik.base.sanitize import strip_control

    ElementTree.SubElement(parent, f"{{{ATOM}}}{name}").text = strip_control(text)


def _xml(top: Any) -> bytes:
    found: bytes = ElementTree.tostring(top, encoding="utf-8", xml_declaration=True)
    return found


def _write(path: Path, content: bytes) -> Path:
    try:
        write_atomically(path, content)
    except OSError as error:
        raise cannot_write(path, error) from None
    return path
