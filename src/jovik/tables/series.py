"""The series of a run as CSV and as Parquet."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import fields

from jovik.base.errors import MissingPackageError
from jovik.base.installation import to_add
from jovik.queries.series import Slice

COLUMNS = tuple(f.name for f in fields(Slice))


def as_csv(rows: Iterable[Slice]) -> Iterator[str]:
    """Yield lines of CSV, header first. Unknown values are empty.

    Phrases are Jovik's own words, and no cell of them is a formula.
    """
    yield ",".join(COLUMNS) + "\n"
    for row in rows:
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerow([getattr(row, c) for c in COLUMNS])
        yield out.getvalue()


def as_parquet(rows: Iterable[Slice]) -> bytes:
    """Return a Parquet file with the same columns. `time` is a time stamp in UTC.

    Raises
    ------
    MissingPackageError
        The package that writes it is not installed.
    """
    try:
        import pyarrow as pa
        from pyarrow import parquet
    except ImportError:
        raise MissingPackageError(
            "writing Parquet needs the package pyarrow", to_add("parquet")
        ) from None
    every = list(rows)
    columns = {c: [getattr(row, c) for row in every] for c in COLUMNS}
    types = {
        "phrase": pa.string(),
        "time": pa.string(),
        "second": pa.float64(),
        "latency_mean_ns": pa.float64(),
        "temperature_c": pa.float64(),
    }
    schema = pa.schema([(c, types.get(c, pa.int64())) for c in COLUMNS])
    table = pa.table(columns, schema=schema)
    moment = table["time"].cast(pa.timestamp("ms", tz="UTC"))
    at = COLUMNS.index("time")
    out = io.BytesIO()
    parquet.write_table(table.set_column(at, "time", moment), out)
    return out.getvalue()
