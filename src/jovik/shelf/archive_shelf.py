"""An archive as a shelf that is only read, without importing it."""

from __future__ import annotations

from pathlib import Path

from jovik.base import limits
from jovik.shelf.place import is_archive


def archive_content(path: Path) -> bytes:
    """Return the database of a shelf with all that an archive holds, as its file would be.

    Raises
    ------
    UsageError
        It is no archive of a shelf or of twins, or a file of it is damaged.
    """
    from jovik.shelf.archive import TWINS_FORMAT
    from jovik.shelf.archive_reader import Archive
    from jovik.shelf.engines import fresh_engine, serialized
    from jovik.shelf.merge import merge

    archive = Archive(path, twins=True)
    fresh = fresh_engine()
    if archive.format != TWINS_FORMAT:
        merge(fresh, archive)
    return serialized(fresh)


def twin_files(where: str) -> dict[str, str]:
    """Return the files of an archive of twins by name, and none of anything else.

    Raises
    ------
    UsageError
        A file of it is missing or damaged.
    """
    path = Path(where)
    if not is_archive(path):
        return {}
    from jovik.shelf.archive import TWINS_FORMAT
    from jovik.shelf.archive_reader import Archive

    archive = Archive(path, twins=True)
    if archive.format != TWINS_FORMAT:
        return {}
    files = {name: archive.text(name) for name in sorted(archive.sums)[: limits.TWINS + 1]}
    if len(files) > limits.TWINS or any(len(x) > limits.TWIN_LETTERS for x in files.values()):
        raise archive.wrong("it holds more than any archive of twins")
    return files
