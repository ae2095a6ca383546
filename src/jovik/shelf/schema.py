"""The shelf's tables.

A change here needs a revision under `migrations/`, and its number as `jovik.shelf.place.REVISION`.

A test holds the two against each other.
"""

from __future__ import annotations

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    UniqueConstraint,
    false,
)

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "fk": "fk_%(table_name)s_%(column_0_N_name)s",
        "pk": "pk_%(table_name)s",
    }
)

drive = Table(
    "drive",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("folded_name", String, nullable=False, unique=True),  # names differ by more than case
    Column("maker", String, nullable=False),
    Column("model", String, nullable=False),
    Column("capacity_bytes", BigInteger),
    Column("interface", String, nullable=False),
    Column("medium", String, nullable=False),
    Column("price", Float),
    Column("currency", String, nullable=False),
    Column("warranty_years", Float),
    Column("endurance_bytes", BigInteger),
    Column("flash_bytes", BigInteger),  # raw flash, as the maker or a teardown tells
    Column("class_name", String),  # where the sheet names one; else it is told from the interface
    Column("address", String),  # of its page on a site, which it keeps when it is renamed
    Index(None, "address", unique=True),
)

claim = Table(
    "claim",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("drive_id", ForeignKey("drive.id"), nullable=False, index=True),
    Column("position", Integer, nullable=False),
    Column("random", Boolean, nullable=False),
    Column("read_percent", Integer, nullable=False),
    Column("block_bytes", BigInteger),
    Column("depth", Integer),
    Column("workers", Integer),
    Column("figure", Float, nullable=False),
    Column("unit", String, nullable=False),  # bytes/s, IOPS or ns
    Column("up_to", Boolean, nullable=False),
    Column("sustained", Boolean, nullable=False),
    Column("printed", String, nullable=False),
    Column("steady", Boolean, nullable=False, server_default=false()),
    Column("span_bytes", BigInteger),
    Column("compressible_percent", Integer),
    Column("conditions", String, nullable=False, server_default=""),
)

rig = Table(
    "rig",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False, unique=True),
    Column("facts", JSON, nullable=False),
    Column("notes", String),
)

unit = Table(
    "unit",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("drive_id", ForeignKey("drive.id"), nullable=False),
    Column("name", String, nullable=False),
    Column("serial_hash", String, nullable=False),
    Column(
        "serial_tail", String, nullable=False
    ),  # the last four characters, to tell units apart by eye
    Column("firmware", String, nullable=False),
    UniqueConstraint("drive_id", "serial_hash"),
)

run = Table(
    "run",
    metadata,
    Column("id", String, primary_key=True),
    Column("drive_id", ForeignKey("drive.id"), nullable=False, index=True),
    Column("rig_id", ForeignKey("rig.id"), nullable=False),
    Column("target", JSON, nullable=False),
    Column("plan", String, nullable=False),
    Column("seed", BigInteger, nullable=False),
    Column("options", JSON, nullable=False),
    Column("started", String, nullable=False),  # ISO 8601 UTC
    Column("ended", String),
    Column("state", String, nullable=False),  # running, done, failed, interrupted
    Column("laid_out_bytes", BigInteger, nullable=False),
    Column("version", String, nullable=False),
    Column("unit_id", ForeignKey("unit.id")),
    Column("device", JSON),
    Column("health_before", JSON),
    Column("health_after", JSON),
    Column("notes", JSON),
    Column("arrival", Integer),  # counted as runs come, whatever their clocks said
    Column("imported", String),  # the archive that it came in, null where it was measured here
    Column("excluded", String),  # why it counts for nothing, null where it counts
    Column("circumstances", JSON),  # what on the machine could slow it down
)

step = Table(
    "step",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run_id", ForeignKey("run.id"), nullable=False),
    Column("position", Integer, nullable=False),
    Column("phrase", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("conditions", JSON, nullable=False),
    Column("limits", JSON, nullable=False),
    Column("notes", JSON, nullable=False),
    Column("started", String, nullable=False),
    Column("facts", JSON),  # what only some sorts of step tell: a cliff, a surface, a copy
    Column("finished", Boolean),  # null in shelves from before there was anything to resume
    Column("excluded", String),  # as of a run
    UniqueConstraint("run_id", "position"),
    Index(None, "kind"),
)

one_pass = Table(
    "pass",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("step_id", ForeignKey("step.id"), nullable=False),
    Column("number", Integer, nullable=False),
    Column("finished", String, nullable=False),
    Column("seed", BigInteger, nullable=False),
    Column("rate_bytes_s", Float, nullable=False),
    Column("flushed_rate_bytes_s", Float, nullable=False),
    Column("iops", Float, nullable=False),
    Column("read_bytes", BigInteger, nullable=False),
    Column("written_bytes", BigInteger, nullable=False),
    Column("elapsed_ns", BigInteger, nullable=False),
    Column("flush_ns", BigInteger, nullable=False),
    Column("cpu_ns", BigInteger, nullable=False),
    Column("errors", BigInteger, nullable=False),
    Column("first_fault", JSON),
    Column("slices", LargeBinary, nullable=False),  # see shelf/encoding.py
    Column("latencies", LargeBinary, nullable=False),
    Column("environment", JSON),
    Column("facts", JSON),
    Column("late_written_bytes", BigInteger),
    UniqueConstraint("step_id", "number"),
)

note = Table(
    "note",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("drive_id", ForeignKey("drive.id"), nullable=False, index=True),
    Column("sort", String, nullable=False),  # pro, con or remark
    Column("text", String, nullable=False),
    Column("written", String, nullable=False),
    Column("happened", String),  # the day or the moment of an event, ISO 8601
    Column("run", String),  # the run that it is about
)

reading = Table(
    "reading",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("drive_id", ForeignKey("drive.id"), nullable=False, index=True),
    Column("what", String, nullable=False),
    Column("value", Float, nullable=False),
    Column("unit", String, nullable=False),  # s, bytes/s, IOPS, or as it was written
    Column("method", String, nullable=False),
    Column("instrument", String, nullable=False),
    Column("phrase", String),  # the step whose quantity it is, where it is one
    Column("written", String, nullable=False),
)

instrument_log = Table(
    "instrument_log",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("drive_id", ForeignKey("drive.id"), nullable=False, index=True),
    Column("run", String, nullable=False),  # the run that it was taken beside
    Column("quantity", String, nullable=False),
    Column("unit", String, nullable=False),
    Column("seconds", JSON, nullable=False),  # since the first pass of the run began
    Column("readings", JSON, nullable=False),  # what the instrument showed at each of them
    Column("written", String, nullable=False),
    Column("method", String, nullable=False, server_default=""),
    Column("instrument", String, nullable=False, server_default=""),
)

recording = Table(
    "recording",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("folded_name", String, nullable=False, unique=True),
    Column("digest", String, nullable=False),
    Column("head", JSON, nullable=False),  # as in the file of a recording
    Column("requests", LargeBinary, nullable=False),  # its table of requests, packed by zlib
    Column("written", String, nullable=False),
)

change = Table(
    "change",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("made", String, nullable=False),  # ISO 8601 UTC
    Column("subject", String, nullable=False),  # the drive or the run, as it was called then
    Column("what", String, nullable=False),
    Column("before", String),  # null where there was nothing
    Column("after", String),  # null where nothing is left
)
