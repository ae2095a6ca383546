"""The site: a page for each drive, the ranking, drives side by side, classes, a feed, a map.

Each page holds a digest of its inputs, so that only what changed is repeated. Addresses are kept
on the shelf (`jovik.base.page_address`), because others may write to the folder of a site.
"""

from __future__ import annotations

import hashlib
import logging
import multiprocessing
import os
import re
import uuid
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import cache, partial
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from jovik.base.atomic_files import MADE_WITH_JOVIK, ends_of
from jovik.base.errors import ShelfError, UsageError
from jovik.base.long_work import tracked
from jovik.base.page_address import CLASS_PREFIX
from jovik.base.rate_unit import iops_first, rate_unit
from jovik.base.text_files import read_text
from jovik.base.version import VERSION
from jovik.queries.drive_class import class_of
from jovik.queries.instrument import logged_figures, logged_of
from jovik.queries.ranking import RankingReport, ranking_report
from jovik.queries.twin import twin_of
from jovik.report.answers import DriveAnswer, answers_of
from jovik.report.card import draw_card
from jovik.report.document import Document, HeadTag, Links, Paragraph, Section
from jovik.report.language import in_language
from jovik.report.overview import class_page, front_page, side_by_side
from jovik.report.page_files import PageFile, check_files, html_file, make_folder, write_files
from jovik.report.privacy import folders_of, without_paths
from jovik.report.review import review
from jovik.report.reviewer_text import words_beside
from jovik.report.translation import Translator
from jovik.shelf.archive import twins_archive
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf
from jovik.simulator.twin_file import twin_toml

log = logging.getLogger(__name__)

ATOM = "http://www.w3.org/2005/Atom"
SITEMAP = "http://www.sitemaps.org/schemas/sitemap/0.9"
DIGEST_TAG = "jovik-inputs"
TWINS = "twins.zip"
"""The archive of all twins (docs/your-work.md)."""


@dataclass(frozen=True)
class SitePage:
    """A page of a drive: name, address, last measurement, and the digest of its inputs."""

    drive: str
    address: str
    updated: str
    key: str


