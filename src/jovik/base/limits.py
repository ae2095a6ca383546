"""The limits on everything that Jovik reads and did not write: bytes, lines, cells, elements.

A compressed file of a kilobyte can stand for gigabytes, so each limit is checked before the memory
is taken. `tests/test_hostile_files.py` reads a hostile file of every kind in 512 MB.
"""

from __future__ import annotations

import re
import sys

# Text

TEXT_BYTES = 16_000_000
"""Bytes of a table. A longer file was named by mistake."""
TOML_BYTES = 1_000_000
"""A sheet, plan, load, model drive or mapping: written by hand."""
REVIEW_BYTES = 250_000
"""A reviewer's text: 40,000 words."""
REVIEW_MARKS = 50_000
"""Brackets and other marks of Markdown in it: an open bracket takes 30 microseconds."""
LINE_LETTERS = 100_000
"""A line of a table."""
LOG_LINES = 1_000_000
"""An instrument log: a day of ten values a second has 864,000."""
READINGS = 10_000
"""Readings in one table."""
LARGEST_READING = 1e15
"""The absolute value of a reading: larger ones overflow when their squares are added."""

# Workbooks

WORKBOOK_BYTES = 16_000_000
"""All parts of a workbook, unpacked."""
WORKBOOK_TAGS = 2_000_000
"""Opening and closing tags in all parts of a workbook: each element takes up to 200 bytes."""
WORKBOOK_ROWS = LOG_LINES
WORKBOOK_COLUMNS = 1_000

# Model drives

MODEL_PASS_NS = 72 * 3600 * 10**9
"""A pass on a virtual clock: filling a disk of 24 TB takes 33 h, and each slice takes memory."""

# JSON

JSON_MEMORY_BYTES = 300_000_000
"""A document once it is read (`json_memory`). Three days of eight sensors take 260 MB."""
DISTINCT_KEYS = 1_000_000
"""Different keys of a document: the manifest of a large archive has half as many."""
MANY_KEYS = 100_000
"""Fewer are not looked at one by one."""
JSON_DEPTH = 20
"""How deep a record is nested. Those that Jovik writes have 6 levels."""

# Recordings

RECORDING_HEAD_BYTES = 20_000_000
RECORDING_ROWS = 20_000_000
"""Requests of a recording of any size."""
RECORDING_ROWS_FREE = 2_000_000
"""Requests of a recording in a small file."""
PACKED_BYTES_PER_ROW = 2
"""A larger file may hold one request for this many bytes: recordings take about 12."""
RECORDING_LINE_BYTES = 150
RECORDING_WORDS, RECORDING_FILES = 1_000, 100_000
"""Names that a recording keeps."""
KEPT_RECORDING_BYTES = 60_000_000
"""The table of requests of a recording on the shelf, so that an archive holds it as one file."""

# Shelves and archives

PASS_ARRAY_BYTES = 200_000_000
"""The arrays of one pass: a day of slices takes 35 MB, `MODEL_PASS_NS` 104 MB."""
ARCHIVE_FILES = 2_000_000
ARCHIVE_DIRECTORY_BYTES = 200_000_000
"""The list of files at the end of the zip."""
ARCHIVE_FILE_BYTES = 64_000_000
"""One file of an archive, unpacked."""
TWINS, TWIN_LETTERS = 10_000, 100_000
"""Twins in an archive, and letters in the file of each; a real one has 3,000."""
ARCHIVE_BYTES = 8_000_000_000
"""Bytes of all unpacked files of an archive."""
ARCHIVE_BYTES_FREE = 500_000_000
"""All files of a small archive, unpacked."""
ARCHIVE_RATIO = 100
"""A larger archive may unpack to this many times its size: exports take a tenth."""
ARCHIVE_SERIES_LINES = 4_000_000
"""Lines of a series: a day of slices has 864,000, `MODEL_PASS_NS` 2.6 million."""
ARCHIVE_HISTOGRAM_LINES = 100_000


_KEY = re.compile(r'"([^"]*)"\s*:')


def json_memory(text: str | bytes) -> int:
    """Return an upper bound on the memory of a JSON document once it is read, bytes.

    In CPython 3.11 an object of up to five keys takes 184 bytes, each further key about 30, a list
    56 to 88, a number 24 and a short string 50 beside the 8 of its place. A key that repeats is
    kept once; a new one takes its letters and a place in two tables, about 220.
    """
    letters = text if isinstance(text, str) else text.decode("utf-8", "replace")
    colons = letters.count(":")
    # Its strings hold the letters once more, which matters where each takes two or four bytes.
    total = sys.getsizeof(letters) * (1 if letters.isascii() else 2)
    total += 192 * letters.count("{") + 96 * letters.count("[")
    total += 32 * letters.count(",") + 30 * colons
    total += 30 * max(letters.count('"') // 2 - colons, 0)
    if total > JSON_MEMORY_BYTES or colons < MANY_KEYS:
        return total + 220 * min(colons, MANY_KEYS)
    keys: set[str] = set()
    for key in _KEY.finditer(letters):
        keys.add(key[1])
        if len(keys) > DISTINCT_KEYS:
            return JSON_MEMORY_BYTES + 1
    return total + 220 * len(keys)


def recording_rows(packed_bytes: int) -> int:
    """Return how many requests a recording in a file of this size may hold."""
    return min(max(RECORDING_ROWS_FREE, packed_bytes // PACKED_BYTES_PER_ROW), RECORDING_ROWS)


def archive_bytes(packed_bytes: int) -> int:
    """Return how many bytes the files of an archive of this size may unpack to."""
    return min(max(ARCHIVE_BYTES_FREE, packed_bytes * ARCHIVE_RATIO), ARCHIVE_BYTES)
