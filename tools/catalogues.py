"""Make the catalogues that Jovik reads from the translators' files, when a wheel is built.

A language is a file of GNU gettext, which translators have tools for. Babel reads it and knows how
the language writes numbers (CLDR); so neither has to be installed to publish a page.

``python tools/catalogues.py`` makes those of a source tree anew.
"""

from __future__ import annotations

import json
from pathlib import Path

from babel import Locale
from babel.messages.pofile import read_po
from babel.numbers import format_decimal

LANGUAGES = Path(__file__).parents[1] / "src" / "jovik" / "report" / "languages"


def build(source: Path) -> Path:
    """Write the catalogue of a translator's file beside it, and return its place.

    Raises
    ------
    babel.messages.pofile.PoFileError
        The file is none.
    """
    language = source.stem
    with source.open("rb") as file:
        entries = read_po(file, locale=language, abort_invalid=True)
    group, decimal = (c for c in format_decimal(1234.5, locale=language) if not c.isdigit())
    catalogue = {
        "language": language,
        "name": Locale.parse(language).get_display_name(),
        "decimal": decimal,
        "group": group,
        "messages": {m.id: m.string for m in entries if m.id and m.string},
    }
    place = source.with_suffix(".json")
    place.write_text(json.dumps(catalogue, ensure_ascii=False, indent=0), encoding="utf-8")
    return place


def build_all() -> list[Path]:
    """Write the catalogue of every language, and return their places."""
    return [build(source) for source in sorted(LANGUAGES.glob("*.po"))]


if __name__ == "__main__":
    build_all()