def check_base_url(text: str) -> str:
    """Return the address of a site, with a slash at its end.

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
    translator: Translator | None = None,
    *,
    base_url: str | None = None,
    on_written: Callable[[Path], None] = lambda _: None,
    force: bool = False,
) -> list[Path]:
    """Write the whole site, as far as it is not as it should be already.

    Parameters
    ----------
    translator : Translator, optional
        Of pages in another language than English.
    base_url : str, optional
        Where it will be found: pictures for those who link to it, and a map for search engines,
        need that.
    on_written : callable
        Called with each file as soon as it is written.

    Returns
    -------
    list of Path
        The files that were written.
    """
    ranked_drives = ranking_report(shelf)
    pages = _pages(shelf, ranked_drives, base_url, translator)
    links = {p.drive: f"{p.address}.html" for p in pages}
    # Asked for only if a page that is not as it should be shows them.
    answers = cache(lambda: answers_of(shelf, ranked_drives, links))
    common = _common_pages(shelf, ranked_drives, links, folder, answers)
    whole = _digest([(p.address, p.key) for p in pages], sorted(common))
    names = [*common, *links.values(), "feed.xml", TWINS]
    if base_url is not None:
        names += [f"{p.address}.png" for p in pages] + ["sitemap.xml"]
    check_files(
        (folder / n for n in [*names, *(_twin_file(p.address) for p in pages)]), force=force
    )
    make_folder(folder)
    written: list[Path] = []

    def keep(paths: Sequence[Path]) -> None:
        written.extend(paths)
        for path in paths:
            on_written(path)

    gone = {n for n in names if not (folder / n).exists()}
    stale = [p for p in pages if _marks_of(folder / f"{p.address}.html")[:1] != [p.key]]
    made = _each_page(_Work(shelf, ranked_drives, folder, translator, base_url, force), stale)
    for done in tracked(made, "pages", len(stale)):
        keep(done)
    if stale or gone or _marks_of(folder / "index.html") != [whole]:
        hide = folders_of(shelf.results.copied())
        files = [
            html_file(
                _headed(
                    in_language(without_paths(content(), hide), translator), n, base_url, whole
                ),
                folder / n,
            )
            for n, content in common.items()
        ]
        files.append(PageFile(folder / "feed.xml", _feed(pages, answers(), translator, base_url)))
        twins = {f.name: read_text(f) for f in _twins_in(folder, (p.address for p in pages))}
        files.append(PageFile(folder / TWINS, twins_archive(twins)))
        if base_url is not None:
            listed = ["index.html", "compare.html", *links.values()]
            files.append(PageFile(folder / "sitemap.xml", _sitemap(listed, pages, base_url)))
        keep(write_files(files, force=force))
    return written


def _digest(*inputs: object) -> str:
    return hashlib.sha256(repr((VERSION, inputs)).encode()).hexdigest()[:32]


def _marks_of(page: Path) -> list[str]:
    """Return the digest of its inputs that a page holds, and the names of the files beside it.

    Nothing if there is no such page, or one of these files is missing.
    """
    tag = f'<meta name="{DIGEST_TAG}" content="([0-9a-f]{{32}}(?: [a-z0-9.-]+)*)">'.encode()
    match = re.search(tag, ends_of(page))
    marks = match[1].decode().split() if match else []
    return marks if all((page.parent / n).exists() for n in marks[1:]) else []


def _pages(
    shelf: Shelf, found: RankingReport, base_url: str | None, translator: Translator | None
) -> list[SitePage]:
    """List a page for each measured drive, at the address that it keeps from now on."""
    measured = dict.fromkeys(shelf.results.drives_in_order())
    addresses, stored = shelf.sheets.page_addresses(), shelf.sheets.stored_addresses()
    changed = {drive: addresses[drive] for drive in measured if addresses[drive] != stored[drive]}
    try:
        if changed:
            shelf.additions.keep_addresses(changed)
    except ShelfError as error:
        log.warning("a drive that is renamed would get another address: %s", error.message)
    runs: dict[str, list[RunRecord]] = {}
    for run in shelf.runs.every():
        runs.setdefault(run.drive, []).append(run)
    # The figures of rivals are on every page, and so is what was corrected: claims of rivals,
    # prices, results that were excluded. Drives that were not measured are on the front page.
    everything = _digest(
        *(found.ranking, found.standings, found.passed_over, shelf.changes.entries()),
        *(shelf.sheets.drives(), rate_unit(), iops_first()),
        translator and translator.catalogue,
    )
    pages = []
    for drive in measured:
        words = words_beside(shelf.where, drive)
        about = (
            *(base_url, asdict(shelf.sheets.get(drive)), everything),
            [(r.id, r.ended, r.excluded) for r in runs.get(drive, [])],
            [shelf.runs.rig(name) for name in sorted({r.rig for r in runs.get(drive, [])})],
            [asdict(n) for n in shelf.notes.of(drive)],
            [asdict(n) for n in shelf.notes.readings(drive)],
            [(x.run, x.quantity, x.written) for x in shelf.notes.logs(drive)],
            words.read_text(encoding="utf-8") if words is not None and words.exists() else None,
        )
        last = max((r.started for r in runs.get(drive, [])), default="")
        pages.append(SitePage(drive, addresses[drive], last, _digest(about)))
    return pages


@dataclass(frozen=True)
class _Work:
    """What every page of a site is made with."""

    shelf: Shelf
    found: RankingReport
    folder: Path
    translator: Translator | None
    base_url: str | None
    force: bool


def _each_page(work: _Work, pages: Sequence[SitePage]) -> Iterator[list[Path]]:
    """Write the reviews, by one process per core if that is faster."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else 1
    workers = min(cores, len(pages) // 4)
    _work[:] = [work]
    if workers < 2 or "fork" not in multiprocessing.get_all_start_methods():
        yield from map(_one_page, pages)
        return
    # A connection must not be used on both sides of a fork.
    forget = work.shelf.forget_connections
    forget()
    with multiprocessing.get_context("fork").Pool(workers, forget) as pool:
        yield from pool.imap_unordered(_one_page, pages)


_work: list[_Work] = []
"""Of a process that writes a share of the pages."""


def _one_page(page: SitePage) -> list[Path]:
    work = _work[0]
    shelf, folder = work.shelf, work.folder
    words = words_beside(shelf.where, page.drive)
    own = words if words is not None and words.exists() else None
    document = review(shelf, page.drive, words=own, found=work.found)
    document = without_paths(document, folders_of(shelf.results.copied(page.drive)))
    twin = _twin_of(shelf, folder, page)
    if twin:
        document = replace(document, sections=(*document.sections, _own_work(page)))
    document = in_language(document, work.translator)
    image, card = "", []
    if work.base_url is not None:
        image = f"{page.address}.png"
        drawn = draw_card(page.drive, work.found, document.summary, work.translator or str)
        card = [PageFile(folder / image, drawn)]
    name = f"{page.address}.html"
    marks = " ".join([page.key, *(f.path.name for f in (*card, *twin))])
    whole = html_file(_headed(document, name, work.base_url, marks, image), folder / name)
    # The page comes last: it says that all of it is as it should be.
    return write_files([*card, *twin, whole], force=work.force)


def _twin_file(address: str) -> str:
    return f"{address}-twin.toml"


def _twin_of(shelf: Shelf, folder: Path, page: SitePage) -> list[PageFile]:
    """Return the file of a drive's twin, if its results allow one."""
    try:
        found = twin_of(shelf, page.drive)
    except UsageError:
        return []
    name = _twin_file(page.address)
    return [PageFile(folder / name, twin_toml(found.twin, found.origin).encode())]


def _twins_in(folder: Path, addresses: Iterable[str]) -> list[Path]:
    """Return the twins that the pages of these addresses name.

    One that an earlier page named may still lie there.
    """
    return [
        folder / _twin_file(a)
        for a in addresses
        if _twin_file(a) in _marks_of(folder / f"{a}.html")[1:]
    ]


def _own_work(page: SitePage) -> Section:
    """Return how a reader learns what their own program would take on the drive."""
    return Section(
        "own-work",
        "Your own program",
        (
            Paragraph(
                f"The twin of {page.drive} is a small model fitted to the results above. With it, "
                "Jovik predicts what a program that you record on your own computer would take on "
                "this drive, without the drive."
            ),
            Links((("the twin of this drive", _twin_file(page.address)), ("all twins", TWINS))),
        ),
    )


def _common_pages(
    shelf: Shelf,
    found: RankingReport,
    addresses: Mapping[str, str],
    folder: Path,
    answers: Callable[[], dict[str, DriveAnswer]],
) -> dict[str, Callable[[], Document]]:
    """Return the front, drives side by side, and a page for each class that a drive is of."""
    classes: dict[str, tuple[str, list[str]]] = {}
    for name, drive in shelf.sheets.drives().items():
        kind = class_of(drive)
        if kind is not None and name in addresses:
            classes.setdefault(kind.name, (kind.title, []))[1].append(name)
    of_class = {
        f"{CLASS_PREFIX}{n}.html": (n, title, drives)
        for n, (title, drives) in sorted(classes.items())
    }
    links = [("Drives side by side", "compare.html")]
    links += [(title, page) for page, (_, title, _) in of_class.items()]

    def own_program() -> list[tuple[str, str]]:
        twins = _twins_in(folder, (Path(page).stem for page in addresses.values()))
        return [("Your own program on each of them: their twins", TWINS)] if twins else []

    def of_one_class(name: str, title: str, drives: list[str]) -> Document:
        return class_page(found, addresses, answers(), name, title, drives)

    return {
        "index.html": lambda: front_page(
            shelf, found, addresses, answers(), [*links, *own_program()]
        ),
        "compare.html": lambda: side_by_side(
            found, addresses, {n: logged_figures(shelf, logged_of(shelf, n)) for n in addresses}
        ),
        **{page: partial(of_one_class, *of) for page, of in of_class.items()},
    }


def _headed(
    document: Document, name: str, base_url: str | None, digest: str, image: str = ""
) -> Document:
    """Return the document with the data for link previews and feeds."""
    about = document.summary or document.subtitle
    tags = [
        HeadTag("meta", (("name", DIGEST_TAG), ("content", digest))),
        HeadTag("meta", (("property", "og:title"), ("content", document.title))),
        HeadTag("meta", (("property", "og:type"), ("content", "article"))),
        HeadTag("meta", (("property", "og:description"), ("content", about))),
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


def _feed(
    pages: Sequence[SitePage],
    answers: Mapping[str, DriveAnswer],
    translator: Translator | None,
    base_url: str | None,
) -> bytes:
    """Return an Atom feed (RFC 4287), the drive measured last first."""
    say = translator or str
    ElementTree.register_namespace("", ATOM)
    feed = ElementTree.Element(f"{{{ATOM}}}feed")
    _add(feed, "title", say("Drives measured"))
    _add(feed, "id", _name_of(base_url or "jovik"))
    _add(feed, "updated", max((p.updated for p in pages), default="1970-01-01T00:00:00Z"))
    own = {"rel": "self", "href": f"{base_url or ''}feed.xml", "type": "application/atom+xml"}
    ElementTree.SubElement(feed, f"{{{ATOM}}}link", own)
    author = ElementTree.SubElement(feed, f"{{{ATOM}}}author")
    _add(author, "name", "Jovik")
    for page in sorted(pages, key=lambda p: p.updated, reverse=True):
        entry = ElementTree.SubElement(feed, f"{{{ATOM}}}entry")
        _add(entry, "title", page.drive)
        _add(entry, "id", _name_of(f"{base_url or ''}{page.address}"))
        _add(entry, "updated", page.updated)
        found = answers[page.drive]
        warning = "" if found.warning in found.sentence else f" {found.warning}."
        _add(entry, "summary", say(f"{found.words}{warning}"))
        address = f"{base_url or ''}{page.address}.html"
        ElementTree.SubElement(entry, f"{{{ATOM}}}link", {"href": address})
    return _xml(feed)


def _name_of(text: str) -> str:
    """Return a name that stays the same wherever the feed lies."""
    return f"urn:uuid:{uuid.uuid5(uuid.NAMESPACE_URL, text)}"


def _sitemap(names: Sequence[str], pages: Sequence[SitePage], base_url: str) -> bytes:
    """Return a map of the site for search engines (sitemaps.org, 0.9)."""
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
    from jovik.base.terminal_text import strip_control

    ElementTree.SubElement(parent, f"{{{ATOM}}}{name}").text = strip_control(text)


def _xml(top: Any) -> bytes:
    top.insert(0, ElementTree.Comment(f" {MADE_WITH_JOVIK.decode()} "))
    text: bytes = ElementTree.tostring(top, encoding="utf-8", xml_declaration=True)
    return text
