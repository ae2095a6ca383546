"""Foreign strings as text and nothing else.

For terminals, pictures, pages, spreadsheets and file names.
"""

from __future__ import annotations

import csv
import io
import json
import re
import unicodedata
from collections.abc import Iterable, Sequence
from typing import Any

CONTROL_CATEGORIES = ("Cc", "Cf", "Cs", "Zl", "Zp")
"""Unicode categories that a terminal or a renderer would obey.

Control and format characters, escapes, direction marks, line separators.
"""
FORMULA_STARTS = ("=", "+", "-", "@", "\t", "\r")
"""Beginnings that make a spreadsheet interpret text as a formula."""


def strip_control(text: str, keep: str = "") -> str:
    """Return a foreign string with control characters replaced, except those to keep."""
    return "".join(
        c
        if c in keep or unicodedata.category(c) not in CONTROL_CATEGORIES
        else "\N{REPLACEMENT CHARACTER}"
        for c in text
    )


RIGHT_TO_LEFT = ("R", "AL")
"""Classes of letters in the Unicode Bidirectional Algorithm (UAX #9)."""


def isolated(text: str) -> str:
    """Return a foreign string as on a page: one that begins with letters from right to left apart.

    Its digits and Latin letters would otherwise be drawn among the words around it.
    """
    plain = strip_control(text)
    letters = (unicodedata.bidirectional(c) for c in plain)
    if next((x for x in letters if x in ("L", *RIGHT_TO_LEFT)), "L") == "L":
        return plain
    return f"\N{FIRST STRONG ISOLATE}{plain}\N{POP DIRECTIONAL ISOLATE}"


def escape_control(text: str, keep: str = "") -> str:
    r"""Return JSON text with control characters as ``\uXXXX``, which means the same there."""
    return "".join(
        c if c in keep or unicodedata.category(c) not in CONTROL_CATEGORIES else json.dumps(c)[1:-1]
        for c in text
    )


def csv_text(header: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    """CSV with a header.

    Text that a spreadsheet would take for a formula is led by an apostrophe, None is empty.
    """
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    writer.writerows([_cell(v) for v in row] for row in rows)
    return out.getvalue()


def _cell(value: Any) -> Any:
    if isinstance(value, str):
        value = strip_control(value)
        return "'" + value if value.startswith(FORMULA_STARTS) else value
    return "" if value is None else value


def file_name(text: str, most: int = 60) -> str:
    """Return a name for a file or a folder from a foreign string.

    Letters, digits and single hyphens, never a path, never empty.
    """
    folded = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "-", folded.casefold()).strip("-")[:most].strip("-") or "unnamed"
