"""The reviewer's own words.

A Markdown file for each drive, set as HTML that can do nothing but be read.
"""

from __future__ import annotations

import re
from pathlib import Path

from jovik.base.errors import UsageError
from jovik.base.limits import REVIEW_BYTES, REVIEW_MARKS
from jovik.base.terminal_text import file_name, strip_control
from jovik.base.text_files import read_text

BEGIN_MARK, END_MARK = "\ue000", "\ue001"
"""Delimiters of highlighted text: private-use characters, which have no meaning elsewhere."""
ANSWER, VERDICT = "answer", "verdict"
"""Headings of parts that have a place of their own on the page."""
PART = r"\s*(#{1,3}) *%s *#* *\n"
"""A heading that begins such a part."""


def words_beside(shelf_at: str, drive: str) -> Path | None:
    """Return the default place of the text for a drive.

    The folder ``words`` beside the shelf; None for a shelf on a server.
    """
    return (
        None
        if "://" in shelf_at
        else Path(shelf_at).resolve().parent / "words" / f"{file_name(drive)}.md"
    )


def read_words(path: Path) -> str:
    """Return a reviewer's Markdown.

    Raises
    ------
    UsageError
        It is not there, too long, or no UTF-8 text.
    """
    text = read_text(path, REVIEW_BYTES)
    if sum(text.count(mark) for mark in "[]()<>*_`!|") > REVIEW_MARKS:
        raise UsageError(
            f"{path} has more than {REVIEW_MARKS:,} brackets and other marks of Markdown",
            "is it the right file?",
        )
    return text


def split_part(markdown: str, heading: str) -> tuple[str, str]:
    """Split off a part, such as the reviewer's verdict, if the text begins with its heading."""
    match = re.match(PART % heading, markdown, re.I)
    if match is None:
        return "", markdown
    level = len(match[1])
    rest = markdown[match.end() :]
    end = re.search(rf"^#{{1,{level}}} ", rest, re.M)
    cut = end.start() if end is not None else len(rest)
    return rest[:cut].strip(), rest[cut:]


def as_html(markdown: str) -> str:
    """Markdown as HTML.

    Markup in it is text, links lead to web pages and addresses only, pictures are left to the
    writer's own site.
    """
    from markdown_it import MarkdownIt

    # A page that must not load anything from outside cannot show a picture that lies elsewhere.
    setter = (
        MarkdownIt("commonmark", {"html": False, "linkify": False}).enable("table").disable("image")
    )
    html: str = setter.render(strip_control(markdown, keep="\n\t"))
    html = html.replace(BEGIN_MARK, "<mark>").replace(END_MARK, "</mark>")
    # The page's own headings come first: what the reviewer calls 1 lies below the section's 2.
    for level in (4, 3, 2, 1):
        html = html.replace(f"<h{level}>", f"<h{level + 2}>").replace(
            f"</h{level}>", f"</h{level + 2}>"
        )
    return html


def demote_headings(markdown: str) -> str:
    """Return the same Markdown with its headings two levels lower, to stand inside a page."""
    lines, fenced = [], False
    for line in markdown.splitlines():
        fenced ^= line.lstrip().startswith(("```", "~~~"))
        lines.append(f"##{line}" if line.startswith("#") and not fenced else line)
    return "\n".join(lines)
