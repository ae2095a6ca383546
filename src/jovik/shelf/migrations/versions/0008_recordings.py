"""Recordings as named loads, and what instruments logged beside runs."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.create_table(
        "instrument_log",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("drive_id", sa.Integer(), nullable=False),
        sa.Column("run", sa.String(), nullable=False),
        sa.Column("quantity", sa.String(), nullable=False),
        sa.Column("unit", sa.String(), nullable=False),
        sa.Column("seconds", sa.JSON(), nullable=False),
        sa.Column("readings", sa.JSON(), nullable=False),
        sa.Column("written", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["drive_id"], ["drive.id"], name=op.f("fk_instrument_log_drive_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_instrument_log")),
    )
    op.create_index(op.f("ix_instrument_log_drive_id"), "instrument_log", ["drive_id"])
    op.create_table(
        "recording",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("folded_name", sa.String(), nullable=False),
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("head", sa.JSON(), nullable=False),
        sa.Column("requests", sa.LargeBinary(), nullable=False),
        sa.Column("written", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_recording")),
        sa.UniqueConstraint("folded_name", name=op.f("uq_recording_folded_name")),
    )
