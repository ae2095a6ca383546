"""The address of a drive's page on a site: the one function that makes them, and the check for it.

A shelf or an archive may come from another person. An address from there is used as the name of a
file and as a link, so `is_address` accepts nothing that `new_address` would not produce.
"""

from __future__ import annotations

from collections.abc import Collection

from jovik.base.terminal_text import file_name

RESERVED = frozenset(("index", "compare", "feed", "sitemap", "site"))
"""Names of a site's other files. Those of its classes begin with `CLASS_PREFIX`."""
CLASS_PREFIX = "class-"
MAX_LETTERS = 70


def is_address(text: object) -> bool:
    """Return True if `new_address` can produce this."""
    return (
        isinstance(text, str)
        and file_name(text, MAX_LETTERS) == text
        and text not in RESERVED
        and not text.startswith(CLASS_PREFIX)
    )


def new_address(drive: str, taken: Collection[str]) -> str:
    """Return an address for a drive of this name that is not among those `taken`."""
    plain = file_name(drive)
    if plain.startswith(CLASS_PREFIX):
        plain = f"drive-{plain}"
    names = (plain, *(f"{plain}-{n}" for n in range(2, len(taken) + len(RESERVED) + 3)))
    return next(n for n in names if n not in taken and n not in RESERVED)
